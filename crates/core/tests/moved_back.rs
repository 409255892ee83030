//! Guarantee: undoing a move restores both sides to the last attribute and time, also if the move or the undo was
//! killed.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs::{self, FileTimes};
use std::os::fd::AsFd as _;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, SystemTime};

use crate::common::{
    Lost, RUN, Trees, Trouble, entries, execute, group_anew, sampled, shown, undo,
};
use proptest::prop_assert;
use proptest::test_runner::{Config, TestCaseError, TestCaseResult, TestError, TestRunner};
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::{Linux, System};
use utter_echo_core::plan::{Verb, Verbs};
use utter_echo_core::request::{
    CompareBy, Guard, Keeping, MoveOptions, OnConflict, Request, SetAside, Task, Workers,
};
use utter_echo_core::{PastRun, Session};
use utter_echo_files::dirty_marker;
use utter_echo_files::hidden_names::{self, HiddenNames};
use utter_echo_lab::world::{self, Options, Other, Tree, World};
use utter_echo_lab::{
    DriveKind, Gardener, MountedDrive, Snapshot, Tampered, Tampering, differences, snapshot,
};

fn moves(system: &dyn System, request: &Request) -> Result<(), Trouble> {
    let session = Session::open(system, request).map_err(shown)?;
    let mut plan = session.plan(&NoObserver).map_err(shown)?;
    if session.recover(&plan).map_err(shown)? {
        plan = session.plan(&NoObserver).map_err(shown)?;
    }
    session.guard(&plan, &[]).map_err(shown)?;
    execute(&session, &plan).map(|_| ())
}

fn seen(root: &Path) -> Snapshot {
    let mut all = if root.exists() { snapshot(root) } else { Snapshot::default() };
    // A killed run leaves its dirty marker until another looks at everything.
    all.retain(|path, _| !path.split(|b| *b == b'/').any(|name| name.starts_with(b".utter-")));
    all
}

/// Both sides. Where the entries of the source folder were given as several sources, the folder itself does not
/// count.
fn seen_both(trees: (&Path, &Path), apart: bool) -> (Snapshot, Snapshot) {
    let mut both = (seen(trees.0), seen(trees.1));
    if apart {
        both.0.values_mut().chain(both.1.values_mut()).for_each(|facts| facts.same_as = None);
        both.0.remove(&[][..]);
    }
    both
}

fn is_back(now: (&Snapshot, &Snapshot), before: (&Snapshot, &Snapshot)) -> Result<(), String> {
    let left = differences(before.0, now.0);
    let right = differences(before.1, now.1);
    if left.is_empty() && right.is_empty() {
        Ok(())
    } else {
        Err(format!("source:\n{left}\ndestination:\n{right}"))
    }
}

/// The entries of a folder, each as a source; without links, which could lead to another source.
fn holds(
    source: &Tree,
    other: &Other,
    options: &Options,
    ((on_conflict, leave_folders, what), apart): ((OnConflict, bool, Keeping), bool),
) -> TestCaseResult {
    let world = World::grow(source, other, options.mounts);
    let moving = MoveOptions { on_conflict, leave_folders };
    let mut request = options.request(&world).moving(moving);
    request.carry = utter_echo_core::attribute::Attributes::ALL;
    request.running.workers = Workers::Fixed(options.workers);
    if apart {
        request.places.sources = entries(&world.source);
        if request.places.sources.is_empty() {
            return Ok(());
        }
    }
    let beside = tempfile::tempdir().unwrap();
    let store = beside.path().join("store");
    request.safety.set_aside =
        Some(SetAside { folder: store.clone(), run: RUN.to_owned(), keep: None, what });
    let seen_both = || seen_both((&world.source, &world.destination), apart);
    let mut before = seen_both();
    let moved = moves(&Linux, &request);
    if !store.join(format!("{RUN}.notes")).exists() {
        return Ok(());
    }
    let undone = undo(&Linux, &store.join(RUN));
    let lost = undone.map_err(|why| TestCaseError::fail(format!("{why}\nafter {moved:?}")))?;
    if what == Keeping::Displaced && !lost.is_empty() {
        return Err(TestCaseError::fail(format!("{lost:?}")));
    }
    let mut now = seen_both();
    // At the path of a lost entry there is nothing, or an entry that the source still has.
    for path in &lost {
        now.1.remove(path.as_bytes());
        prop_assert!(before.1.remove(path.as_bytes()).is_some(), "{path:?}");
    }
    if apart && !lost.is_empty() {
        // Its time is set once all is back.
        now.1.remove(&[][..]);
        before.1.remove(&[][..]);
    }
    group_anew(&mut before.1);
    group_anew(&mut now.1);
    is_back((&now.0, &now.1), (&before.0, &before.1)).map_err(TestCaseError::fail)
}

