//! The wording of reasons, attributes and notes.

use std::time::Duration;

use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::drives::Feature;
use utter_echo_core::os::{Flags, Kind, Time};
use utter_echo_core::path::TreePath;
use utter_echo_core::plan::{
    Nested, NotHeld, Note, PlacedStep, Reason, State, Step, Undoes, WhyRootStays,
};
use utter_echo_core::problem::Operation;

use crate::report::events::EntryType;
use crate::terminal::{names, units};

/// The word for what an entry is.
fn kind(kind: Kind) -> &'static str {
    EntryType::from(kind).word()
}

/// The operation that failed, before its cause.
pub(super) fn operation(id: &str) -> Option<&'static str> {
    Operation::of_id(id).map(Operation::words)
}

/// Capabilities of drives: the stable word for programs, and the words for people.
pub(super) const ABILITIES: [(&str, &str); 12] = [
    ("links", "links"),
    ("hardlinks", "hard links"),
    ("fifos", "FIFOs and sockets"),
    ("devices", "devices"),
    ("mode", "modes"),
    ("owner", "owners"),
    ("acl", "access lists"),
    ("user-xattr", "extended attributes"),
    ("trusted-xattr", "trusted attributes"),
    ("security-xattr", "security attributes"),
    ("holes", "holes"),
    ("shared_extents", "shared content"),
];

/// The stable word for a capability; `None` for one that is not shown.
pub(super) fn ability(ability: Feature) -> Option<&'static str> {
    Some(match ability {
        Feature::Links => "links",
        Feature::Hardlinks => "hardlinks",
        Feature::Fifos => "fifos",
        Feature::Devices => "devices",
        Feature::Modes => "mode",
        Feature::Owners => "owner",
        Feature::Acl => "acl",
        Feature::UserXattrs => "user-xattr",
        Feature::TrustedXattrs => "trusted-xattr",
        Feature::SecurityXattrs => "security-xattr",
        Feature::Holes => "holes",
        Feature::Sharing => "shared_extents",
        _ => return None,
    })
}

/// A capability, or the flags, in words.
pub(super) fn ability_in_words(id: &str) -> &str {
    ABILITIES.iter().find(|(known, _)| *known == id).map_or(id, |(_, words)| words)
}

/// What the two sides of a plan are called. An undo calls them as the run did that it undoes.
struct SideNames {
    source: &'static str,
    in_source: &'static str,
    in_destination: &'static str,
}

impl SideNames {
    fn of(undoes: Undoes) -> Self {
        let (source, in_source, in_destination) = match undoes {
            Undoes::Nothing => ("source", "in the source", "in the destination"),
            Undoes::Move => ("destination", "in the destination", "in the source"),
            Undoes::Run => ("state before that run", "before that run", "after that run"),
        };
        Self { source, in_source, in_destination }
    }
}

/// The reason for a step. Of two values, the destination's comes first and the source's second.
pub(crate) fn reason(placed: &PlacedStep<'_>) -> String {
    let (step, sides) = (placed.step, SideNames::of(placed.undoes));
    if let Some(named) = &placed.named {
        return format!("was {} {}", names::shown(named), sides.in_source);
    }
    if let Some(was) = &placed.was {
        let was = format!("was {}", names::shown(was.as_bytes()));
        return match (step.attributes.is_empty(), &step.source, &step.destination) {
            (false, Some(source), Some(there)) => {
                format!("{was}, {}", attributes(step.attributes, source, there, &sides))
            }
            _ => was,
        };
    }
    let leader = placed.linked_to.as_ref().map(|path| names::shown(path.as_bytes()));
    match (step.reason, leader) {
        (Reason::New, Some(leader)) => format!("new, hard link of {leader}"),
        (_, Some(leader)) => {
            format!("separate file, hard link of {leader} {}", sides.in_source)
        }
        (Reason::New, None) => match step.kind() {
            Kind::File => "new".to_owned(),
            other => format!("new {}", kind(other)),
        },
        (reason, None) => both_sides(step, reason, &sides),
    }
}

