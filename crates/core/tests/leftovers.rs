//! Guarantee: what a killed run left behind is cleared by the next one, whichever of copy and
//! mirror that is, as steps like any other; and a user's own entry that only looks alike is never
//! taken for it.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;

use crate::common::{Trees, apply, listed, plan_of, request};
use utter_echo_core::Session;
use utter_echo_core::observe::Silent;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Reason, Verb};
use utter_echo_core::request::{Task, Workers};
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

/// Kills a run at each of its calls and keeps the trees in which something was left behind.
fn killed_runs() -> Vec<Trees> {
    let mut with_leftovers = Vec::new();
    for at in 0.. {
        let trees = prepare();
        let mut request = request(&trees, Task::Copy);
        request.running.workers = Workers::Fixed(1);
        let system = Tampered::new(Tampering::KillAt(at));
        if let Ok(session) = Session::open(&system, &request)
            && let Ok(plan) = session.plan(&Silent)
        {
            session.execute(&plan, &Silent);
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
fn an_entry_that_only_looks_alike_stays() {
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
