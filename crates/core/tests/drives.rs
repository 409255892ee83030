//! Guarantee: everything that a drive can hold arrives on it; what it cannot hold is reported, and is no difference
//! afterwards.
//!
//! A tree with every oddity is mirrored to every kind of drive, compared by an independent reader, mirrored again,
//! changed at random and mirrored once more. This needs root and drives that can be mounted; with
//! `UTTER_LAB=required` in the environment a kind that cannot be mounted is a failure. With
//! `UTTER_DRIVES_TABLE=FILE` the test writes the table of the documentation to that file.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::Command;

use utter_echo_core::drives::{self, RememberedDrive};
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Note, Verb};
use utter_echo_core::problem::Cause;
use utter_echo_core::request::{CompareBy, Guard, Keeping, Request, SetAside, Task};
use utter_echo_core::select::{Rules, Selection};
use utter_echo_core::{Ending, PlanError, Session};
use utter_echo_lab::{
    DriveKind, Facts, Gardener, MountedDrive, Snapshot, Tampered, is_root, left_out, snapshot,
};

use crate::common::Trees;

/// The attributes in which entries can differ, as the table names them.
const ATTRIBUTES: [&str; 11] = [
    "content",
    "times",
    "mode",
    "owner",
    "acl",
    "xattr",
    "flags",
    "hardlinks",
    "holes",
    "links",
    "special",
];

/// Mounts a drive of this kind, or says why that is not possible.
fn mounted(kind: DriveKind, room: &Path) -> Option<MountedDrive> {
    match MountedDrive::make(kind, room) {
        Ok(drive) => Some(drive),
        Err(reason) => {
            let required = std::env::var_os("UTTER_LAB").is_some_and(|lab| lab == "required");
            assert!(!required, "{} cannot be had: {reason}", kind.name());
            left_out(format!("{}: {reason}", kind.name()));
            None
        }
    }
}

fn request(source: &Path, destination: &Path, task: Task) -> Request {
    let mut request = crate::common::request(&Trees::new(), task);
    request.places.sources = vec![source.to_path_buf()];
    request.places.destination = destination.to_path_buf();
    request
}

/// A tree with everything that the gardener does not make by itself.
fn plant_oddities(root: &Path) {
    let deep = (0..120).fold(root.join("deep"), |path, level| path.join(format!("level {level}")));
    fs::create_dir_all(&deep).unwrap();
    fs::write(deep.join("lamp.txt"), "lit").unwrap();
    fs::create_dir(root.join("cases")).unwrap();
    for name in ["Fog", "fog", "tide: high", "question?", "dot.", "space ", "ünder", "plain"] {
        fs::write(root.join("cases").join(name), name).unwrap();
    }
    let large = vec![7; 3 << 20];
    fs::write(root.join("season.wav"), large).unwrap();
    fs::write(root.join("empty.csv"), "").unwrap();
    fs::create_dir(root.join("empty folder")).unwrap();
    // The right to bind low ports, for a lamp controller: it must outlive the change of owner.
    let capability = b"\x01\0\0\x02\0\x04\0\0\0\0\0\0\0\0\0\0\0\0\0\0";
    fs::write(root.join("controller"), "firmware").unwrap();
    std::os::unix::fs::chown(root.join("controller"), Some(1000), Some(1000)).unwrap();
    xattr::set(root.join("controller"), "security.capability", capability).unwrap();
    xattr::set(root.join("controller"), "trusted.keeper", b"yes").unwrap();
}

#[test]
fn every_kind_of_drive_is_given_what_it_can_store() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let room = tempfile::tempdir().unwrap();
    let Some(origin) = mounted(DriveKind::Ext4, &room.path().join("origin")) else { return };
    let source = origin.folder().join("saltmere");
    fs::create_dir(&source).unwrap();
    let mut gardener = Gardener::new(1857);
    gardener.grow(&source, 200);
    plant_oddities(&source);
    gardener.lock(&source);
    let mut drives = Vec::new();
    for kind in DriveKind::ALL {
        if let Some(drive) = mounted(kind, room.path()) {
            drives.push((kind, drive.folder().join("echo"), drive));
        }
    }
    let mut kept = BTreeMap::new();
    for round in 0..4 {
        let model = snapshot(&source);
        for (kind, echo, _) in &drives {
            let lost = mirror_and_check(&source, echo, *kind, &model, round);
            kept.entry(kind.name()).or_insert_with(BTreeSet::new).extend(lost);
        }
        Gardener::unlock(&source);
        gardener.change(&source, 60);
        gardener.lock(&source);
    }
    if let Some(file) = std::env::var_os("UTTER_DRIVES_TABLE") {
        fs::write(file, table(&drives.iter().map(|(kind, ..)| *kind).collect::<Vec<_>>(), &kept))
            .unwrap();
    }
    Gardener::unlock(&source);
}

