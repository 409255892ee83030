//! Guarantee: hard links in the source become hard links in the destination, however their groups grow, shrink,
//! split or join, and no file is changed through a name outside the selection.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;

use crate::common::{Trees, apply, listed, plan_of, request};
use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::os::Linux;
use utter_echo_core::plan::Verb;
use utter_echo_core::request::Task;
use utter_echo_core::select::PatternRules;
use utter_echo_lab::{differences, snapshot};

fn write(root: &Path, name: &str, content: &str) {
    fs::create_dir_all(root.join(name).parent().unwrap()).unwrap();
    fs::write(root.join(name), content).unwrap();
}

fn link(root: &Path, from: &str, name: &str) {
    fs::create_dir_all(root.join(name).parent().unwrap()).unwrap();
    let _ = fs::remove_file(root.join(name));
    fs::hard_link(root.join(from), root.join(name)).unwrap();
}

fn inode(root: &Path, name: &str) -> u64 {
    fs::metadata(root.join(name)).unwrap().ino()
}

/// A source with a group of three, a pair and a single file, mirrored already.
fn prepare() -> Trees {
    let trees = Trees::new();
    write(&trees.source, "log/1923.csv", "fog");
    link(&trees.source, "log/1923.csv", "latest.csv");
    link(&trees.source, "log/1923.csv", "shop/copy.csv");
    write(&trees.source, "lens/a.svg", "ring");
    link(&trees.source, "lens/a.svg", "lens/b.svg");
    write(&trees.source, "single.txt", "one");
    mirror(&trees, "at first");
    trees
}

fn mirror(trees: &Trees, when: &str) {
    let outcome = apply(&Linux, &request(trees, Task::Mirror));
    assert!(outcome.problems.is_empty(), "{when}: {:?}", outcome.problems);
    let differences = differences(&snapshot(&trees.source), &snapshot(&trees.destination));
    assert!(differences.is_empty(), "{when}: {differences}");
    let again = listed(&plan_of(&Linux, &request(trees, Task::Mirror)));
    assert!(again.is_empty(), "{when}: {again:?}");
}

#[test]
fn groups_follow_the_source_when_they_grow_shrink_split_and_join() {
    type Change = fn(&Path);
    let changes: [(&str, Change); 6] = [
        ("grows", |s| link(s, "latest.csv", "shop/second.csv")),
        ("shrinks", |s| fs::remove_file(s.join("log/1923.csv")).unwrap()),
        ("splits", |s| {
            fs::remove_file(s.join("shop/copy.csv")).unwrap();
            write(s, "shop/copy.csv", "fog");
        }),
        ("joins", |s| link(s, "latest.csv", "single.txt")),
        ("swaps", |s| {
            link(s, "lens/a.svg", "shop/copy.csv");
            link(s, "latest.csv", "lens/b.svg");
        }),
        ("goes", |s| fs::remove_dir_all(s.join("log")).unwrap()),
    ];
    for (what, change) in changes {
        let trees = prepare();
        change(&trees.source);
        mirror(&trees, what);
    }
}

#[test]
fn new_content_is_written_once_for_all_names() {
    let trees = prepare();
    write(&trees.source, "latest.csv", "fog, lifting");
    let plan = plan_of(&Linux, &request(&trees, Task::Mirror));
    assert_eq!(plan.totals.steps.replace.entries, 3);
    assert_eq!(plan.bytes_to_write(), 12, "the content of one name and no more");
    mirror(&trees, "with new content");
}

#[test]
fn a_name_outside_the_tree_is_not_changed_with_one_inside() {
    let trees = prepare();
    let outside = trees.base.path().join("precious.txt");
    fs::hard_link(trees.destination.join("single.txt"), &outside).unwrap();
    fs::set_permissions(&outside, fs::Permissions::from_mode(0o600)).unwrap();
    fs::set_permissions(trees.source.join("single.txt"), fs::Permissions::from_mode(0o666))
        .unwrap();
    let before = fs::metadata(&outside).unwrap();
    mirror(&trees, "with a name outside");
    let after = fs::metadata(&outside).unwrap();
    assert_eq!((before.mode(), before.ino()), (after.mode(), after.ino()));
    assert_ne!(inode(&trees.destination, "single.txt"), after.ino());
}

#[test]
fn without_hardlinks_each_name_is_a_file_and_existing_links_stay() {
    let trees = prepare();
    let carry = Attributes::ALL.without(Attribute::Hardlinks);
    let mut request = request(&trees, Task::Mirror);
    request.carry = carry;
    assert!(listed(&plan_of(&Linux, &request)).is_empty(), "links that are there are left alone");
    link(&trees.source, "latest.csv", "shop/second.csv");
    let steps = listed(&plan_of(&Linux, &request));
    assert!(
        steps
            .iter()
            .any(|(verb, path)| { *verb == Verb::Add && path.as_bytes() == b"shop/second.csv" })
    );
    apply(&Linux, &request);
    let destination = &trees.destination;
    assert_ne!(inode(destination, "shop/second.csv"), inode(destination, "latest.csv"));
    assert_eq!(inode(destination, "shop/copy.csv"), inode(destination, "latest.csv"));
}

#[test]
fn a_group_of_which_only_a_part_is_taken_is_kept_as_far_as_it_is() {
    let trees = Trees::new();
    write(&trees.source, "log/1923.csv", "fog");
    link(&trees.source, "log/1923.csv", "latest.csv");
    link(&trees.source, "log/1923.csv", "left-out.tmp");
    let mut request = request(&trees, Task::Mirror);
    let rules = utter_echo_core::select::Rules {
        patterns: PatternRules { exclude: vec!["*.tmp".into()], ..PatternRules::default() },
        ..Default::default()
    };
    request.selection = utter_echo_core::select::Selection::new(&rules).unwrap();
    apply(&Linux, &request);
    let destination = &trees.destination;
    assert_eq!(inode(destination, "log/1923.csv"), inode(destination, "latest.csv"));
    assert_eq!(fs::metadata(destination.join("latest.csv")).unwrap().nlink(), 2);
    assert!(listed(&plan_of(&Linux, &request)).is_empty());
}
