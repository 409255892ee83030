//! Why a step is in a plan, in words, with the two values that differ.

use std::time::Duration;

use utter_echo_core::aspect::{Aspect, Aspects};
use utter_echo_core::os::{Kind, Time};
use utter_echo_core::plan::{PlacedStep, Reason, Remark, State, Step, Verb};

use super::{names, units};

/// The word for what a step does.
pub(crate) fn verb(verb: Verb) -> &'static str {
    match verb {
        Verb::Add => "add",
        Verb::Replace => "replace",
        Verb::Retouch => "retouch",
        Verb::Remove => "remove",
    }
}

/// The word for what an entry is.
pub(crate) fn kind(kind: Kind) -> &'static str {
    match kind {
        Kind::File => "file",
        Kind::Folder => "folder",
        Kind::Link => "link",
        Kind::Fifo => "fifo",
        Kind::Socket => "socket",
        Kind::CharDevice | Kind::BlockDevice => "device",
    }
}

/// The reason for a step. Where two values are told, the destination's comes first and the one it
/// gets, the source's, second.
pub(crate) fn reason(placed: &PlacedStep<'_>) -> String {
    let step = placed.step;
    let leader = placed.linked_to.as_ref().map(|path| names::shown(path.as_bytes()));
    match (step.reason, leader) {
        (Reason::New, Some(leader)) => format!("new, hard link of {leader}"),
        (_, Some(leader)) => format!("becomes a hard link of {leader}"),
        (Reason::New, None) => match step.kind() {
            Kind::File => "new".to_owned(),
            other => format!("new {}", kind(other)),
        },
        (reason, None) => both_sides(step, reason),
    }
}

fn both_sides(step: &Step, reason: Reason) -> String {
    match (reason, &step.source, &step.destination) {
        (Reason::Kind, Some(source), Some(destination)) => {
            format!("{} → {}", kind(destination.kind), kind(source.kind))
        }
        (Reason::Stamp, Some(source), Some(destination)) => stamp(source, destination),
        (Reason::Content { offset }, ..) => {
            format!("same size, content differs from byte {}", units::count(offset))
        }
        (Reason::Reference, Some(source), _) if source.kind == Kind::Link => {
            "leads elsewhere".to_owned()
        }
        (Reason::Reference, ..) => "another device number".to_owned(),
        (Reason::Apart, ..) => "shared with another name, which the source does not".to_owned(),
        (Reason::Aspects, Some(source), Some(destination)) => {
            aspects(step.aspects, source, destination)
        }
        (Reason::Extra, ..) => "not in the source".to_owned(),
        (Reason::Leftover, ..) => "left by an interrupted run".to_owned(),
        // A plan never holds these without the sides they speak of.
        (Reason::New | Reason::Kind | Reason::Stamp | Reason::Linked | Reason::Aspects, ..) => {
            String::new()
        }
    }
}

/// "newer by 3 d, 1.2 KiB longer"
fn stamp(source: &State, destination: &State) -> String {
    let time = time_difference(source.modified(), destination.modified());
    let length = match source.size.cmp(&destination.size) {
        std::cmp::Ordering::Greater => {
            Some(format!("{} longer", units::bytes(source.size - destination.size)))
        }
        std::cmp::Ordering::Less => {
            Some(format!("{} shorter", units::bytes(destination.size - source.size)))
        }
        std::cmp::Ordering::Equal => None,
    };
    match (time, length) {
        (Some(time), Some(length)) => format!("{time}, {length}"),
        (Some(time), None) => format!("{time}, same size"),
        (None, Some(length)) => format!("{length}, same time"),
        (None, None) => "older than its source".to_owned(),
    }
}

/// The source's time seen from the destination's; `None` if they agree.
fn time_difference(source: Time, destination: Time) -> Option<String> {
    let nanos = |time: Time| i128::from(time.secs) * 1_000_000_000 + i128::from(time.nanos);
    let difference = nanos(source) - nanos(destination);
    if difference == 0 {
        return None;
    }
    let length = u64::try_from(difference.unsigned_abs() / 1_000_000_000).unwrap_or(u64::MAX);
    let nanos = u32::try_from(difference.unsigned_abs() % 1_000_000_000).unwrap_or(0);
    let span = units::span(Duration::new(length, nanos));
    Some(format!("{} by {span}", if difference > 0 { "newer" } else { "older" }))
}

fn aspects(differing: Aspects, source: &State, destination: &State) -> String {
    let told = differing.iter().map(|aspect| match aspect {
        Aspect::Times => {
            let difference = time_difference(source.modified(), destination.modified());
            format!("time {}", difference.unwrap_or_default())
        }
        Aspect::Mode => format!("mode {:o} → {:o}", destination.mode(), source.mode()),
        Aspect::Owner => {
            format!("owner {}:{} → {}:{}", destination.uid, destination.gid, source.uid, source.gid)
        }
        Aspect::Acl => "access list".to_owned(),
        Aspect::Xattr => "extended attributes".to_owned(),
        Aspect::Content | Aspect::Hardlinks | Aspect::Holes => aspect.name().to_owned(),
    });
    told.collect::<Vec<_>>().join(", ")
}

/// Something worth knowing, as a sentence.
pub(crate) fn remark(remark: &Remark) -> String {
    match remark {
        Remark::Mount(path) => {
            format!(
                "{} is on another drive, mounted there; it is taken along",
                names::shown(path.as_bytes())
            )
        }
        Remark::MissingFolders(path) => format!("the folders on the way to {path} are made"),
        Remark::OwnerNotCarried => {
            "owners are not carried: only a privileged user may give files to others".to_owned()
        }
        Remark::XattrNotCarried => {
            "extended attributes are not carried: the destination's drive does not hold them"
                .to_owned()
        }
        Remark::AclNotCarried => {
            "access lists are not carried: the destination's drive does not hold them".to_owned()
        }
        Remark::IdlePattern(option, pattern) => {
            format!("{option} '{pattern}' matched nothing")
        }
    }
}

/// A stable word for a remark, for programs.
pub(crate) fn remark_id(remark: &Remark) -> &'static str {
    match remark {
        Remark::Mount(_) => "mount",
        Remark::MissingFolders(_) => "missing-folders",
        Remark::OwnerNotCarried => "owner-not-carried",
        Remark::XattrNotCarried => "xattr-not-carried",
        Remark::AclNotCarried => "acl-not-carried",
        Remark::IdlePattern(..) => "idle-pattern",
    }
}