/// Mirrors, and checks what this file guarantees. Returns the attributes in which something was lost.
fn mirror_and_check(
    source: &Path,
    echo: &Path,
    kind: DriveKind,
    model: &Snapshot,
    round: u32,
) -> BTreeSet<&'static str> {
    let name = kind.name();
    let mut request = request(source, echo, Task::Mirror);
    let session = Session::open(&Linux, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let untaken: BTreeSet<Vec<u8>> = plan
        .problems
        .iter()
        .map(|problem| {
            let planned = matches!(problem.cause, Cause::NameNotHeld(_) | Cause::SameNameThere(_));
            assert!(planned && !kind.holds_everything(), "{name} {round}: {problem:?}");
            problem.path.as_bytes().to_vec()
        })
        .collect();
    let outcome = session.execute(&plan, &NoObserver);
    assert!(outcome.problems.is_empty(), "{name} {round}: {:#?}", outcome.problems);
    let copy = snapshot(echo);
    let mut lost = BTreeSet::new();
    for (path, facts) in model {
        let below =
            |taken: &Vec<u8>| path == taken || path.starts_with(&[taken, &b"/"[..]].concat());
        if untaken.iter().any(below) {
            continue;
        }
        let differing = match copy.get(path) {
            Some(there) => differing(facts, there, kind),
            None => vec![kind_of(facts)],
        };
        let shown = String::from_utf8_lossy(path);
        for attribute in differing {
            assert!(
                may_lose(kind, attribute),
                "{name} {round}: {shown:?} lost its {attribute}: {facts:?}, {:?}",
                copy.get(path)
            );
            lost.insert(attribute);
        }
    }
    let extra: Vec<_> = copy.keys().filter(|path| !model.contains_key(*path)).collect();
    assert!(extra.is_empty(), "{name} {round}: {extra:?}");
    let again = crate::common::listed(&crate::common::plan_of(&Linux, &request));
    assert!(again.is_empty(), "{name} {round}: planned again: {again:?}");
    request.task = Task::Verify;
    request.changed.by = CompareBy::Content;
    let found = crate::common::listed(&crate::common::plan_of(&Linux, &request));
    assert!(found.is_empty(), "{name} {round}: verify found {found:?}");
    lost
}

/// What each kind of drive lacks, by its own documentation or its driver's.
fn may_lose(kind: DriveKind, attribute: &str) -> bool {
    match kind {
        DriveKind::Fat | DriveKind::ExFat => !matches!(attribute, "content" | "times"),
        // It holds only extended attributes of the namespace `user`.
        DriveKind::Ntfs => matches!(attribute, "mode" | "owner" | "acl" | "flags" | "xattr"),
        // A drive in memory has no synchronous writes.
        DriveKind::Tmpfs | DriveKind::Overlay => attribute == "flags",
        _ => false,
    }
}

fn kind_of(facts: &Facts) -> &'static str {
    match facts.mode >> 12 {
        0o12 => "links",
        0o10 | 0o4 => "content",
        _ => "special",
    }
}

fn differing(here: &Facts, there: &Facts, kind: DriveKind) -> Vec<&'static str> {
    let nanos = |(secs, nanos): (i64, i64)| i128::from(secs) * 1_000_000_000 + i128::from(nanos);
    let list = |facts: &Facts, acl: bool| {
        let of_acl = |name: &[u8]| name.starts_with(b"system.posix_acl");
        // The form in which the drive keeps them is no attribute of the user's.
        let own =
            |name: &[u8]| name.starts_with(b"system.") || name.starts_with(b"trusted.SGI_ACL_");
        let ours = |name: &[u8]| of_acl(name) == acl && (acl || !own(name));
        let mut xattrs = facts.xattrs.clone();
        xattrs.retain(|name, _| ours(name));
        xattrs
    };
    let apart = nanos(here.modified).abs_diff(nanos(there.modified));
    // FAT has no times before 1980.
    let kept_at_all = kind.grain() < 1_000_000_000 || here.modified.0 >= 315_619_200;
    // This driver gets fractions of seconds before 1970 wrong.
    let whole = kind == DriveKind::Ntfs && here.modified.0 < 0;
    let grain = if whole { 1_000_000_000 } else { kind.grain() };
    let checks = [
        ("content", here.content != there.content),
        ("content", here.mode >> 12 != there.mode >> 12 || here.device != there.device),
        ("times", kept_at_all && apart >= u128::from(grain)),
        ("mode", here.mode & 0o7777 != there.mode & 0o7777),
        ("owner", here.owner != there.owner),
        ("acl", list(here, true) != list(there, true)),
        ("xattr", list(here, false) != list(there, false)),
        ("flags", here.flags != there.flags),
        ("hardlinks", here.same_as != there.same_as),
        // A block or two more may be the drive's own.
        ("holes", there.allocated.0 > here.allocated.0.next_multiple_of(4096) + 8192),
    ];
    checks.into_iter().filter(|(_, differs)| *differs).map(|(attribute, _)| attribute).collect()
}

