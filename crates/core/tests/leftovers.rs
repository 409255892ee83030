//! Guarantee: the next run, be it copy or mirror, clears what a killed run left behind, in ordinary steps. A user's
//! own entry that only looks like a leftover is never taken for one.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::ffi::OsStr;
use std::fs;
use std::os::fd::AsFd as _;
use std::os::unix::ffi::OsStrExt as _;

use crate::common::{Trees, apply, listed, plan_of, request};
use utter_echo_core::Session;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::{Linux, System as _};
use utter_echo_core::plan::{Note, Reason, Verb, Verbs};
use utter_echo_core::problem::Cause;
use utter_echo_core::request::{Flush, Task, Workers};
use utter_echo_files::{dirty_marker, hidden_names};
use utter_echo_lab::{Tampered, Tampering, snapshot};

fn prepare() -> Trees {
    let trees = Trees::new();
    fs::create_dir_all(trees.source.join("lens/rings")).unwrap();
    for name in ["lens/a.svg", "lens/b.svg", "lens/rings/c.svg", "tide.csv"] {
        fs::write(trees.source.join(name), name).unwrap();
    }
    fs::write(trees.destination.join("tide.csv"), "an older tide table").unwrap();
    trees
}

/// Kills a run at each of its calls, and keeps the trees that hold leftovers.
fn killed_runs() -> Vec<Trees> {
    let mut with_leftovers = Vec::new();
    for at in 0.. {
        let trees = prepare();
        let mut request = request(&trees, Task::Copy);
        request.running.workers = Workers::Fixed(1);
        let system = Tampered::new(Tampering::KillAt(at));
        if let Ok(session) = Session::open(&system, &request)
            && let Ok(plan) = session.plan(&NoObserver)
        {
            session.execute(&plan, &NoObserver);
        }
        if system.calls().len() <= at {
            return with_leftovers;
        }
        let left =
            |path: &Vec<u8>| path.split(|b| *b == b'/').any(|name| name.starts_with(b".utter-"));
        if snapshot(&trees.destination).keys().any(left) {
            with_leftovers.push(trees);
        }
    }
    with_leftovers
}

#[test]
fn leftovers_are_cleared_as_planned_steps_by_copy_and_by_mirror() {
    let trees = killed_runs();
    assert!(trees.len() > 10, "too few runs left something to tell");
    for (i, trees) in trees.iter().enumerate() {
        let task = if i % 2 == 0 { Task::Copy } else { Task::Mirror };
        let plan = plan_of(&Linux, &request(trees, task));
        let cleared = plan.steps().filter(|placed| placed.step.reason == Reason::Leftover).count();
        assert!(cleared > 0 && plan.totals.leftovers == cleared as u64);
        apply(&Linux, &request(trees, task));
        let (source, echo) = (snapshot(&trees.source), snapshot(&trees.destination));
        assert_eq!(source.keys().collect::<Vec<_>>(), echo.keys().collect::<Vec<_>>());
        assert!(listed(&plan_of(&Linux, &request(trees, task))).is_empty());
    }
}

#[test]
fn an_entry_that_only_looks_similar_stays() {
    let trees = prepare();
    let own = [".utter-", ".utter-0123456789abcdef", ".utter-notes.txt", ".utter-00000000deadbeef"];
    for name in own {
        fs::write(trees.destination.join(name), "mine").unwrap();
    }
    fs::create_dir(trees.destination.join(".utter-fedcba9876543210")).unwrap();
    let steps = listed(&plan_of(&Linux, &request(&trees, Task::Copy)));
    assert!(steps.iter().all(|(verb, _)| *verb != Verb::Remove), "{steps:?}");
    apply(&Linux, &request(&trees, Task::Copy));
    for name in own {
        assert_eq!(fs::read_to_string(trees.destination.join(name)).unwrap(), "mine");
    }
}

#[test]
fn a_dirty_marker_in_the_source_is_not_copied_and_is_reported() {
    for task in [Task::Copy, Task::Mirror, Task::Move] {
        let trees = prepare();
        let folder = fs::File::open(trees.source.join("lens")).unwrap();
        dirty_marker::set(&Linux, folder.as_fd());
        let mut request = request(&trees, task);
        request.running.flush = Flush::End;
        // A folder that is renamed as a whole takes its marker along.
        request.changed.steps = Verbs::ALL.without(Verb::Rename);
        fs::remove_file(trees.destination.join("tide.csv")).unwrap();
        let plan = plan_of(&Linux, &request);
        let named = Note::UnfinishedSource(b"lens".as_slice().into());
        assert!(plan.notes.contains(&named), "{task:?}: {:?}", plan.notes);
        let outcome = apply(&Linux, &request);
        assert!(outcome.problems.is_empty(), "{task:?}: {:?}", outcome.problems);
        let echo = snapshot(&trees.destination);
        assert!(echo.contains_key(b"lens/rings/c.svg".as_slice()));
        assert!(!echo.keys().any(|path| path.starts_with(b"lens/.utter-")), "{task:?}");
        // Also with any later run.
        let again = plan_of(&Linux, &request);
        assert!(again.is_empty() && again.problems.is_empty(), "{task:?}: {:?}", listed(&again));
    }
}

#[test]
fn dirty_markers_of_earlier_runs_are_cleared_though_a_move_leaves_conflicts() {
    let trees = prepare();
    let folder = fs::File::open(&trees.destination).unwrap();
    dirty_marker::set(&Linux, folder.as_fd());
    let mut request = request(&trees, Task::Move);
    request.running.flush = Flush::End;
    request.changed.steps = Verbs::ALL;
    let outcome = apply(&Linux, &request);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    let plan = plan_of(&Linux, &request);
    assert!(plan.problems.iter().any(|problem| matches!(problem.cause, Cause::NameTaken)));
    assert!(!fs::exists(trees.destination.join(marker())).unwrap());
}

fn marker() -> String {
    String::from_utf8(dirty_marker::name()).unwrap()
}

#[test]
fn a_large_file_of_another_process_under_the_same_name_is_left_alone() {
    let trees = Trees::new();
    let content = vec![7; 9 << 20];
    fs::write(trees.source.join("season.wav"), &content).unwrap();
    let request = request(&trees, Task::Copy);
    let plan = plan_of(&Linux, &request);
    let source = plan.steps().find_map(|placed| placed.step.source).unwrap();
    let name = hidden_names::name_of_large_file(b"season.wav", source.fingerprint());
    let path = trees.destination.join(OsStr::from_bytes(&name));
    fs::write(&path, "theirs").unwrap();
    let held = fs::File::options().write(true).open(&path).unwrap();
    let lock = Linux.lock_file(held.as_fd()).unwrap();
    let session = Session::open(&Linux, &request).unwrap();
    let outcome = session.execute(&plan, &NoObserver);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    assert!(fs::read(trees.destination.join("season.wav")).unwrap() == content);
    assert_eq!(fs::read_to_string(&path).unwrap(), "theirs");
    drop(lock);
}
