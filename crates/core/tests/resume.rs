//! Guarantee: an interrupted copy of a large file continues where it stopped, but never from another state of the
//! source, never after a part that differs from the source, and never into another user's file.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use crate::common::{Trees, apply, plan_of, request};
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Request, Task};
use utter_echo_lab::{Tampered, Tampering, snapshot};

/// What one call writes of a large file.
const STRETCH: u64 = 8 << 20;
const SIZE: u64 = 5 * STRETCH;

/// A copy of one large file, killed when it is to write the third stretch. `None` where the drive
/// shares content, so that there is nothing to interrupt.
fn interrupted() -> Option<(Trees, Request, PathBuf)> {
    let trees = Trees::new();
    let mut bytes = vec![0; usize::try_from(SIZE).unwrap()];
    fastrand::Rng::with_seed(7).fill(&mut bytes);
    fs::write(trees.source.join("season.wav"), &bytes).unwrap();
    let request = request(&trees, Task::Mirror);
    let count = Tampered::new(Tampering::Nothing);
    let other = Trees::new();
    let mut elsewhere = crate::common::request(&trees, Task::Mirror);
    elsewhere.places.destination.clone_from(&other.destination);
    apply(&count, &elsewhere);
    let calls = count.calls();
    let mut copies = calls.iter().enumerate().filter(|(_, name)| **name == "copy_range");
    let (third, _) = copies.nth(2)?;
    apply(&Tampered::new(Tampering::KillAt(third)), &request);
    let left = left_behind(&trees);
    assert_eq!(left.len(), 1, "{left:?}");
    Some((trees, request, left[0].clone()))
}

fn nothing_to_interrupt() {
    utter_echo_lab::left_out("the drive of the temporary folder shares content");
}

fn left_behind(trees: &Trees) -> Vec<PathBuf> {
    let entries = fs::read_dir(&trees.destination).unwrap().map(|entry| entry.unwrap().path());
    let named = |path: &PathBuf| path.file_name().unwrap().to_string_lossy().starts_with(".utter-");
    entries.filter(named).collect()
}

/// Runs again; returns how many bytes that wrote.
fn go_on(trees: &Trees, request: &Request) -> u64 {
    let outcome = apply(&Linux, request);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    assert_eq!(snapshot(&trees.source), snapshot(&trees.destination));
    assert!(left_behind(trees).is_empty());
    assert!(plan_of(&Linux, request).is_empty());
    outcome.bytes_written
}

#[test]
fn it_continues_where_it_stopped() {
    let Some((trees, request, _)) = interrupted() else { return nothing_to_interrupt() };
    assert_eq!(go_on(&trees, &request), SIZE - 2 * STRETCH);
}

#[test]
fn a_changed_source_is_copied_from_the_beginning() {
    let Some((trees, request, _)) = interrupted() else { return nothing_to_interrupt() };
    let file = fs::File::options().write(true).open(trees.source.join("season.wav")).unwrap();
    file.write_all_at(b"another season", 3).unwrap();
    file.set_modified(std::time::UNIX_EPOCH).unwrap();
    assert_eq!(go_on(&trees, &request), SIZE);
}

#[test]
fn a_part_that_is_not_the_sources_is_written_again() {
    let Some((trees, request, left)) = interrupted() else { return nothing_to_interrupt() };
    let part = fs::File::options().write(true).open(left).unwrap();
    part.write_all_at(b"noise", STRETCH + 1000).unwrap();
    let wrote = go_on(&trees, &request);
    assert!((SIZE - 2 * STRETCH + 1..SIZE).contains(&wrote), "{wrote} bytes");
}

#[test]
fn another_users_file_of_that_name_is_not_written_to() {
    let Some((trees, request, left)) = interrupted() else { return nothing_to_interrupt() };
    fs::remove_file(&left).unwrap();
    let precious = trees.base.path().join("precious");
    fs::write(&precious, "not to be lost").unwrap();
    fs::hard_link(&precious, &left).unwrap();
    assert_eq!(go_on(&trees, &request), SIZE);
    assert_eq!(fs::read(&precious).unwrap(), b"not to be lost");
    std::os::unix::fs::symlink(&precious, &left).unwrap();
    fs::remove_file(trees.destination.join("season.wav")).unwrap();
    assert_eq!(go_on(&trees, &request), SIZE);
    assert_eq!(fs::read(&precious).unwrap(), b"not to be lost");
}