#[test]
fn whatever_was_moved_can_be_restored() {
    let count = std::env::var("UTTER_CASES").ok().and_then(|count| count.parse().ok());
    let cases = count.unwrap_or(500_u32).div_ceil(3);
    let config = Config { cases, failure_persistence: None, ..Config::default() };
    let how = proptest::sample::select(vec![
        (OnConflict::Skip, false, Keeping::Displaced),
        (OnConflict::Newer, false, Keeping::Displaced),
        (OnConflict::Replace, false, Keeping::Displaced),
        (OnConflict::Replace, true, Keeping::Displaced),
        (OnConflict::Replace, false, Keeping::Journal),
        (OnConflict::KeepBoth, false, Keeping::Displaced),
    ]);
    let how = (how, proptest::bool::weighted(0.3));
    let case = (world::tree(), world::other(), world::options(&[Task::Move]), how);
    let tried =
        TestRunner::new(config).run(&case, |(s, o, options, how)| holds(&s, &o, &options, how));
    match tried {
        Err(TestError::Fail(why, case)) => panic!("{why}\nat least with {case:?}"),
        Err(error) => panic!("{error}"),
        Ok(()) => {}
    }
}

fn grown(seed: u64) -> (Trees, Request) {
    // One seed is tried on disk.
    let trees = if seed == 4 { Trees::new() } else { Trees::in_memory() };
    Gardener::new(seed).grow(&trees.source, 16);
    if seed.is_multiple_of(2) {
        let copy = crate::common::request(&trees, Task::Copy);
        crate::common::apply(&Linux, &copy);
        Gardener::new(seed + 1).change(&trees.source, 8);
    }
    let mut request = crate::common::request(&trees, Task::Move);
    request.running.workers = Workers::Fixed(1);
    request.changed.steps =
        if seed.is_multiple_of(3) { Verbs::ALL } else { Verbs::ALL.without(Verb::Rename) };
    request.moving.on_conflict = OnConflict::Replace;
    if seed > 20 {
        // A folder conflicts with a file, and is given another name.
        request.moving.on_conflict = OnConflict::KeepBoth;
        fs::create_dir(trees.source.join("logbooks")).unwrap();
        Gardener::new(seed + 1).grow(&trees.source.join("logbooks"), 8);
        fs::write(trees.destination.join("logbooks"), "a list of them").unwrap();
    }
    if is_apart(seed) {
        request.places.sources = entries(&trees.source);
    }
    let folder = trees.base.path().join("store");
    let what = Keeping::Displaced;
    request.safety.set_aside = Some(SetAside { folder, run: RUN.to_owned(), keep: None, what });
    (trees, request)
}

/// The entries of the source folder are given as several sources.
fn is_apart(seed: u64) -> bool {
    (10..20).contains(&seed)
}

/// Kills the move at each call, or the undo at each call; the next undo restores everything.
fn killed(seed: u64, kills_undo: bool) {
    let (trees, request) = grown(seed);
    let system = Tampered::new(Tampering::Nothing);
    let _ = moves(&system, &request);
    let mut calls = system.calls().len();
    if kills_undo {
        let system = Tampered::new(Tampering::Nothing);
        undo(&system, &trees.base.path().join("store").join(RUN)).unwrap();
        calls = system.calls().len();
    }
    let step = if is_apart(seed) { 7 } else { 3 };
    for at in sampled(0..calls, step) {
        let (trees, request) = grown(seed);
        let seen_both = || seen_both((&trees.source, &trees.destination), is_apart(seed));
        let before = seen_both();
        let store = trees.base.path().join("store");
        let killer = Tampered::new(Tampering::KillAt(at));
        if kills_undo {
            let _ = moves(&Linux, &request);
            let _ = undo(&killer, &store.join(RUN));
        } else {
            let _ = moves(&killer, &request);
        }
        let call = killer.calls().get(at).copied().unwrap_or("none");
        let when = format!("seed {seed}, undo {kills_undo}, call {at} ({call})");
        // Nothing was done, or all is back.
        let nothing = matches!(
            PastRun::open(&Linux, &store.join(RUN)),
            Err(utter_echo_core::BadRun::NeverBegun(_) | utter_echo_core::BadRun::NoRun { .. })
        );
        if !nothing {
            undo(&Linux, &store.join(RUN)).unwrap_or_else(|why| panic!("{when}: {why}"));
        }
        let now = seen_both();
        let back = is_back((&now.0, &now.1), (&before.0, &before.1));
        back.unwrap_or_else(|left| panic!("{when}:\n{left}"));
        let _ = fs::remove_dir_all(trees.base.path());
    }
}

