//! Guarantee: a program that saves over a file while it is moved loses nothing, at whatever moment: its last
//! version is in the source, or is the one that arrived. An entry that a killed move was about to remove has its
//! name back after the next move, and no run in between takes it for removed.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::UNIX_EPOCH;

use utter_echo_core::Session;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Verb, Verbs};
use utter_echo_core::problem::Cause;
use utter_echo_core::request::{Flush, Places, Request, Task, Workers};
use utter_echo_core::select::{PatternRules, Rules, Selection};
use utter_echo_files::exit_folder;
use utter_echo_lab::{DriveKind, MountedDrive, Tampered, Tampering, snapshot};

use crate::common::{Trees, apply, plan_of};

fn request(trees: &Trees) -> Request {
    let mut request = crate::common::request(trees, Task::Move);
    request.running.flush = Flush::End;
    request.running.workers = Workers::Fixed(1);
    request.changed.steps = Verbs::ALL.without(Verb::Rename);
    request
}

/// A tree with two names of one file, which are moved together or not at all.
fn trees() -> Trees {
    let trees = Trees::in_memory();
    for name in ["lens.svg", "logbook", "tide.csv"] {
        fs::write(trees.source.join(name), format!("the {name}")).unwrap();
    }
    fs::hard_link(trees.source.join("tide.csv"), trees.source.join("tide 2.csv")).unwrap();
    trees
}

/// Saves as editors do: writes a new file and renames it over the old one. False if the folder no longer exists.
fn save(trees: &Trees, name: &str, text: &str) -> bool {
    let beside = trees.base.path().join("beside");
    fs::write(&beside, text).unwrap();
    fs::rename(beside, trees.source.join(name)).is_ok()
}

#[test]
fn whenever_an_editor_saves_its_version_is_on_one_side() {
    let count = |system: &Tampered<'_>, trees: &Trees| {
        apply(system, &request(trees));
        system.calls().len()
    };
    let calls = count(&Tampered::new(Tampering::Nothing), &trees());
    for name in ["logbook", "tide.csv"] {
        for at in 0..calls {
            let trees = trees();
            let (nth, saved) = (AtomicUsize::new(0), AtomicBool::new(false));
            let system = Tampered::before_each(|_| {
                if nth.fetch_add(1, Ordering::Relaxed) == at {
                    saved.store(save(&trees, name, "the new version"), Ordering::Relaxed);
                }
            });
            apply(&system, &request(&trees));
            let sides = [&trees.source, &trees.destination];
            let has_it = |side: &PathBuf| {
                let all = fs::read_dir(side).map(|all| all.flatten().collect::<Vec<_>>());
                all.unwrap_or_default().iter().any(|entry| {
                    fs::read_to_string(entry.path()).is_ok_and(|text| text == "the new version")
                })
            };
            let is_kept = !saved.load(Ordering::Relaxed) || sides.iter().any(|side| has_it(side));
            assert!(is_kept, "{name} saved at call {at} is lost");
            let exit = String::from_utf8(exit_folder::name()).unwrap();
            assert!(!trees.source.join(exit).exists(), "{name}, call {at}");
        }
    }
}

#[test]
fn what_a_killed_move_left_is_reported_by_all_and_restored_by_the_next_move() {
    let calls = Tampered::new(Tampering::Nothing);
    apply(&calls, &request(&trees()));
    let mut left = 0;
    for at in 0..calls.calls().len() {
        let trees = trees();
        let system = Tampered::new(Tampering::KillAt(at));
        if let Ok(session) = Session::open(&system, &request(&trees))
            && let Ok(plan) = session.plan(&NoObserver)
        {
            session.execute(&plan, &NoObserver);
        }
        let exit = trees.source.join(String::from_utf8(exit_folder::name()).unwrap());
        if fs::read_dir(&exit).is_ok_and(|mut inside| inside.next().is_some()) {
            left += 1;
            // The destination has the entry that the source seems to lack.
            let mirror = crate::common::request(&trees, Task::Mirror);
            let plan = plan_of(&Linux, &mirror);
            let is_named = |cause: &Cause| matches!(cause, Cause::LeftOnItsWay(_));
            assert!(plan.problems.iter().any(|problem| is_named(&problem.cause)));
            assert_eq!(plan.totals.steps.remove.entries, 0, "{:?}", crate::common::listed(&plan));
        }
        if !trees.source.exists() {
            continue;
        }
        let outcome = apply(&Linux, &request(&trees));
        assert!(outcome.problems.is_empty(), "call {at}: {:?}", outcome.problems);
        assert!(!trees.source.exists(), "call {at}: {:?}", snapshot(&trees.source).keys());
        assert_eq!(fs::read_dir(&trees.destination).unwrap().count(), 4, "call {at}");
    }
    assert!(left > 2, "no run was killed while something was on its way");
}

#[test]
fn an_undo_never_replaces_a_newer_entry() {
    let trees = trees();
    let exit = trees.source.join(String::from_utf8(exit_folder::name()).unwrap());
    fs::create_dir(&exit).unwrap();
    fs::rename(trees.source.join("logbook"), exit.join("logbook")).unwrap();
    assert!(save(&trees, "logbook", "the new version"));
    let outcome = apply(&Linux, &request(&trees));
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    let read = |name: &str| fs::read_to_string(trees.destination.join(name)).unwrap();
    assert_eq!(
        (read("logbook"), read("logbook 2")),
        ("the new version".into(), "the logbook".into())
    );
}