fn table(kinds: &[DriveKind], lost: &BTreeMap<&str, BTreeSet<&str>>) -> String {
    let mut text = String::from("| attribute |");
    for kind in kinds {
        let _ = write!(text, " {} |", kind.name());
    }
    text.push_str("\n| --- |");
    text.push_str(&" --- |".repeat(kinds.len()));
    for attribute in ATTRIBUTES {
        let _ = write!(text, "\n| {attribute} |");
        for kind in kinds {
            let word =
                match (lost[kind.name()].contains(attribute), attribute) {
                    (true, "flags") if matches!(kind, DriveKind::Tmpfs | DriveKind::Overlay) => {
                        "some"
                    }
                    (true, "xattr") if *kind == DriveKind::Ntfs => "users'",
                    (true, _) => "-",
                    (false, "times") if kind.grain() >= 1_000_000_000 => {
                        if *kind == DriveKind::Fat { "to 2 s" } else { "to 1 s" }
                    }
                    (false, "times") if kind.grain() > 1 => "to 100 ns",
                    (false, _) => "all",
                };
            let _ = write!(text, " {word} |");
        }
    }
    text.push('\n');
    text
}

/// FAT keeps local time: in another time zone or after a change to summer time, all its times are off by whole
/// hours.
#[test]
fn a_shifted_clock_costs_no_new_copy() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let room = tempfile::tempdir().unwrap();
    let Some(stick) = mounted(DriveKind::Fat, room.path()) else { return };
    let (source, echo) = (room.path().join("source"), stick.folder().join("echo"));
    fs::create_dir(&source).unwrap();
    let shift = |seconds: u64| {
        for entry in fs::read_dir(&source).unwrap() {
            let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
            fs::File::open(entry.unwrap().path()).unwrap().set_modified(time).unwrap();
        }
    };
    for name in ["tide.csv", "log.txt", "changed.txt"] {
        fs::write(source.join(name), name).unwrap();
    }
    shift(1_000_000_000);
    let request = request(&source, &echo, Task::Mirror);
    assert!(crate::common::apply(&Linux, &request).problems.is_empty());
    fs::write(source.join("changed.txt"), "changed!txt").unwrap();
    shift(1_000_003_600);
    let plan = crate::common::plan_of(&Linux, &request);
    let verbs: Vec<_> = plan.steps().filter(|p| !p.path.as_bytes().is_empty()).collect();
    let verbs: Vec<_> = verbs.iter().map(|placed| placed.step.verb).collect();
    assert_eq!(verbs, [Verb::Replace, Verb::Adjust, Verb::Adjust]);
    assert!(crate::common::apply(&Linux, &request).problems.is_empty());
    let again = crate::common::plan_of(&Linux, &request);
    let left: Vec<_> = again.steps().map(|placed| format!("{placed:?}")).collect();
    assert!(again.is_empty(), "{left:#?}");
    assert_eq!(fs::read(echo.join("changed.txt")).unwrap(), b"changed!txt");
}

#[test]
fn a_drive_mounted_in_the_source_is_named_and_taken_or_left() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let trees = Trees::new();
    let Some(drive) = mounted(DriveKind::Tmpfs, &trees.source) else { return };
    fs::write(drive.folder().join("nested"), "here").unwrap();
    let mut request = request(&trees.source, &trees.destination, Task::Mirror);
    let plan = crate::common::plan_of(&Linux, &request);
    assert!(plan.notes.iter().any(|note| matches!(note, Note::Mount(_))));
    crate::common::apply(&Linux, &request);
    let copy = trees.destination.join("tmpfs/drive/nested");
    assert_eq!(fs::read(&copy).unwrap(), b"here");
    let rules = Rules { same_drive: true, ..Rules::default() };
    request.selection = Selection::new(&rules).unwrap();
    let plan = crate::common::plan_of(&Linux, &request);
    assert!(plan.notes.iter().any(|note| matches!(note, Note::MountLeftOut(_))));
    assert!(plan.is_empty());
    // Excluded entries are left alone, even where the mirror would remove them.
    drop(drive);
    fs::remove_dir(trees.source.join("tmpfs/drive")).unwrap();
    let Some(drive) = mounted(DriveKind::Tmpfs, &trees.source) else { return };
    crate::common::apply(&Linux, &request);
    assert!(copy.exists() && !drive.folder().join("nested").exists());
}