#[test]
fn a_killed_move_can_be_undone() {
    killed(3, false);
    killed(4, false);
    killed(12, false);
    killed(23, false);
}

#[test]
fn an_undo_that_was_killed_is_finished_by_the_next() {
    killed(6, true);
    killed(7, true);
    killed(21, true);
}

#[test]
fn an_undo_of_several_sources_or_beside_others_that_was_killed_is_finished_by_the_next() {
    killed(14, true);
    killed(23, true);
}

/// What somebody does between a move and its undo.
type Meddling = fn(&Path);

/// The same with the roots.
type AtRoots<'c> = (&'c str, &'c dyn Fn(&Trees));

/// Gives `path` another content of the same size, under the same times.
fn edit(path: &Path) {
    let times = fs::metadata(path).unwrap();
    let text = fs::read(path).unwrap();
    fs::write(path, vec![b'?'; text.len()]).unwrap();
    let file = fs::File::options().write(true).open(path).unwrap();
    let times = FileTimes::new()
        .set_modified(times.modified().unwrap())
        .set_accessed(times.accessed().unwrap());
    file.set_times(times).unwrap();
}

fn exchange(path: &Path) {
    let other = path.with_file_name("other");
    let times = fs::metadata(path).unwrap().modified().unwrap();
    fs::copy(path, &other).unwrap();
    edit(&other);
    fs::File::options().write(true).open(&other).unwrap().set_modified(times).unwrap();
    fs::rename(&other, path).unwrap();
}

fn link_elsewhere(path: &Path) {
    fs::remove_file(path).unwrap();
    std::os::unix::fs::symlink("/", path).unwrap();
}

const MEDDLINGS: [(&str, Meddling); 4] = [
    ("edited", edit),
    ("exchanged", exchange),
    ("linked elsewhere", link_elsewhere),
    ("removed", |path| fs::remove_file(path).unwrap()),
];

/// A tree to move into a folder that exists, on the same drive or another, and its former state. The entry
/// `same.log` is equal on both sides.
fn to_move(elsewhere: bool) -> (Trees, Request, tempfile::TempDir) {
    let mut trees = Trees::in_memory();
    let other_drive = tempfile::tempdir().unwrap();
    if elsewhere {
        trees.destination = other_drive.path().join("destination");
        fs::create_dir(&trees.destination).unwrap();
    }
    fs::create_dir(trees.source.join("charts")).unwrap();
    for name in ["keeper.log", "tide.csv", "charts/harbour.csv", "same.log"] {
        fs::write(trees.source.join(name), name.repeat(7)).unwrap();
    }
    fs::copy(trees.source.join("same.log"), trees.destination.join("same.log")).unwrap();
    let time = fs::metadata(trees.source.join("same.log")).unwrap().modified().unwrap();
    fs::File::options()
        .write(true)
        .open(trees.destination.join("same.log"))
        .unwrap()
        .set_modified(time)
        .unwrap();
    fs::write(trees.destination.join("own.log"), "of the destination").unwrap();
    let mut request = crate::common::request(&trees, Task::Move);
    let (folder, what) = (trees.base.path().join("store"), Keeping::Displaced);
    request.safety.set_aside = Some(SetAside { folder, run: RUN.to_owned(), keep: None, what });
    (trees, request, other_drive)
}

/// Each case within a drive and between two.
fn both_drives<T: Clone>(cases: impl IntoIterator<Item = T>) -> impl Iterator<Item = (bool, T)> {
    cases.into_iter().flat_map(|case| [(false, case.clone()), (true, case)])
}

