//! Guarantee: a plan that was saved and read back does what the plan itself would do; a plan with any change is
//! refused as a whole; stale steps are reported before the first step; and no plan leads out of its roots.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;

use crate::common::{Trees, listed, plan_of, request};
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::path::TreePath;
use utter_echo_core::plan::Plan;
use utter_echo_core::problem::Problem;
use utter_echo_core::request::{Request, Task};
use utter_echo_core::{Session, saved};
use utter_echo_lab::{Gardener, differences, snapshot};

fn grown(seed: u64) -> (Trees, Request) {
    let trees = Trees::new();
    Gardener::new(seed).grow(&trees.source, 60);
    Gardener::new(seed + 500).grow(&trees.destination, 40);
    let request = request(&trees, Task::Mirror);
    (trees, request)
}

fn written(plan: &Plan, request: &Request) -> Vec<u8> {
    let mut bytes = Vec::new();
    saved::write(plan, request, &mut bytes).unwrap();
    bytes
}

#[test]
fn a_saved_plan_does_what_the_plan_would() {
    for seed in 600..630 {
        let (trees, request) = grown(seed);
        let plan = plan_of(&Linux, &request);
        let bytes = written(&plan, &request);
        let (purpose, read) = saved::read(&*bytes).unwrap();
        assert_eq!(purpose.places.destination, trees.destination);
        let session = Session::open(&Linux, &request).unwrap();
        let read = session.adopt(read).unwrap();
        assert_eq!(listed(&read), listed(&plan), "seed {seed}");
        assert_eq!(read.totals, plan.totals, "seed {seed}");
        assert_eq!(written(&read, &request), bytes, "seed {seed}: written again it is another");
        assert!(session.stale(&read).is_empty(), "seed {seed}: {:?}", session.stale(&read));
        let outcome = session.execute(&read, &NoObserver);
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        let left = listed(&plan_of(&Linux, &request));
        assert!(left.is_empty(), "seed {seed}: {left:?}");
    }
}

#[test]
fn a_plan_that_was_changed_anywhere_is_refused() {
    let (_trees, request) = grown(640);
    let bytes = written(&plan_of(&Linux, &request), &request);
    let mut rng = fastrand::Rng::with_seed(9);
    for _ in 0..500 {
        let mut changed = bytes.clone();
        let at = rng.usize(0..bytes.len());
        match rng.u8(0..3) {
            0 => changed[at] ^= 1 << rng.u8(0..8),
            1 => drop(changed.remove(at)),
            _ => changed.truncate(at),
        }
        // Only a missing last line feed may go unnoticed: it means nothing.
        let harmless = changed.len() + 1 == bytes.len() && bytes.starts_with(&changed);
        assert!(harmless || saved::read(&*changed).is_err(), "byte {at} was changed");
    }
    let doubled = [&bytes[..], &bytes[..]].concat();
    assert!(saved::read(&*doubled).is_err());
}

#[test]
fn names_that_lead_elsewhere_are_refused_whatever_the_digest_says() {
    let trees = Trees::new();
    fs::write(trees.source.join("ledger"), "debts").unwrap();
    let request = request(&trees, Task::Mirror);
    let text = String::from_utf8(written(&plan_of(&Linux, &request), &request)).unwrap();
    for name in ["../ledger", "..", "", ".", "a/b", "/ledger", "a\\u0000b"] {
        let lines: Vec<_> = text.lines().collect();
        let body = lines[..lines.len() - 1].join("\n") + "\n";
        let body = body.replace("\"ledger\"", &format!("\"{name}\""));
        let reason = saved::read(sealed(&body).as_bytes()).unwrap_err().to_string();
        assert!(reason.contains("cannot be the name of an entry"), "{name}: {reason}");
    }
}

/// What somebody would write who knows the form.
fn sealed(body: &str) -> String {
    use sha2::Digest as _;
    let digest = sha2::Sha256::digest(body.as_bytes());
    let hex = digest.iter().map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().concat();
    let lines = body.lines().count();
    format!("{body}{{\"end\":{{\"lines\":{lines},\"sha256\":\"{hex}\"}}}}\n")
}

#[test]
fn stale_steps_of_a_saved_plan_are_reported_and_the_rest_is_done() {
    let mut any_overtaken = false;
    for seed in 650..660 {
        let (trees, request) = grown(seed);
        let bytes = written(&plan_of(&Linux, &request), &request);
        Gardener::new(seed + 1).change(&trees.source, 6);
        let session = Session::open(&Linux, &request).unwrap();
        let plan = session.adopt(saved::read(&*bytes).unwrap().1).unwrap();
        let overtaken = session.stale(&plan);
        let outcome = session.execute(&plan, &NoObserver);
        // Each is refused, by itself or with a folder above it, and nothing else is.
        let is_in = |path: &TreePath, problems: &[Problem]| {
            problems.iter().any(|problem| {
                let above = problem.path.as_bytes();
                path == &problem.path || path.as_bytes().starts_with(&[above, b"/"].concat())
            })
        };
        for Problem { path, .. } in &overtaken {
            assert!(is_in(path, &outcome.problems), "seed {seed}: {path:?} was not refused");
        }
        any_overtaken |= !overtaken.is_empty();
        // Whatever was refused or came too late for the plan, the next run does.
        crate::common::apply(&Linux, &request);
        let left = differences(&snapshot(&trees.source), &snapshot(&trees.destination));
        assert!(left.is_empty(), "seed {seed}: {left}");
    }
    assert!(any_overtaken, "nothing overtaken in any of the trees");
}

#[test]
fn entries_that_the_source_has_meanwhile_are_not_removed() {
    let trees = Trees::new();
    fs::write(trees.destination.join("ledger"), "debts").unwrap();
    let request = request(&trees, Task::Mirror);
    let session = Session::open(&Linux, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    fs::write(trees.source.join("ledger"), "debts").unwrap();
    assert_eq!(session.stale(&plan).len(), 1);
    let outcome = session.execute(&plan, &NoObserver);
    assert!(outcome.problems.iter().all(|problem| problem.cause.is_stale()));
    assert_eq!(outcome.problems.len(), 1);
    assert!(trees.destination.join("ledger").exists());
}
