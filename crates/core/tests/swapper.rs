//! Guarantee: a program that exchanges folders and links as fast as it can, on both sides, cannot make a run read,
//! write or remove anything outside the two roots.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use crate::common::{Trees, request};
use rustix::fs::{CWD, RenameFlags, renameat_with};
use utter_echo_core::Session;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::request::Task;
use utter_echo_lab::{Snapshot, snapshot};

/// Many where the laboratory is required.
fn runs() -> usize {
    if std::env::var_os("UTTER_LAB").is_some() { 1000 } else { 150 }
}
const SECRET: &str = "the keeper's secret";

/// Both sides with some folders, and beside each folder a link that leads out.
fn prepare() -> (Trees, PathBuf, Vec<(PathBuf, PathBuf)>) {
    let trees = Trees::new();
    let outside = trees.base.path().join("outside");
    fs::create_dir_all(outside.join("sub")).unwrap();
    let mut swapped = Vec::new();
    for name in ["page-1", "page-2", "page-3", "sub/page-4"] {
        fs::write(outside.join(name), SECRET).unwrap();
    }
    for (side, text) in [(&trees.source, "new text"), (&trees.destination, "old")] {
        for folder in ["log", "lens"] {
            let path = side.join(folder);
            fs::create_dir_all(path.join("sub")).unwrap();
            for name in ["page-1", "page-2", "sub/page-4"] {
                fs::write(path.join(name), text).unwrap();
            }
            let link = trees.base.path().join(format!("link-{}", swapped.len()));
            symlink(&outside, &link).unwrap();
            swapped.push((path, link));
        }
        fs::write(side.join("log/extra"), text).unwrap();
    }
    fs::remove_file(trees.source.join("log/extra")).unwrap();
    (trees, outside, swapped)
}

fn swap_until(stop: &AtomicBool, pairs: &[(PathBuf, PathBuf)]) {
    while !stop.load(Ordering::Relaxed) {
        for (folder, link) in pairs {
            // A name may be gone for the moment; the next round tries again.
            let _ = renameat_with(CWD, folder, CWD, link, RenameFlags::EXCHANGE);
        }
    }
}

/// Nothing below the destination holds the secret, links not followed.
fn holds_secret(root: &Path) -> bool {
    let tree: Snapshot = snapshot(root);
    tree.iter().any(|(path, facts)| {
        let file = facts.mode >> 12 == 8 && facts.size == SECRET.len() as u64;
        file && fs::read(root.join(String::from_utf8_lossy(path).as_ref()))
            .is_ok_and(|content| content == SECRET.as_bytes())
    })
}

#[test]
fn nothing_outside_the_roots_is_read_written_or_removed() {
    let mut disturbed = 0;
    for run in 0..runs() {
        let (trees, outside, swapped) = prepare();
        let before = snapshot(&outside);
        let stop = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| swap_until(&stop, &swapped));
            let request = request(&trees, Task::Mirror);
            if let Ok(session) = Session::open(&Linux, &request)
                && let Ok(plan) = session.plan(&NoObserver)
            {
                let outcome = session.execute(&plan, &NoObserver);
                disturbed += usize::from(!outcome.problems.is_empty());
            }
            stop.store(true, Ordering::Relaxed);
        });
        assert_eq!(before, snapshot(&outside), "run {run} changed something outside");
        for (folder, link) in &swapped {
            // Whichever of the two is the folder now.
            for place in [folder, link] {
                let real = place.symlink_metadata().is_ok_and(|meta| meta.is_dir());
                assert!(!real || !holds_secret(place), "run {run} read from outside");
            }
        }
    }
    assert!(disturbed > runs() / 20, "the swapper met only {disturbed} of {} runs", runs());
}
