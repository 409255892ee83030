//! Guarantee: what the selection leaves out is neither copied nor removed, and what it includes is copied as if
//! nothing else existed.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::BTreeSet;

use crate::common::{Trees, apply, listed, plan_of, request};
use utter_echo_core::os::Linux;
use utter_echo_core::request::{CompareBy, Task};
use utter_echo_core::select::{PatternRules, Rules, Selection, Span};
use utter_echo_lab::{Gardener, Snapshot, snapshot};

fn rules(exclude: &[&str], only: &[&str]) -> Selection {
    let own = |list: &[&str]| list.iter().map(|p| (*p).to_owned()).collect();
    let rules = Rules {
        patterns: PatternRules {
            exclude: own(exclude),
            only: own(only),
            ..PatternRules::default()
        },
        ..Rules::default()
    };
    Selection::new(&rules).unwrap()
}

fn names(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    path.split(|b| *b == b'/')
}

fn is_folder(tree: &Snapshot, path: &[u8]) -> bool {
    tree.get(path).is_some_and(|facts| facts.mode >> 12 == 4)
}

/// The rules of the test below without patterns: everything named fog, all CSV files, and the content of folders
/// named lens.
fn is_left_out(tree: &Snapshot, path: &[u8]) -> bool {
    let mut at = Vec::new();
    names(path).any(|name| {
        at.extend_from_slice(if at.is_empty() { b"" } else { b"/" });
        at.extend_from_slice(name);
        name == b"fog" || name.ends_with(b".csv") || (name == b"lens" && is_folder(tree, &at))
    })
}

#[test]
fn excluded_entries_are_neither_copied_nor_removed() {
    for seed in 0..40 {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 60);
        Gardener::new(seed + 900).grow(&trees.destination, 60);
        let mut request = request(&trees, Task::Mirror);
        request.selection = rules(&["fog", "*.csv", "lens/"], &[]);
        request.changed.by = CompareBy::Content;
        let (source, before) = (snapshot(&trees.source), snapshot(&trees.destination));
        apply(&Linux, &request);
        let after = snapshot(&trees.destination);
        for (path, facts) in before.iter().filter(|(path, _)| is_left_out(&before, path)) {
            let kept = &after[path];
            assert_eq!((kept.mode, &kept.content), (facts.mode, &facts.content), "seed {seed}");
        }
        for path in after.keys().filter(|path| is_left_out(&after, path)) {
            assert!(before.contains_key(path), "seed {seed}: {:?}", String::from_utf8_lossy(path));
        }
        // What the source has and what it takes must be there, unless something that is left out
        // stands in its place or above it.
        let hidden: BTreeSet<_> = before.keys().filter(|p| is_left_out(&before, p)).collect();
        for (path, facts) in source.iter().filter(|(path, _)| !is_left_out(&source, path)) {
            let in_the_way = hidden.iter().any(|h| h.starts_with(path) || path.starts_with(h));
            let there = after.get(path).map(|there| (there.mode, &there.content));
            assert!(in_the_way || there == Some((facts.mode, &facts.content)), "seed {seed}");
        }
        // Conflicts stay problems; everything else is settled.
        let again = plan_of(&Linux, &request);
        assert!(listed(&again).is_empty(), "seed {seed}: {:?}", listed(&again));
    }
}

#[test]
fn only_takes_what_matches_and_the_folders_needed_to_hold_it() {
    for seed in 0..40 {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 60);
        let mut request = request(&trees, Task::Copy);
        request.selection = rules(&[], &["*.csv"]);
        apply(&Linux, &request);
        let source = snapshot(&trees.source);
        let takes = |path: &[u8]| names(path).any(|name| name.ends_with(b".csv"));
        let taken: Vec<_> = source.keys().filter(|path| takes(path)).collect();
        let needed = |path: &[u8]| {
            let within = [path, b"/"].concat();
            path.is_empty() || taken.iter().any(|t| t.as_slice() == path || t.starts_with(&within))
        };
        let expected: Vec<_> = source.keys().filter(|path| needed(path)).collect();
        let destination = snapshot(&trees.destination);
        assert_eq!(destination.keys().collect::<Vec<_>>(), expected, "seed {seed}");
    }
}

#[test]
fn size_rules_go_by_the_source_and_leave_others_alone() {
    let is_folder = |facts: &utter_echo_lab::Facts| facts.mode >> 12 == 4;
    for seed in 40..80 {
        let trees = Trees::new();
        Gardener::new(seed).grow(&trees.source, 60);
        Gardener::new(seed + u64::from(seed % 2 == 0)).grow(&trees.destination, 60);
        let mut request = request(&trees, Task::Mirror);
        let size = Span { from: Some(500), to: Some(20_000) };
        request.selection = Selection::new(&Rules { size, ..Rules::default() }).unwrap();
        request.changed.by = CompareBy::Content;
        let (source, before) = (snapshot(&trees.source), snapshot(&trees.destination));
        let taken = |facts: &utter_echo_lab::Facts| (500..=20_000).contains(&facts.size);
        apply(&Linux, &request);
        let after = snapshot(&trees.destination);
        let (mut stayed, mut gone) = (0, 0);
        for (path, there) in before.iter().filter(|(_, facts)| !is_folder(facts)) {
            let decides = source.get(path).unwrap_or(there);
            if is_folder(decides) {
                continue;
            }
            let now = after.get(path).map(|now| (now.mode, &now.content));
            if !taken(decides) {
                assert_eq!(now, Some((there.mode, &there.content)), "seed {seed}: {path:?}");
                stayed += 1;
            } else if !source.contains_key(path) {
                // What is extra and taken goes, unless it lies where something else could not.
                gone += u32::from(now.is_none());
            }
        }
        assert!(
            stayed > 0 && (gone > 0 || seed % 2 == 1),
            "seed {seed}: {stayed} stayed, {gone} went"
        );
        let again = plan_of(&Linux, &request);
        assert!(listed(&again).is_empty(), "seed {seed}: {:?}", listed(&again));
    }
}