#[test]
fn overlapping_sides_are_found_in_any_spelling() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let room = tempfile::tempdir().unwrap();
    for kind in [DriveKind::ExFat, DriveKind::Fat] {
        let Some(drive) = mounted(kind, room.path()) else { continue };
        let at = |path: &str| drive.folder().join(path);
        fs::create_dir_all(at("Lens/Drawings")).unwrap();
        let refusal = |source: &str, destination: &str, aside: Option<&str>| {
            let mut request = request(&at(source), &at(destination), Task::Mirror);
            request.safety.set_aside = aside.map(|aside| SetAside {
                folder: at(aside),
                run: "2026-11-23T14-05-09Z".to_owned(),
                keep: None,
                what: Keeping::Displaced,
            });
            let planned = Session::open(&Linux, &request).unwrap().plan(&NoObserver);
            match planned {
                Err(PlanError::Refused(refusal)) => Some(refusal.guard()),
                _ => None,
            }
        };
        for (source, destination) in [
            ("Lens", "LENS"),
            ("Lens", "lens/new"),
            ("Lens/Drawings", "lENS"),
            ("lens/drawings", "Lens"),
        ] {
            let refused = refusal(source, destination, None);
            assert_eq!(refused, Some(Guard::Overlap), "{kind:?}: {source} to {destination}");
        }
        assert_eq!(refusal("Lens", "Lenses", None), None, "{kind:?}");
        fs::create_dir_all(at("Echo")).unwrap();
        assert_eq!(refusal("Lens", "Echo", Some("ECHO/aside")), Some(Guard::Overlap), "{kind:?}");
        assert_eq!(refusal("Lens", "Echo", Some("aside")), None, "{kind:?}");
    }
}

/// Work in the destination is recognised by its change time, which FAT and exFAT lack: an echo on them must not be
/// taken for newer work when the newest file of the source is removed.
#[test]
fn an_echo_on_a_drive_without_change_times_does_not_count_as_newer() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let trees = Trees::new();
    for kind in [DriveKind::ExFat, DriveKind::Fat, DriveKind::Ext4] {
        let Some(drive) = mounted(kind, trees.base.path()) else { continue };
        let name = |log: u64| trees.source.join(format!("{log}.log"));
        for log in 0..100 {
            let time = std::time::Duration::from_secs(1_000_000_000 + log * 60);
            fs::write(name(log), "lit").unwrap();
            let file = fs::File::open(name(log)).unwrap();
            file.set_modified(std::time::UNIX_EPOCH + time).unwrap();
        }
        let request = request(&trees.source, &drive.folder().join("echo"), Task::Mirror);
        assert!(crate::common::apply(&Linux, &request).problems.is_empty());
        (75..100).for_each(|log| fs::remove_file(name(log)).unwrap());
        let session = Session::open(&Linux, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        assert_eq!(plan.totals.steps.remove.entries, 25);
        assert_eq!(session.guard(&plan, &[]), Ok(Vec::new()), "{}", kind.name());
    }
}

#[test]
fn what_a_drive_cannot_link_to_is_a_problem_of_the_plan() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let room = tempfile::tempdir().unwrap();
    let Some(drive) = mounted(DriveKind::Xfs, room.path()) else { return };
    let source = room.path().join("source");
    fs::create_dir(&source).unwrap();
    for length in [300, 1023, 1024, 4000] {
        let text = "l".repeat(length);
        std::os::unix::fs::symlink(text, source.join(format!("link {length}"))).unwrap();
    }
    for (name, minor) in [("null", 3), ("far", 300_000)] {
        let device = rustix::fs::makedev(1, minor);
        let kind = rustix::fs::FileType::CharacterDevice;
        let mode = rustix::fs::Mode::from_raw_mode(0o600);
        rustix::fs::mknodat(rustix::fs::CWD, source.join(name), kind, mode, device).unwrap();
    }
    let request = request(&source, &drive.folder().join("echo"), Task::Mirror);
    for _ in 0..2 {
        let session = Session::open(&Linux, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let told = plan.problems.iter().map(|problem| problem.cause.to_string());
        let told: Vec<String> = told.collect();
        assert_eq!(told.len(), 3, "{told:?}");
        assert!(
            told[0].contains("device") && told[1..].iter().all(|cause| cause.contains("target"))
        );
        assert!(session.execute(&plan, &NoObserver).problems.is_empty());
    }
    assert!(crate::common::plan_of(&Linux, &request).is_empty());
}

