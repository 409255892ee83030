//! Guarantee: a step touches only entries that are still as the plan saw them, on both sides, and nothing outside
//! the two roots is ever read, written or removed, whatever is exchanged for a link meanwhile.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::sync::atomic::{AtomicU32, Ordering};

use crate::common::{Trees, request};
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::request::Task;
use utter_echo_core::{Outcome, Session, StepOutcome};
use utter_echo_lab::{Tampered, snapshot};

fn prepare() -> Trees {
    let trees = Trees::new();
    for (path, content) in [
        ("source/lens/new.svg", "rings"),
        ("source/lens/changed.svg", "five rings"),
        ("source/tide.csv", "high"),
        ("destination/lens/changed.svg", "rings"),
        ("destination/lens/extra.svg", "ring"),
        ("destination/old/page.txt", "page"),
        ("outside/new.svg", "secret"),
        ("outside/extra.svg", "precious"),
        ("outside/page.txt", "precious"),
        ("outside/changed.svg", "precious"),
    ] {
        let path = trees.base.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }
    trees
}

/// Plans, lets something happen, applies; returns the outcome by path.
fn run_with(trees: &Trees, happens: impl Fn(&Path)) -> (Outcome, Vec<(String, StepOutcome)>) {
    let request = request(trees, Task::Mirror);
    let session = Session::open(&Linux, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let outside = trees.base.path().join("outside");
    let before = snapshot(&outside);
    happens(trees.base.path());
    let outcome = session.execute(&plan, &NoObserver);
    assert_eq!(before, snapshot(&outside), "something outside was touched");
    let steps = plan.steps().map(|placed| {
        let path = String::from_utf8(placed.path.as_bytes().to_vec()).unwrap();
        (path, outcome.of(placed.number))
    });
    let steps = steps.collect();
    (outcome, steps)
}

fn swap(base: &Path, folder: &str, link: &str) {
    fs::rename(base.join(folder), base.join("aside")).unwrap();
    symlink(base.join(link), base.join(folder)).unwrap();
}

/// What happens between plan and step, the steps that are then not done, and what must still exist.
#[allow(clippy::type_complexity, reason = "a table that is used once")]
const HAPPENINGS: [(&str, fn(&Path), &[&str], Option<(&str, &str)>); 9] = [
    (
        "a source file grows",
        |b| fs::write(b.join("source/lens/new.svg"), "more rings").unwrap(),
        &["lens/new.svg"],
        None,
    ),
    (
        "a source file goes",
        |b| fs::remove_file(b.join("source/tide.csv")).unwrap(),
        &["tide.csv"],
        None,
    ),
    (
        "a source file becomes a link",
        |b| {
            fs::remove_file(b.join("source/lens/new.svg")).unwrap();
            symlink("../../outside/new.svg", b.join("source/lens/new.svg")).unwrap();
        },
        &["lens/new.svg"],
        None,
    ),
    (
        "the new name appears",
        |b| fs::write(b.join("destination/tide.csv"), "mine").unwrap(),
        &["tide.csv"],
        Some(("tide.csv", "mine")),
    ),
    (
        "the old file is written to",
        |b| {
            fs::write(b.join("destination/lens/changed.svg"), "mine, now").unwrap();
        },
        &["lens/changed.svg"],
        Some(("lens/changed.svg", "mine, now")),
    ),
    (
        "what should go is written to",
        |b| {
            fs::write(b.join("destination/lens/extra.svg"), "precious now").unwrap();
        },
        &["lens/extra.svg"],
        Some(("lens/extra.svg", "precious now")),
    ),
    (
        "something is put into a folder that should go",
        |b| {
            fs::write(b.join("destination/old/late.txt"), "precious").unwrap();
        },
        &["old"],
        Some(("old/late.txt", "precious")),
    ),
    (
        "a source folder becomes a link",
        |b| swap(b, "source/lens", "outside"),
        &["lens/new.svg", "lens/changed.svg"],
        None,
    ),
    (
        "a destination folder becomes a link",
        |b| swap(b, "destination/lens", "outside"),
        &["lens/new.svg", "lens/changed.svg", "lens/extra.svg"],
        None,
    ),
];

#[test]
fn stale_steps_are_reported_and_skipped_and_the_rest_is_done() {
    for (what, happens, undone, kept) in HAPPENINGS {
        let trees = prepare();
        let (outcome, steps) = run_with(&trees, happens);
        assert!(!outcome.problems.is_empty(), "{what}: not named");
        for (path, became) in steps {
            // The folder itself is adjusted for its times, if it can be.
            let expected_done = !undone.contains(&path.as_str());
            let done = became == StepOutcome::Done;
            assert!(done == expected_done || path == "lens", "{what}: {path} is {became:?}");
        }
        if let Some((path, content)) = kept {
            assert_eq!(
                fs::read_to_string(trees.destination.join(path)).unwrap(),
                content,
                "{what}"
            );
        }
    }
}

/// Copies one file that is written to before its n-th reading for as long as `restless` says.
fn copy_a_restless_file(restless: u32) -> (Outcome, String) {
    let trees = Trees::new();
    let page = trees.source.join("page.txt");
    fs::write(&page, "page 0").unwrap();
    let reads = AtomicU32::new(0);
    let system = Tampered::before_each(|call| {
        if call == "read_at" {
            let count = reads.fetch_add(1, Ordering::Relaxed);
            if count < restless {
                fs::write(&page, format!("page {}", count + 1)).unwrap();
            }
        }
    });
    let outcome = crate::common::apply(&system, &request(&trees, Task::Copy));
    (outcome, fs::read_to_string(trees.destination.join("page.txt")).unwrap_or_default())
}

#[test]
fn a_file_that_changes_while_it_is_read_is_read_again_and_then_reported() {
    let (outcome, content) = copy_a_restless_file(2);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    assert_eq!(content, "page 2");
    let (outcome, content) = copy_a_restless_file(u32::MAX);
    let cause = outcome.problems[0].cause.to_string();
    assert!(cause.contains("keeps changing while it is read"), "{cause}");
    assert_eq!(content, "", "half a truth was put in place");
}
