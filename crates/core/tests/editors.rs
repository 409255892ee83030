//! Guarantee: a program that saves over a file while it is moved loses nothing, whenever it does: its last version is in
//! the source, or it is the one that arrived. What a killed move was about to remove is under its name again after
//! the next, and nobody takes it for gone in between.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use utter_echo_core::Session;
use utter_echo_core::observe::Silent;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Verb, Verbs};
use utter_echo_core::problem::Cause;
use utter_echo_core::request::{Flush, Request, Task, Workers};
use utter_echo_files::exit_folder;
use utter_echo_lab::{Tampered, Tampering, snapshot};

use crate::common::{Trees, apply, plan_of};

fn request(trees: &Trees) -> Request {
    let mut request = crate::common::request(trees, Task::Move);
    request.running.flush = Flush::End;
    request.running.workers = Workers::Fixed(1);
    request.changed.steps = Verbs::ALL.without(Verb::Rename);
    request
}

/// A tree whose second name of a file goes with the first, or none does.
fn trees() -> Trees {
    let trees = Trees::in_memory();
    for name in ["lens.svg", "logbook", "tide.csv"] {
        fs::write(trees.source.join(name), format!("the {name}")).unwrap();
    }
    fs::hard_link(trees.source.join("tide.csv"), trees.source.join("tide 2.csv")).unwrap();
    trees
}

/// As editors do: beside, and then renamed over the old one. False if its folder is gone by then.
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
            let has_it = |side: &std::path::PathBuf| {
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
fn what_a_killed_move_left_on_its_way_is_named_by_all_and_put_back_by_the_next_move() {
    let calls = Tampered::new(Tampering::Nothing);
    apply(&calls, &request(&trees()));
    let mut left = 0;
    for at in 0..calls.calls().len() {
        let trees = trees();
        let system = Tampered::new(Tampering::KillAt(at));
        if let Ok(session) = Session::open(&system, &request(&trees))
            && let Ok(plan) = session.plan(&Silent)
        {
            session.execute(&plan, &Silent);
        }
        let exit = trees.source.join(String::from_utf8(exit_folder::name()).unwrap());
        if fs::read_dir(&exit).is_ok_and(|mut inside| inside.next().is_some()) {
            left += 1;
            // The destination has what the source seems to lack.
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
fn what_is_put_back_never_takes_the_place_of_what_is_there_by_now() {
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
