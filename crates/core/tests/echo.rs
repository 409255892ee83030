//! Guarantee: after a mirror without problems both sides are identical in everything that is carried, and a second
//! plan is empty. Planning changes nothing, and the steps are the same for any number of workers.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use crate::common::{Trees, plan_of, request};
use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::os::Linux;
use utter_echo_core::request::{CompareBy, Task, Workers};
use utter_echo_lab::{Gardener, differences, snapshot};

fn assert_same(trees: &Trees, seed: u64) {
    let differences = differences(&snapshot(&trees.source), &snapshot(&trees.destination));
    assert!(differences.is_empty(), "seed {seed}, source left, destination right:\n{differences}");
}

/// Mirrors, and checks all that this file guarantees.
fn mirror_and_check(trees: &Trees, seed: u64, workers: usize) {
    let mut request = request(trees, Task::Mirror);
    request.running.workers = Workers::Fixed(workers);
    let before = snapshot(&trees.destination);
    let plan = plan_of(&Linux, &request);
    assert!(plan.problems.is_empty(), "seed {seed}: {:?}", plan.problems);
    assert_eq!(before, snapshot(&trees.destination), "seed {seed}: planning changed something");
    let outcome = crate::common::apply(&Linux, &request);
    assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
    assert_same(trees, seed);
    let again: Vec<_> = crate::common::listed(&plan_of(&Linux, &request));
    assert!(again.is_empty(), "seed {seed}: planned again: {again:#?}");
    request.changed.by = CompareBy::Content;
    request.task = Task::Verify;
    let found = crate::common::listed(&plan_of(&Linux, &request));
    assert!(found.is_empty(), "seed {seed}: verify found {found:#?}");
}

#[test]
fn a_mirror_makes_both_sides_identical() {
    for seed in 0..60 {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 60);
        mirror_and_check(&trees, seed, 1);
        for round in 1..=3 {
            Gardener::new(seed * 7 + round).change(&trees.source, 12);
            mirror_and_check(&trees, seed, 2);
        }
    }
}

#[test]
fn a_mirror_onto_another_tree_makes_both_sides_identical() {
    for seed in 100..160 {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 40);
        // It is made second, so that it is newer: otherwise change times would show that the source is the newer
        // side.
        Gardener::new(seed + 1000).grow(&trees.destination, 40);
        let mut request = request(&trees, Task::Mirror);
        request.changed.by = CompareBy::Content;
        let outcome = crate::common::apply(&Linux, &request);
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        assert_same(&trees, seed);
        assert!(crate::common::listed(&plan_of(&Linux, &request)).is_empty(), "seed {seed}");
    }
}

#[test]
fn the_plan_does_not_depend_on_the_number_of_workers() {
    for seed in 200..220 {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 80);
        Gardener::new(seed + 1).grow(&trees.destination, 80);
        let listed = [1, 2, 16].map(|workers| {
            let mut request = request(&trees, Task::Mirror);
            request.running.workers = Workers::Fixed(workers);
            crate::common::listed(&plan_of(&Linux, &request))
        });
        assert!(listed[0].len() > 10, "seed {seed} makes too small a plan to tell");
        assert_eq!(listed[0], listed[1], "seed {seed}");
        assert_eq!(listed[0], listed[2], "seed {seed}");
        let mut paths: Vec<_> = listed[0].iter().map(|(_, path)| path.clone()).collect();
        let listed_order = paths.clone();
        paths.sort();
        assert_eq!(listed_order, paths, "seed {seed}: not in tree order");
    }
}

#[test]
fn leaving_an_attribute_out_leaves_it_alone() {
    use Attribute::{Acl, Flags, Mode, Owner, Times, Xattr};
    for (seed, attribute) in (300..).zip([Times, Mode, Owner, Acl, Xattr, Flags]) {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 60);
        crate::common::apply(&Linux, &request(&trees, Task::Mirror));
        Gardener::new(seed + 50).change(&trees.source, 40);
        let old = snapshot(&trees.destination);
        let mut request = request(&trees, Task::Mirror);
        request.carry = Attributes::ALL.without(attribute);
        let outcome = crate::common::apply(&Linux, &request);
        assert!(outcome.problems.is_empty(), "{attribute:?}: {:?}", outcome.problems);
        assert!(
            crate::common::listed(&plan_of(&Linux, &request)).is_empty(),
            "{attribute:?}: planned again"
        );
        let (source, destination) = (snapshot(&trees.source), snapshot(&trees.destination));
        for (path, there) in &destination {
            let here = &source[path];
            let mut expected = here.clone();
            // A name that becomes a hard link takes on the attributes of that file.
            let kept = old
                .get(path)
                .filter(|old| old.mode >> 12 == here.mode >> 12 && there.same_as.is_none());
            crate::common::leave(&mut expected, there, kept, attribute);
            assert_eq!(*there, expected, "{attribute:?} at {:?}", String::from_utf8_lossy(path));
        }
        assert_eq!(source.len(), destination.len());
    }
}

#[test]
fn a_copy_removes_nothing() {
    for seed in 400..420 {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 40);
        Gardener::new(seed + 1000).grow(&trees.destination, 40);
        let before = snapshot(&trees.destination);
        let request = request(&trees, Task::Copy);
        crate::common::apply(&Linux, &request);
        let after = snapshot(&trees.destination);
        let source = snapshot(&trees.source);
        for (path, facts) in &before {
            let kept = after.contains_key(path);
            assert!(kept, "seed {seed}: {:?} is gone", String::from_utf8_lossy(path));
            if !source.contains_key(path) {
                assert_eq!(after[path].content, facts.content, "seed {seed}");
            }
        }
        let missing: Vec<_> = source.keys().filter(|path| !after.contains_key(*path)).collect();
        assert!(missing.is_empty(), "seed {seed}: {missing:?}");
    }
}
