//! Guarantee: while a privileged run works on a tree, nothing that another user puts there can block it, make it
//! read or write anything else, or show special bits on a file of the wrong owner for an instant. `swapper`
//! exchanges folders for links, and `saved` tries names in plans.

#![allow(clippy::unwrap_used, clippy::print_stderr, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::Path;
use std::process::Command;
use std::sync::Mutex;

use crate::common::{Trees, request};
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::request::Task;
use utter_echo_core::select::{Clutter, Rules, Selection};
use utter_echo_core::{Outcome, Session};
use utter_echo_lab::Tampered;

const SPECIAL: u32 = 0o6000;

/// Files below a folder, under any name.
fn files(root: &Path, found: &mut Vec<(u32, u32)>) {
    for entry in fs::read_dir(root).into_iter().flatten().flatten() {
        match entry.metadata() {
            Ok(stat) if stat.is_dir() => files(&entry.path(), found),
            Ok(stat) => found.push((stat.uid(), stat.mode())),
            // Renamed since it was listed.
            Err(_) => {}
        }
    }
}

#[test]
fn special_bits_never_show_on_a_file_of_another_owner() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root gives files away");
    }
    let trees = Trees::new();
    for (folder, size) in [("new", 10), ("there", 10), ("there", 9 << 20)] {
        let path = trees.source.join(folder).join(format!("flash-{size}"));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, vec![7; size]).unwrap();
        std::os::unix::fs::chown(&path, Some(1000), Some(1000)).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o6755)).unwrap();
    }
    // One file is replaced, and belonged to root before.
    fs::create_dir(trees.destination.join("there")).unwrap();
    fs::write(trees.destination.join("there/flash-10"), "old").unwrap();
    let request = request(&trees, Task::Mirror);
    let seen = Mutex::new(0);
    let system = Tampered::before_each(|_| {
        let mut found = Vec::new();
        files(&trees.destination, &mut found);
        for (owner, mode) in found.into_iter().filter(|(_, mode)| mode & SPECIAL != 0) {
            assert_eq!(owner, 1000, "mode {mode:o} on a file of another");
            *seen.lock().unwrap() += 1;
        }
    });
    let outcome = crate::common::apply(&system, &request);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    assert!(*seen.lock().unwrap() > 0, "nobody looked while there was something to see");
}

fn fifo(path: &Path) {
    assert!(Command::new("mkfifo").arg(path).status().unwrap().success());
}

fn run_after(trees: &Trees, happens: impl FnOnce()) -> Outcome {
    let mut request = request(trees, Task::Mirror);
    let rules =
        Rules { without: Clutter { no_caches: true, ..Clutter::default() }, ..Rules::default() };
    request.selection = Selection::new(&rules).unwrap();
    request.running.flush = utter_echo_core::request::Flush::End;
    let session = Session::open(&Linux, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    happens();
    session.execute(&plan, &NoObserver)
}

#[test]
fn what_would_block_an_open_is_refused_at_once() {
    let trees = Trees::new();
    for name in ["ledger", "stock", "large"] {
        fs::write(trees.source.join(name), name).unwrap();
    }
    let large = fs::File::create(trees.source.join("large")).unwrap();
    large.set_len(20 << 20).unwrap();
    fs::write(trees.destination.join("stock"), "old").unwrap();
    // Programs that look for caches read it, and none writes to it.
    fs::create_dir(trees.source.join("cache")).unwrap();
    fifo(&trees.source.join("cache/CACHEDIR.TAG"));
    let begun = std::time::Instant::now();
    let outcome = run_after(&trees, || {
        for path in [trees.source.join("ledger"), trees.destination.join("stock")] {
            fs::remove_file(&path).unwrap();
            fifo(&path);
        }
    });
    let named: Vec<_> = outcome.problems.iter().map(|problem| problem.path.as_bytes()).collect();
    assert_eq!(named, [&b"ledger"[..], b"stock"], "{:?}", outcome.problems);
    assert!(outcome.problems.iter().all(|problem| problem.cause.is_stale()));
    assert!(begun.elapsed() < std::time::Duration::from_secs(60), "it waited for somebody");
    assert_eq!(fs::metadata(trees.destination.join("large")).unwrap().len(), 20 << 20);
}

#[test]
fn links_at_predictable_names_lead_nowhere() {
    let outside = tempfile::tempdir().unwrap();
    let treasure = outside.path().join("treasure");
    for trap in 0..3 {
        fs::write(&treasure, "mine").unwrap();
        let trees = Trees::new();
        let large = fs::File::create(trees.source.join("large")).unwrap();
        large.set_len(20 << 20).unwrap();
        // The one hidden name that stays the same from run to run, and the name of the dirty marker.
        let names = Mutex::new(Vec::new());
        let watched = Tampered::before_each(|_| {
            let entries = fs::read_dir(&trees.destination).into_iter().flatten().flatten();
            let hidden = entries.map(|entry| entry.file_name());
            names.lock().unwrap().extend(hidden.filter(|name| name != "large"));
        });
        let mut request = request(&trees, Task::Mirror);
        request.running.flush = utter_echo_core::request::Flush::End;
        crate::common::apply(&watched, &request);
        drop(watched);
        let mut names = names.into_inner().unwrap();
        names.sort();
        names.dedup();
        assert!(names.len() >= 2, "{names:?}");
        fs::remove_file(trees.destination.join("large")).unwrap();
        for name in names {
            let path = trees.destination.join(name);
            match trap {
                0 => symlink(&treasure, &path).unwrap(),
                1 => fs::hard_link(&treasure, &path).unwrap(),
                _ => fifo(&path),
            }
        }
        let outcome = crate::common::apply(&Linux, &request);
        assert_eq!(fs::read_to_string(&treasure).unwrap(), "mine", "trap {trap}");
        let written = fs::metadata(trees.destination.join("large"));
        assert_eq!(written.unwrap().len(), 20 << 20, "trap {trap}: {:?}", outcome.problems);
    }
}