fn both_sides(step: &Step, reason: Reason, sides: &SideNames) -> String {
    match (reason, &step.source, &step.destination) {
        (Reason::Kind, Some(source), Some(destination)) => {
            format!("{} → {}", kind(destination.kind), kind(source.kind))
        }
        (Reason::SizeTime, Some(source), Some(destination)) => {
            size_time(source, destination, sides)
        }
        (Reason::Content { offset }, ..) => {
            format!("same size, content differs from byte {}", units::count(offset))
        }
        (Reason::Reference, Some(source), _) if source.kind == Kind::Symlink => {
            "link target differs".to_owned()
        }
        (Reason::Reference, ..) => "device number differs".to_owned(),
        (Reason::Apart, ..) => format!("hard link here, separate file {}", sides.in_source),
        (Reason::Attributes, Some(source), Some(destination)) => {
            attributes(step.attributes, source, destination, sides)
        }
        (Reason::Extra, ..) => format!("not {}", sides.in_source),
        (Reason::Leftover, ..) => "left by an interrupted run".to_owned(),
        (Reason::Moved, ..) => "moved".to_owned(),
        (Reason::Unselected, ..) => "left out by the selection".to_owned(),
        (Reason::Made, ..) => "added by that run".to_owned(),
        (Reason::Before, ..) => "as it was before that run".to_owned(),
        (Reason::TakenOver, ..) => match step.kind() {
            Kind::Folder => "moved here, with everything in it".to_owned(),
            _ => "moved here".to_owned(),
        },
        (Reason::Arrives, ..) => {
            format!("removed from the {} after verification", sides.source)
        }
        (Reason::Arrived, ..) => match step.kind() {
            Kind::Folder => "removed once it is empty".to_owned(),
            _ => format!("already {}", sides.in_destination),
        },
        // Plans never hold these without both sides.
        (
            Reason::New | Reason::Kind | Reason::SizeTime | Reason::Linked | Reason::Attributes,
            ..,
        ) => String::new(),
    }
}

/// "source newer by 3 d, 1.2 KiB longer"
fn size_time(source: &State, destination: &State, sides: &SideNames) -> String {
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
        (Some(time), Some(length)) => format!("{} {time}, {length}", sides.source),
        (Some(time), None) => format!("{} {time}, same size", sides.source),
        (None, Some(length)) => format!("{length}, same time"),
        (None, None) => "older than the source".to_owned(),
    }
}

/// The source's time relative to the destination's; `None` if equal.
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

fn attributes(
    differing: Attributes,
    source: &State,
    destination: &State,
    sides: &SideNames,
) -> String {
    let told = differing.iter().map(|attribute| match attribute {
        Attribute::Times => time_difference(source.modified(), destination.modified())
            .map_or("time".to_owned(), |difference| format!("{} {difference}", sides.source)),
        Attribute::Mode => format!("mode {:o} → {:o}", destination.mode(), source.mode()),
        Attribute::Owner => {
            format!("owner {}:{} → {}:{}", destination.uid, destination.gid, source.uid, source.gid)
        }
        Attribute::Acl => "access list".to_owned(),
        Attribute::Xattr => "extended attributes".to_owned(),
        Attribute::Flags => flags(source, destination, sides),
        Attribute::Atime => "access time".to_owned(),
        Attribute::Content | Attribute::Hardlinks | Attribute::Holes => attribute.name().to_owned(),
    });
    told.collect::<Vec<_>>().join(", ")
}

/// The flags that differ.
fn flags(source: &State, destination: &State, sides: &SideNames) -> String {
    let SideNames { in_source, in_destination, .. } = sides;
    let (source, destination) = (source.flags(), destination.flags());
    let named = |flags: Flags| flags.names().collect::<Vec<_>>();
    let (set, lifted) = (named(source.without(destination)), named(destination.without(source)));
    match (set.is_empty(), lifted.is_empty()) {
        (true, true) => "flags".to_owned(),
        (false, true) => format!("flags {} only {in_source}", listed(&set, "and")),
        (true, false) => format!("flags {} only {in_destination}", listed(&lifted, "and")),
        (false, false) => {
            let (set, lifted) = (listed(&set, "and"), listed(&lifted, "and"));
            format!("flags {set} only {in_source}, {lifted} only {in_destination}")
        }
    }
}

/// How many newer files a plan replaces.
pub(crate) fn newer_replaced(count: u64) -> String {
    let files = units::counted(count, "file", "files");
    let (are, theirs) = if count == 1 { ("is", "it is") } else { ("are", "they are") };
    format!(
        "{files} in the destination {are} newer than in the source, and {theirs} replaced; --leave-newer leaves newer files alone"
    )
}