#[test]
fn an_entry_that_somebody_changed_after_a_move_is_left_alone_and_named() {
    let of_the_move = ["keeper.log", "charts/harbour.csv", "same.log"];
    let cases = of_the_move.iter().flat_map(|name| MEDDLINGS.map(|how| (*name, how)));
    for (elsewhere, (name, (how, meddle))) in both_drives(cases) {
        let when = format!("{name} {how}, on another drive: {elsewhere}");
        let (trees, request, _other_drive) = to_move(elsewhere);
        let before = seen(&trees.source);
        moves(&Linux, &request).unwrap();
        meddle(&trees.destination.join(name));
        let meddled = seen(&trees.destination);
        let run = trees.base.path().join("store").join(RUN);
        let named = undo(&Linux, &run).unwrap_or_else(|why| panic!("{when}: {why}"));
        assert_eq!(named, [name.as_bytes().into()].into(), "{when}");
        assert!(run.with_extension("notes").exists(), "{when}");
        let now = seen(&trees.destination);
        assert_eq!(now.get(name.as_bytes()), meddled.get(name.as_bytes()), "{when}");
        let files = |mut tree: Snapshot| {
            tree.retain(|path, facts| path != name.as_bytes() && facts.mode >> 12 == 8);
            tree
        };
        let left = differences(&files(before), &files(seen(&trees.source)));
        assert!(left.is_empty(), "{when}: {left}");
    }
}

#[test]
fn a_folder_in_the_place_of_that_of_a_move_is_left_alone() {
    let away = |path: &Path| fs::rename(path, path.with_extension("old")).unwrap();
    let other = |path: &Path| {
        away(path);
        fs::create_dir(path).unwrap();
        for name in ["keeper.log", "tide.csv", "same.log"] {
            fs::write(path.join(name), "a stranger's").unwrap();
        }
    };
    let cases: [AtRoots<'_>; 3] = [
        ("another destination", &|trees| other(&trees.destination)),
        ("no destination", &|trees| away(&trees.destination)),
        ("a link for the source", &|trees| {
            std::os::unix::fs::symlink(&trees.destination, &trees.source).unwrap();
        }),
    ];
    for (elsewhere, (how, meddle)) in both_drives(cases) {
        let (trees, request, _other_drive) = to_move(elsewhere);
        moves(&Linux, &request).unwrap();
        meddle(&trees);
        let everything = || (seen(trees.base.path()), seen(trees.destination.parent().unwrap()));
        let before = everything();
        let undone = undo(&Linux, &trees.base.path().join("store").join(RUN));
        assert!(undone.is_err(), "{how}, on another drive: {elsewhere}: {undone:?}");
        assert_eq!(before, everything(), "{how}, on another drive: {elsewhere}");
    }
}

/// Both sides have other contents of one size and time under one name, and links of one length.
fn alike_on_both_sides(task: Task, aside: &Path) -> (Trees, Request) {
    let trees = Trees::in_memory();
    let time = std::time::UNIX_EPOCH + Duration::from_secs(1_000_000_000);
    for (root, text) in [(&trees.source, "new"), (&trees.destination, "old")] {
        for name in ["keeper.log", "tide.csv"] {
            fs::write(root.join(name), format!("{text} {name}")).unwrap();
            fs::File::open(root.join(name)).unwrap().set_modified(time).unwrap();
        }
        std::os::unix::fs::symlink(text, root.join("lamp")).unwrap();
        let at = utter_echo_core::os::Time { secs: 1_000_000_000, nanos: 0 };
        let folder = fs::File::open(root).unwrap();
        let link = utter_echo_core::os::Entry::Named(folder.as_fd(), b"lamp");
        Linux.set_times(link, at, None).unwrap();
    }
    let mut request = crate::common::request(&trees, task);
    request.changed.by = CompareBy::Content;
    request.moving.on_conflict = OnConflict::Replace;
    request.running.workers = Workers::Fixed(1);
    let (folder, what) = (aside.to_owned(), Keeping::Displaced);
    request.safety.set_aside = Some(SetAside { folder, run: RUN.to_owned(), keep: None, what });
    (trees, request)
}

#[test]
fn an_entry_is_not_taken_for_one_of_its_size_and_time_wherever_the_run_was_killed() {
    for (elsewhere, task) in both_drives([Task::Mirror, Task::Move]) {
        let aside = || {
            let folder =
                if elsewhere { tempfile::tempdir() } else { utter_echo_lab::folder_in_memory() };
            folder.unwrap()
        };
        let counted = Tampered::new(Tampering::Nothing);
        let folder = aside();
        moves(&counted, &alike_on_both_sides(task, folder.path()).1).unwrap();
        for at in sampled(0..counted.calls().len(), 2) {
            let folder = aside();
            let (trees, request) = alike_on_both_sides(task, folder.path());
            let before = (seen(&trees.source), seen(&trees.destination));
            let _ = moves(&Tampered::new(Tampering::KillAt(at)), &request);
            let when = format!("{task:?}, on another drive: {elsewhere}, call {at}");
            match undo(&Linux, &folder.path().join(RUN)) {
                Ok(lost) => assert!(lost.is_empty(), "{when}: {lost:?}"),
                // Nothing was begun.
                Err(why) => assert!(
                    why.contains("never started") || why.contains("no such"),
                    "{when}: {why}"
                ),
            }
            let now = (seen(&trees.source), seen(&trees.destination));
            let back = is_back((&now.0, &now.1), (&before.0, &before.1));
            back.unwrap_or_else(|left| panic!("{when}:\n{left}"));
        }
    }
}

