//! Guarantee: what was only moved in the source is renamed in the destination without writing content; what only
//! looks the same is copied; and a run with renames has the same result as one without.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::path::Path;

use crate::common::{Trees, apply, listed, plan_of, request};
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::{Linux, System};
use utter_echo_core::plan::Verb;
use utter_echo_core::plan::Verbs;
use utter_echo_core::request::{Keeping, Request, SetAside, Task};
use utter_echo_core::{PastRun, Session};
use utter_echo_lab::{Gardener, Tampered, Tampering, differences, snapshot};

fn renaming(trees: &Trees) -> Request {
    let mut request = request(trees, Task::Mirror);
    request.changed.steps = Verbs::ALL;
    request
}

fn assert_echo(trees: &Trees, when: &str) {
    let there = crate::common::with_groups_within(snapshot(&trees.destination));
    let left = differences(&snapshot(&trees.source), &there);
    assert!(left.is_empty(), "{when}: {left}");
}

/// Folders of the tree, without the root, the highest first.
fn folders(root: &Path) -> Vec<std::path::PathBuf> {
    let mut found = vec![root.to_path_buf()];
    let mut at = 0;
    while at < found.len() {
        let entries = fs::read_dir(&found[at]).unwrap().map(|entry| entry.unwrap());
        let below = entries.filter(|entry| entry.file_type().unwrap().is_dir());
        let mut below: Vec<_> = below.map(|entry| entry.path()).collect();
        below.sort();
        found.extend(below);
        at += 1;
    }
    found.remove(0);
    found
}

#[test]
fn after_any_renames_the_destination_is_identical_and_the_run_can_be_undone() {
    let (mut renames, mut renamed_folders) = (0, 0);
    for seed in 900..940 {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 60);
        apply(&Linux, &request(&trees, Task::Mirror));
        // Folders and files change places; then other things change as well.
        let mut rng = fastrand::Rng::with_seed(seed);
        for round in 0..6 {
            let all = folders(&trees.source);
            if all.len() < 2 {
                break;
            }
            let (from, to) = (&all[rng.usize(0..all.len())], &all[rng.usize(0..all.len())]);
            if !to.starts_with(from) {
                // Locked ones stay where they are.
                let _ = fs::rename(from, to.join(format!("moved {round}")));
            }
        }
        if seed.is_multiple_of(2) {
            Gardener::new(seed + 1).change(&trees.source, 8);
        }
        let old = snapshot(&trees.destination);
        let mut request = renaming(&trees);
        let folder = trees.base.path().join("aside");
        let run = "2026-11-23T14-05-09Z".into();
        request.safety.set_aside =
            Some(SetAside { folder, run, keep: None, what: Keeping::Displaced });
        let disks = Tampered::new(Tampering::Nothing).with_rotational_disks();
        let system: &dyn System = if seed % 3 == 0 { &disks } else { &Linux };
        let plan = plan_of(system, &request);
        for placed in plan.steps().filter(|placed| placed.step.verb == Verb::Rename) {
            renames += 1;
            renamed_folders += u32::from(placed.step.kind() == utter_echo_core::os::Kind::Folder);
        }
        let outcome = apply(system, &request);
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        assert_echo(&trees, &format!("seed {seed}"));
        assert!(listed(&plan_of(&Linux, &request)).is_empty(), "seed {seed}");
        let Some(path) = outcome.set_aside else { continue };
        let past = PastRun::open(&Linux, &path).unwrap();
        let undo = crate::common::request(&trees, Task::Undo);
        let session = Session::open_to_undo(&Linux, &undo, &past).unwrap();
        let plan = session.plan_to_undo().unwrap();
        assert!(session.stale(&plan).is_empty(), "seed {seed}: {:?}", session.stale(&plan));
        let outcome = session.execute(&plan, &NoObserver);
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        let left = differences(&old, &snapshot(&trees.destination));
        assert!(left.is_empty(), "seed {seed} taken back: {left}");
    }
    assert!(
        renames > 40 && renamed_folders > 15,
        "{renames} renames, {renamed_folders} of folders"
    );
}

#[test]
fn a_moved_folder_is_one_step_and_writes_nothing() {
    let trees = Trees::new();
    for i in 0..300 {
        let path = trees.source.join(format!("logbooks/{}/{i}.csv", i % 7));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, format!("day {i}")).unwrap();
    }
    // One file under three names, all of which move.
    for name in ["1/latest.csv", "latest.csv"] {
        fs::hard_link(
            trees.source.join("logbooks/3/3.csv"),
            trees.source.join("logbooks").join(name),
        )
        .unwrap();
    }
    apply(&Linux, &request(&trees, Task::Mirror));
    fs::create_dir(trees.source.join("archive")).unwrap();
    fs::rename(trees.source.join("logbooks"), trees.source.join("archive/logbooks of 1931"))
        .unwrap();
    let plan = plan_of(&Linux, &renaming(&trees));
    let steps: Vec<_> = plan.steps().map(|placed| (placed.step.verb, placed.path)).collect();
    let told: Vec<_> = steps
        .iter()
        .map(|(verb, path)| (*verb, String::from_utf8_lossy(path.as_bytes())))
        .collect();
    let expected = [
        (Verb::Adjust, "".into()),
        (Verb::Add, "archive".into()),
        (Verb::Rename, "archive/logbooks of 1931".into()),
    ];
    assert_eq!(told, expected);
    assert_eq!(plan.totals.unchanged.entries, 309);
    let outcome = apply(&Linux, &renaming(&trees));
    assert_eq!((outcome.bytes_written, outcome.problems.len()), (0, 0), "{:?}", outcome.problems);
    assert_echo(&trees, "moved");
}

#[test]
fn what_only_looks_the_same_is_copied() {
    let trees = Trees::new();
    let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_000_000_000);
    let write = |path: std::path::PathBuf, text: &str| {
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, text).unwrap();
        let file = fs::File::options().write(true).open(&path).unwrap();
        file.set_times(fs::FileTimes::new().set_modified(time)).unwrap();
    };
    // Of one size and time, other in one byte; alone, and deep in a folder of twenty.
    write(trees.source.join("new.wav"), "fog at dawn");
    write(trees.destination.join("old.wav"), "fog at dusk");
    for i in 0..20 {
        let last = if i == 13 { "dusk" } else { "dawn" };
        write(trees.source.join(format!("a/b/{i}")), "tide at dawn");
        write(trees.destination.join(format!("c/b/{i}")), &format!("tide at {last}"));
    }
    for folder in folders(&trees.source).into_iter().chain(folders(&trees.destination)) {
        let opened = fs::File::open(folder).unwrap();
        opened.set_times(fs::FileTimes::new().set_modified(time)).unwrap();
    }
    let plan = plan_of(&Linux, &renaming(&trees));
    let renamed: Vec<_> = plan.steps().filter(|placed| placed.step.verb == Verb::Rename).collect();
    // Nineteen of the twenty are the same, each by itself.
    assert_eq!(renamed.len(), 19, "{renamed:?}");
    assert!(renamed.iter().all(|placed| placed.path.as_bytes().starts_with(b"a/b/")));
    let outcome = apply(&Linux, &renaming(&trees));
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    assert_echo(&trees, "after");
}