/// A note as a sentence.
pub(crate) fn note(note: &Note) -> String {
    match note {
        Note::Mount(path) => {
            format!(
                "{} is another drive mounted in the source; it is included",
                names::shown(path.as_bytes())
            )
        }
        Note::Nested(Nested { source_path, destination_path, folder }) => format!(
            "{destination_path} has little in common with {source_path}, but {folder} has much; did you mean that as the destination?"
        ),
        Note::MissingFolders(path) => {
            format!("creating missing parent folders of {path}")
        }
        Note::OwnerNotCarried => {
            "owners are not copied: only root can give files to other users".to_owned()
        }
        Note::ReadFromMemory(files) => format!(
            "{} were read from the cache, not from the drive: they are in use, on a file system in memory, or on a device that only root may read",
            units::counted(*files, "file", "files")
        ),
        Note::OwnLeftOut(path) => {
            let path = names::shown(path.as_bytes());
            format!("{path} is left out: utter itself writes there during the run")
        }
        Note::MountLeftOut(path) => {
            format!(
                "{} is another drive mounted in the source; it is left out",
                names::shown(path.as_bytes())
            )
        }
        Note::UnfinishedSource(path) => {
            let path =
                if path.as_bytes().is_empty() { "it" } else { &names::shown(path.as_bytes()) };
            format!(
                "the source is incomplete: a run that wrote to {path} was cut short; run that command again first"
            )
        }
        Note::DriveWrittenTo(path) => format!(
            "{} is another drive mounted in the destination; it is included",
            names::shown(path.as_bytes())
        ),
        Note::DriveLeftAlone(path) => format!(
            "{} is another drive mounted in the destination; it is left alone, since the \
             source has nothing there",
            names::shown(path.as_bytes())
        ),
        Note::OfTheDrive(path) => {
            format!(
                "{} belongs to the file system and is left alone",
                names::shown(path.as_bytes())
            )
        }
        Note::PrivilegesLeftOut(count) => format!(
            "set-id bits or capabilities of {} are left out: without the original owner they would grant rights to others",
            units::entries(*count)
        ),
        Note::NotHeld(not_held) => self::not_held(not_held),
        Note::Ahead(count, span) => format!(
            "the times of {} in the destination are up to {} in the future: the clocks disagree, so times do not show which file is newer",
            units::counted(*count, "file", "files"),
            units::span(*span)
        ),
        Note::SecondFiles(count) => {
            let files = units::counted(*count, "file has", "files have");
            format!("{files} hard links that stay behind; the destination gets separate copies")
        }
        Note::RootStays(source, WhyRootStays::Mounted) => {
            format!("{} itself stays, since a drive is mounted on it", names::harmless(source))
        }
        Note::RootStays(source, WhyRootStays::WorkedIn) => {
            format!("{} itself stays, since it is your working folder", names::harmless(source))
        }
        Note::RootStays(source, WhyRootStays::Held) => {
            format!(
                "{} itself stays, since the folder that contains it cannot be changed",
                names::harmless(source)
            )
        }
        Note::EmptySource(source) => format!(
            "the source {} is empty; if a drive should be mounted there, check that it is",
            names::harmless(source)
        ),
        Note::TakenBefore(source) => {
            format!("{} was moved by the interrupted run before", names::harmless(source))
        }
        Note::NotUndoable(why) => format!(
            "this move cannot be undone with 'utter undo', since there is no place for its undo journal: {why}; --set-aside gives it one"
        ),
        Note::OldJournal => "the undo journal of that run is of an older version, which did not record what its folders are: check that they are still the same"
            .to_owned(),
        Note::GoneForGood(count) => format!(
            "replaced entries are not kept ({}), so undo cannot restore them; use --set-aside",
            units::entries(*count)
        ),
        Note::LockPassedOver { path, process } => format!(
            "process {process} has locked '{path}' or a folder above it, but may not write there: its lock is ignored"
        ),
        Note::IdlePattern(rule) => idle_pattern(rule),
    }
}

/// A pattern that matched nothing, and why, if known.
pub(super) fn idle_pattern(rule: &str) -> String {
    let shown = names::shown(rule.as_bytes());
    if !rule.contains(',') || rule.contains('{') {
        return format!("{shown} matched nothing");
    }
    format!(
        "{shown} matched nothing: a comma is part of the pattern; for several patterns give the option \
         several times, or put them in braces like '{{*.tmp,*.bak}}'"
    )
}