/// A folder with the same time on both sides; the destination lacks one of its files.
fn dated_folders() -> (Trees, [PathBuf; 2]) {
    let trees = Trees::in_memory();
    let folders = [&trees.source, &trees.destination].map(|side| side.join("logbooks"));
    for folder in &folders {
        fs::create_dir(folder).unwrap();
        fs::write(folder.join("kept"), "").unwrap();
    }
    fs::write(folders[0].join("logbook"), "Monday: fog").unwrap();
    for path in [folders[0].join("kept"), folders[1].join("kept"), folders[0].join("logbook")] {
        fs::File::open(path).unwrap().set_modified(UNIX_EPOCH).unwrap();
    }
    for folder in &folders {
        fs::File::open(folder).unwrap().set_modified(UNIX_EPOCH).unwrap();
    }
    (trees, folders)
}

#[test]
fn a_folder_with_a_new_entry_is_not_given_its_old_time() {
    let prepared = |task| {
        let (trees, folders) = dated_folders();
        let mut request = crate::common::request(&trees, task);
        request.running.workers = Workers::Fixed(1);
        // Something of the move stays in the source.
        request.changed.steps = Verbs::ALL.without(Verb::Rename);
        let patterns = PatternRules { exclude: vec!["kept".into()], ..PatternRules::default() };
        request.selection = Selection::new(&Rules { patterns, ..Rules::default() }).unwrap();
        (trees, folders, request)
    };
    for (task, side) in [(Task::Copy, 1), (Task::Move, 0)] {
        let (_trees, folders, request) = prepared(task);
        let system = Tampered::new(Tampering::Nothing);
        let session = Session::open(&system, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let planned = system.calls().len();
        session.execute(&plan, &NoObserver);
        let time = |folder: &PathBuf| fs::metadata(folder).unwrap().modified().unwrap();
        assert_eq!(time(&folders[side]), UNIX_EPOCH, "{task:?}");
        let calls = system.calls();
        let last = |name| move |calls: &[&str]| calls.iter().rposition(|call| *call == name);
        // When the run returns to the folder to set its time, and before it has changed anything.
        let set = last("set_times")(&calls).unwrap();
        let back = last("open_folder")(&calls[..set]).unwrap();
        for at in [planned, back] {
            let (_trees, folders, request) = prepared(task);
            let nth = AtomicUsize::new(0);
            let system = Tampered::before_each(|_| {
                if nth.fetch_add(1, Ordering::Relaxed) == at {
                    // Changes within one tick of the clock cannot be told apart.
                    std::thread::sleep(std::time::Duration::from_millis(20));
                    fs::write(folders[side].join("somebody's"), "").unwrap();
                }
            });
            let session = Session::open(&system, &request).unwrap();
            let plan = session.plan(&NoObserver).unwrap();
            session.execute(&plan, &NoObserver);
            let calls = system.calls();
            assert_ne!(time(&folders[side]), UNIX_EPOCH, "{task:?}, {:?}", &calls[at..]);
        }
    }
}

#[test]
fn where_a_rename_may_replace_new_entries_are_not_overwritten() {
    let trees = Trees::new();
    let drive = match MountedDrive::make(DriveKind::ExFat, trees.base.path()) {
        Ok(drive) => drive,
        Err(reason) => return utter_echo_lab::left_out(reason),
    };
    // Each try has a folder of its own: a removed file stays under a hidden name while a process has it open.
    let loft_of = |try_number: &str| {
        let loft = drive.folder().join(try_number);
        fs::create_dir(&loft).unwrap();
        loft
    };
    let calls = |loft: &Path, happens: &(dyn Fn(usize) + Sync)| {
        let nth = AtomicUsize::new(0);
        let system = Tampered::before_each(|_| happens(nth.fetch_add(1, Ordering::Relaxed)));
        let places = Places::new(vec![trees.source.clone()], loft.to_owned());
        let mut request = Request::new(Task::Copy, places);
        request.running.workers = Workers::Fixed(1);
        let session = Session::open(&system, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let planned = system.calls().len();
        session.execute(&plan, &NoObserver);
        planned..system.calls().len()
    };
    fs::write(trees.source.join("logbook"), "Monday: fog").unwrap();
    fs::create_dir(trees.source.join("plans")).unwrap();
    let (mut appeared, mut came) = (0, 0);
    for at in calls(&loft_of("first"), &|_| {}) {
        let loft = loft_of(&at.to_string());
        let made = AtomicBool::new(false);
        let own = loft.join("logbook");
        calls(&loft, &|nth| {
            let file = (nth == at).then(|| fs::File::create_new(&own).ok()).flatten();
            if let Some(mut file) = file {
                file.write_all(b"somebody's own").unwrap();
                made.store(true, Ordering::Relaxed);
            }
        });
        let text = fs::read_to_string(&own).unwrap();
        if made.into_inner() {
            appeared += 1;
            assert_eq!(text, "somebody's own", "it appeared at call {at}");
        } else {
            came += usize::from(text == "Monday: fog");
        }
        assert!(loft.join("plans").is_dir(), "call {at}");
    }
    assert!(appeared > 10 && came > 10, "{appeared} {came}");
}