#[test]
fn a_drive_is_known_by_its_name_in_any_part_of_it() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let trees = Trees::new();
    let Some(drive) = mounted(DriveKind::Btrfs, trees.base.path()) else { return };
    let part = drive.folder().join("part");
    let mut make = Command::new("btrfs");
    assert!(make.args(["-q", "subvolume", "create"]).arg(&part).status().unwrap().success());
    let numbers = drives::holding(&Linux, std::slice::from_ref(&part)).unwrap();
    let found = drives::list(&Linux, Some(&numbers)).unwrap();
    let uuid = found[0].uuid.clone().unwrap();
    fs::write(trees.source.join("tide.csv"), "high").unwrap();
    let mut request = request(&trees.source, &part.join("echo"), Task::Mirror);
    for (name, refused) in [(uuid.as_str(), false), ("LANTERN", true)] {
        let check = |request: &Request| {
            let session = Session::open(&Linux, request).unwrap();
            let plan = session.plan(&NoObserver).unwrap();
            let guarded = session.guard(&plan, &[]).map_err(|refusal| refusal.guard());
            assert_eq!(guarded.err(), refused.then_some(Guard::Drive), "{name}");
        };
        request.safety.drive = Some(name.to_owned());
        check(&request);
        // A place that was found by this name may lie on another drive by the time when it is opened.
        request.safety.drive = None;
        let (source, destination) = (trees.source.clone(), part.join("echo"));
        request.places.typed = vec![source.clone(), destination.clone()];
        request.places.drives = vec![None, Some(name.to_owned())];
        check(&request);
        let other = part.join("source");
        fs::create_dir_all(&other).unwrap();
        request.places.sources = vec![other.clone()];
        request.places.typed = vec![other, destination];
        request.places.drives = vec![Some(name.to_owned()), None];
        check(&request);
        request.places.sources = vec![source];
        request.places.drives = Vec::new();
    }
}

#[test]
fn an_attribute_that_a_drive_cannot_store_concerns_one_entry() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let room = tempfile::tempdir().unwrap();
    let (Some(large), Some(small)) =
        (mounted(DriveKind::Xfs, room.path()), mounted(DriveKind::Ext4, room.path()))
    else {
        return;
    };
    let source = large.folder().join("source");
    fs::create_dir(&source).unwrap();
    let names = ["a", "b", "c", "d"];
    for name in names {
        fs::write(source.join(name), name).unwrap();
    }
    // It does not fit beside the inode, which the system reports as a lack of space.
    xattr::set(source.join("b"), "user.keeper", &vec![7; 30_000]).unwrap();
    let request = request(&source, &small.folder().join("echo"), Task::Mirror);
    for _ in 0..2 {
        let outcome = crate::common::apply(&Linux, &request);
        assert!(matches!(outcome.ending, Ending::Complete), "{:?}", outcome.ending);
        let told: Vec<_> = outcome.problems.iter().map(|problem| problem.path.as_bytes()).collect();
        assert_eq!(told, [b"b"]);
        let arrived = names.map(|name| small.folder().join("echo").join(name).exists());
        assert_eq!(arrived, [true, false, true, true]);
    }
}

#[test]
fn a_drive_that_disappears_during_the_search_is_not_found() {
    if !is_root() {
        return left_out("only root mounts drives");
    }
    let room = tempfile::tempdir().unwrap();
    let made = MountedDrive::make(DriveKind::Tmpfs, room.path());
    let Ok(drive) = made.inspect_err(|reason| left_out(reason)) else { return };
    let known = RememberedDrive::holding(&Linux, &drive.folder()).unwrap();
    assert!(known.is_there(&Linux));
    // This happens after the list of mounts was read.
    let goes = Tampered::before_each(|call| {
        if call == "open_root" {
            let gone = Command::new("umount").arg(drive.folder()).status().unwrap();
            assert!(gone.success());
        }
    });
    assert!(!known.is_there(&goes));
}