/// What a drive cannot store, in a short paragraph.
fn not_held(not_held: &NotHeld) -> String {
    let mut parts = Vec::new();
    let attributes: Vec<_> = not_held.attributes.iter().map(plural).collect();
    if !attributes.is_empty() {
        parts.push(format!("stores no {}", listed(&attributes, "or")));
    }
    if not_held.grain > 100 {
        parts.push(format!("stores times to {}", time_resolution(not_held.grain)));
    }
    if not_held.times > 0 {
        let entries = units::entries(not_held.times);
        parts.push(format!(
            "cannot store the times of {entries}, which are too far in the past or future"
        ));
    }
    let mut text = Vec::new();
    if !parts.is_empty() {
        let parts: Vec<_> = parts.iter().map(String::as_str).collect();
        text.push(format!("the destination's drive {}", listed(&parts, "and")));
    }
    let left_out = [
        (not_held.links, "symbolic link", "symbolic links"),
        (not_held.fifos, "FIFO or socket", "FIFOs and sockets"),
        (not_held.devices, "device", "devices"),
    ];
    let left_out = left_out.into_iter().filter(|(count, ..)| *count > 0);
    let left_out: Vec<_> =
        left_out.map(|(count, one, many)| units::counted(count, one, many)).collect();
    if !left_out.is_empty() {
        let left_out: Vec<_> = left_out.iter().map(String::as_str).collect();
        text.push(format!(
            "left out, since the drive cannot store them or this user may not create them: {}",
            listed(&left_out, "and")
        ));
    }
    if !not_held.flags.is_empty() {
        let flags: Vec<_> = not_held.flags.names().collect();
        text.push(format!("flags that this user cannot set there: {}", listed(&flags, "and")));
    }
    text.join("; ")
}

/// A unit of time: "2 s", "100 ns".
pub(crate) fn time_resolution(nanos: u64) -> String {
    const UNITS: [(u64, &str); 4] =
        [(1_000_000_000, "s"), (1_000_000, "ms"), (1000, "µs"), (1, "ns")];
    let (size, unit) = UNITS.into_iter().find(|(size, _)| nanos >= *size).unwrap_or((1, "ns"));
    format!("{} {unit}", nanos / size)
}

fn plural(attribute: Attribute) -> &'static str {
    match attribute {
        Attribute::Mode => "modes",
        Attribute::Owner => "owners",
        Attribute::Acl => "access lists",
        Attribute::Xattr => "extended attributes",
        Attribute::Hardlinks => "hard links",
        Attribute::Atime => "access times",
        Attribute::Content | Attribute::Times | Attribute::Flags | Attribute::Holes => {
            attribute.name()
        }
    }
}

/// "a, b and c".
fn listed(words: &[&str], last: &str) -> String {
    match words {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [first @ .., end] => format!("{} {last} {end}", first.join(", ")),
    }
}

/// The folder of a note.
pub(super) fn note_path(note: &Note) -> Option<&TreePath> {
    match note {
        Note::Mount(path)
        | Note::MountLeftOut(path)
        | Note::OwnLeftOut(path)
        | Note::UnfinishedSource(path)
        | Note::DriveWrittenTo(path)
        | Note::DriveLeftAlone(path)
        | Note::OfTheDrive(path) => Some(path),
        _ => None,
    }
}

/// A stable word for a note, for programs.
pub(crate) fn note_id(note: &Note) -> &'static str {
    match note {
        Note::Mount(_) => "mount-included",
        Note::Nested(_) => "nested",
        Note::MissingFolders(_) => "missing-folders",
        Note::OwnerNotCarried => "owner-not-carried",
        Note::MountLeftOut(_) => "mount-left-out",
        Note::OwnLeftOut(_) => "utter-own-files",
        Note::ReadFromMemory(_) => "read-from-memory",
        Note::Ahead(..) => "times-in-future",
        Note::UnfinishedSource(_) => "unfinished-source",
        Note::DriveWrittenTo(_) => "drive-written-to",
        Note::DriveLeftAlone(_) => "drive-left-alone",
        Note::OfTheDrive(_) => "drive-own-files",
        Note::PrivilegesLeftOut(_) => "privileges-left-out",
        Note::NotHeld(_) => "not-held",
        Note::SecondFiles(_) => "hard-links-split",
        Note::RootStays(..) => "source-folder-stays",
        Note::TakenBefore(_) => "moved-before",
        Note::EmptySource(_) => "empty-source",
        Note::NotUndoable(_) => "not-undoable",
        Note::GoneForGood(_) => "not-kept",
        Note::OldJournal => "old-journal",
        Note::LockPassedOver { .. } => "lock-ignored",
        Note::IdlePattern(_) => "pattern-unused",
    }
}