#[test]
fn a_move_is_not_undone_while_the_drive_of_a_side_is_away() {
    for of_source in [false, true] {
        let mut trees = Trees::in_memory();
        let drive = match MountedDrive::make(DriveKind::Ext4, trees.base.path()) {
            Ok(drive) => drive,
            Err(reason) => return utter_echo_lab::left_out(reason),
        };
        if of_source {
            trees.source = drive.folder().join("source");
        } else {
            fs::remove_dir(&trees.destination).unwrap();
            trees.destination = drive.folder().join("destination");
        }
        fs::create_dir_all(&trees.source).unwrap();
        fs::write(trees.source.join("keeper.log"), "the only copy").unwrap();
        let before = seen(&trees.source);
        let mut request = crate::common::request(&trees, Task::Move);
        let (folder, what) = (trees.base.path().join("store"), Keeping::Journal);
        request.safety.set_aside = Some(SetAside { folder, run: RUN.to_owned(), keep: None, what });
        moves(&Linux, &request).unwrap();
        let run = trees.base.path().join("store").join(RUN);
        let call = |program: &str, words: &[&Path]| {
            assert!(Command::new(program).args(words).status().unwrap().success(), "{program}");
        };
        call("umount", &[&drive.folder()]);
        let refused = undo(&Linux, &run).unwrap_err();
        assert!(refused.contains("its drive is not mounted"), "{refused}");
        assert!(!trees.source.exists() && run.with_extension("notes").exists());
        call("mount", &[Path::new("-oloop"), &drive.image(), &drive.folder()]);
        assert_eq!(undo(&Linux, &run), Ok(Lost::new()));
        assert_eq!(differences(&before, &seen(&trees.source)), "");
    }
}

#[test]
fn a_move_between_subvolumes_is_undone() {
    let room = Trees::in_memory();
    let drive = match MountedDrive::make(DriveKind::Btrfs, room.base.path()) {
        Ok(drive) => drive,
        Err(reason) => return utter_echo_lab::left_out(reason),
    };
    let subvolume = |path: &Path| {
        let mut make = Command::new("btrfs");
        assert!(make.args(["-q", "subvolume", "create"]).arg(path).status().unwrap().success());
    };
    for (number, of_source) in [true, false].into_iter().enumerate() {
        let [source, destination] =
            ["source", "destination"].map(|name| drive.folder().join(format!("{name}{number}")));
        subvolume(&source);
        fs::create_dir(&destination).unwrap();
        subvolume(&if of_source { &source } else { &destination }.join("charts"));
        fs::create_dir_all(source.join("charts/tides")).unwrap();
        fs::create_dir(source.join("logs")).unwrap();
        for name in ["charts/tides/a.csv", "charts/b.csv", "logs/keeper.log"] {
            fs::write(source.join(name), name).unwrap();
        }
        let mut request = crate::common::request(&room, Task::Move);
        request.places.sources = vec![source.clone()];
        request.places.destination.clone_from(&destination);
        let store = room.base.path().join(format!("store{number}"));
        request.safety.set_aside = Some(SetAside {
            folder: store.clone(),
            run: RUN.to_owned(),
            keep: None,
            what: Keeping::Journal,
        });
        let before = (seen(&source), seen(&destination));
        moves(&Linux, &request).unwrap();
        assert!(destination.join("logs/keeper.log").exists());
        assert_eq!(undo(&Linux, &store.join(RUN)), Ok(Lost::new()), "{of_source}");
        let now = (seen(&source), seen(&destination));
        assert_eq!(is_back((&now.0, &now.1), (&before.0, &before.1)), Ok(()), "{of_source}");
    }
}

#[test]
fn what_entries_have_from_the_destinations_folder_is_not_missed_at_home() {
    let trees = Trees::in_memory();
    let drive = match MountedDrive::make(DriveKind::Btrfs, trees.base.path()) {
        Ok(drive) => drive,
        Err(reason) => return utter_echo_lab::left_out(reason),
    };
    let there = drive.folder().join("lantern");
    fs::create_dir(&there).unwrap();
    let mut chattr = Command::new("chattr");
    assert!(chattr.arg("+C").arg(&there).status().unwrap().success());
    fs::create_dir(trees.source.join("charts")).unwrap();
    fs::write(trees.source.join("charts/harbour.csv"), "1,2").unwrap();
    let mut request = crate::common::request(&trees, Task::Move);
    request.places.destination = there.join("saltmere");
    let store = trees.base.path().join("store");
    let (run, what) = (RUN.to_owned(), Keeping::Journal);
    request.safety.set_aside = Some(SetAside { folder: store.clone(), run, keep: None, what });
    moves(&Linux, &request).unwrap();
    assert_eq!(undo(&Linux, &store.join(RUN)), Ok(Lost::new()));
    assert_eq!(fs::read(trees.source.join("charts/harbour.csv")).unwrap(), b"1,2");
    assert!(!there.join("saltmere").exists());
}

/// A name like those that the program gives, of an entry of somebody else.
fn hidden_name() -> String {
    String::from_utf8(HiddenNames::default().name()).unwrap()
}

#[test]
fn on_every_kind_of_drive_a_move_and_a_mirror_are_undone() {
    let long_ago = SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000_000);
    for kind in DriveKind::ALL {
        let trees = Trees::in_memory();
        let drive = match MountedDrive::make(kind, trees.base.path()) {
            Ok(drive) => drive,
            Err(reason) => {
                utter_echo_lab::left_out(reason);
                continue;
            }
        };
        let told = |folder: &Path| {
            let mut all = snapshot(folder);
            let is_marker = |path: &[u8]| path.ends_with(&dirty_marker::name());
            all.retain(|path, _| !is_marker(path));
            // Its driver sets no times of folders.
            let folders = all.values_mut().filter(|facts| facts.mode & 0o170_000 == 0o040_000);
            if kind == DriveKind::Fat {
                folders.for_each(|facts| facts.modified = (0, 0));
            }
            all
        };
        let there = drive.folder().join("saltmere");
        fs::create_dir_all(there.join("charts/empty")).unwrap();
        let names = ["keeper.log", "charts/harbour.csv"].map(String::from);
        for name in names.into_iter().chain([hidden_name()]) {
            fs::write(there.join(&name), name.repeat(9)).unwrap();
            // Some drivers give what they rename the time of now.
            let file = fs::File::options().write(true).open(there.join(&name)).unwrap();
            file.set_times(FileTimes::new().set_accessed(long_ago).set_modified(long_ago)).unwrap();
        }
        let store = trees.base.path().join("store");
        let aside = |folder: &Path, what| {
            Some(SetAside { folder: folder.into(), run: RUN.to_owned(), keep: None, what })
        };

        let mut request = crate::common::request(&trees, Task::Move);
        request.places.sources = vec![there.clone()];
        request.safety.set_aside = aside(&store, Keeping::Journal);
        let before = told(&there);
        moves(&Linux, &request).unwrap();
        assert!(!there.exists(), "{kind:?}");
        assert_eq!(undo(&Linux, &store.join(RUN)), Ok(Lost::new()), "{kind:?}");
        assert_eq!(differences(&before, &told(&there)), "", "{kind:?}");

        let mut request = crate::common::request(&trees, Task::Mirror);
        request.places.destination.clone_from(&there);
        fs::write(trees.source.join("keeper.log"), "of another year").unwrap();
        let store = drive.folder().join("store");
        request.safety.set_aside = aside(&store, Keeping::Displaced);
        request.safety.waived = Guard::ALL.to_vec();
        moves(&Linux, &request).unwrap();
        assert_eq!(undo(&Linux, &store.join(RUN)), Ok(Lost::new()), "{kind:?}");
        let (before, now) = (before.into_keys(), told(&there).into_keys());
        let no_hidden = |path: &Vec<u8>| !hidden_names::is_hidden_name(path);
        assert!(before.filter(no_hidden).eq(now.filter(no_hidden)), "{kind:?}");
        assert_eq!(fs::read(there.join("keeper.log")).unwrap(), b"keeper.log".repeat(9));
        for name in ["keeper.log", "charts/harbour.csv"] {
            let modified = fs::metadata(there.join(name)).unwrap().modified().unwrap();
            assert_eq!(modified, long_ago, "{kind:?}: {name}");
        }
    }
}
