//! Guarantee: a drive that disappears or becomes read-only during a run ends the run with one message, not one for
//! every entry. What was done is whole, and once the drive is back the next run completes the work.

#![allow(clippy::unwrap_used, clippy::print_stderr, reason = "a test stops there")]

use std::os::fd::AsFd as _;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::common::{Trees, request};
use utter_echo_core::os::{Linux, System as _};
use utter_echo_core::plan::Verb;
use utter_echo_core::request::{Flush, Request, Task};
use utter_echo_core::{Ending, Outcome};
use utter_echo_lab::{
    DriveKind, Gardener, Model, MountedDrive, SlowDrive, Snapshot, Tampered, Tampering,
    differences, snapshot,
};

/// A mirror onto a drive of its own, and the number of its calls.
fn prepare(kind: DriveKind) -> Option<(Trees, MountedDrive, Request)> {
    let mut trees = Trees::new();
    let made = MountedDrive::make(kind, trees.base.path());
    let drive = made.inspect_err(|reason| utter_echo_lab::left_out(reason)).ok()?;
    Gardener::new(70).grow(&trees.source, 150);
    trees.destination = drive.folder().join("echo");
    std::fs::create_dir(&trees.destination).unwrap();
    let mut request = request(&trees, Task::Mirror);
    request.running.flush = Flush::End;
    Some((trees, drive, request))
}

/// Runs, and from the `at`th call on tries to do something to the drive until that succeeds.
fn run_and_then(request: &Request, at: usize, happens: impl Fn() -> bool + Sync) -> Outcome {
    let (count, happened) = (AtomicUsize::new(0), Mutex::new(false));
    let system = Tampered::before_each(|_| {
        if count.fetch_add(1, Ordering::Relaxed) >= at {
            let mut happened = happened.lock().unwrap();
            *happened = *happened || happens();
        }
    });
    let outcome = crate::common::apply(&system, request);
    assert!(*happened.lock().unwrap(), "nothing happened from call {at} on");
    outcome
}

fn assert_ended_early(outcome: &Outcome, when: &str) {
    let Ending::Early(cause) = &outcome.ending else {
        panic!("{when}: ended as {:?} with {:?}", outcome.ending, outcome.problems);
    };
    assert!(cause.is_gone(), "{when}: {cause}");
    // The entry that met the error, and the flush.
    assert!(outcome.problems.len() <= 3, "{when}: {:?}", outcome.problems);
}

fn assert_next_run_completes(trees: &Trees, request: &Request, when: &str) {
    let outcome = crate::common::apply(&Linux, request);
    assert!(outcome.problems.is_empty(), "{when}: {:?}", outcome.problems);
    let left = differences(&snapshot(&trees.source), &without_own(snapshot(&trees.destination)));
    assert!(left.is_empty(), "{when}: {left}");
}

/// The form in which the drive keeps access lists is no attribute of the user's.
fn without_own(mut tree: Snapshot) -> Snapshot {
    let own = |name: &[u8]| name.starts_with(b"trusted.SGI_ACL_");
    for facts in tree.values_mut() {
        facts.xattrs.retain(|name, _| !own(name));
    }
    tree
}

fn calls_of_a_run(kind: DriveKind) -> Option<usize> {
    let (_trees, _drive, request) = prepare(kind)?;
    let system = Tampered::new(Tampering::Nothing);
    assert!(crate::common::apply(&system, &request).problems.is_empty());
    Some(system.calls().len())
}

#[test]
fn a_drive_that_becomes_read_only_ends_the_run() {
    for kind in [DriveKind::Ext4, DriveKind::Xfs] {
        let Some(calls) = calls_of_a_run(kind) else { return };
        for part in 5..10 {
            let Some((trees, drive, request)) = prepare(kind) else { return };
            let when = format!("{} after {part} tenths", kind.name());
            let outcome =
                run_and_then(&request, calls * part / 10, || drive.remount(false).is_ok());
            assert_ended_early(&outcome, &when);
            drive.remount(true).unwrap();
            assert_next_run_completes(&trees, &request, &when);
        }
    }
}

#[test]
fn a_drive_that_is_pulled_out_ends_the_run() {
    for kind in [DriveKind::Ext4, DriveKind::Xfs] {
        let Some(calls) = calls_of_a_run(kind) else { return };
        for part in 5..10 {
            let Some((trees, drive, request)) = prepare(kind) else { return };
            let when = format!("{} after {part} tenths", kind.name());
            let outcome = run_and_then(&request, calls * part / 10, || {
                drive.shut_down().unwrap();
                true
            });
            assert_ended_early(&outcome, &when);
            drive.mount_again().unwrap();
            assert_next_run_completes(&trees, &request, &when);
        }
    }
}

#[test]
fn a_device_that_is_removed_below_its_file_system_is_noticed() {
    for kind in [DriveKind::Ext4, DriveKind::Xfs] {
        let Some(calls) = calls_of_a_run(kind) else { return };
        let Some((_trees, drive, request)) = prepare(kind) else { return };
        let outcome = run_and_then(&request, calls * 6 / 10, || {
            drive.take_device().unwrap();
            true
        });
        // The cache hid the error until the flush at the end.
        assert!(!outcome.problems.is_empty(), "{}: {outcome:?}", kind.name());
        assert!(outcome.problems.len() <= 4, "{}: {:?}", kind.name(), outcome.problems);
    }
}

#[test]
fn an_error_that_another_process_heard_first_is_reported_and_fixed_by_the_next_run() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts drives");
    }
    let mut trees = Trees::new();
    for at in 0..20 {
        std::fs::write(trees.source.join(format!("tide {at}")), vec![at; 40_000]).unwrap();
    }
    let model = Model::Stick { write: 200e6 };
    let drive = match SlowDrive::make(model, &trees.base.path().join("stick"), 64 << 20, |_| {}) {
        Ok(drive) => drive,
        Err(reason) => return utter_echo_lab::left_out(reason),
    };
    trees.destination = drive.folder().join("echo");
    std::fs::create_dir(&trees.destination).unwrap();
    let mut request = request(&trees, Task::Copy);
    request.running.flush = Flush::End;
    let happened = Mutex::new(false);
    let system = Tampered::before_each(|call| {
        let mut happened = happened.lock().unwrap();
        if call != "flush_drive" || *happened {
            return;
        }
        *happened = true;
        let somebody = std::fs::File::open(&trees.destination).unwrap();
        drive.fail_writes(true);
        for at in 0..20 {
            let file = std::fs::File::open(trees.destination.join(format!("tide {at}"))).unwrap();
            // Only writes of content fail; the file system's own writes succeed.
            let _ = Linux.write_back(file.as_fd());
        }
        drive.fail_writes(false);
        rustix::fs::syncfs(&somebody).unwrap_err();
    });
    let outcome = crate::common::apply(&system, &request);
    assert!(*happened.lock().unwrap());
    assert_eq!(outcome.problems.len(), 1, "{:?}", outcome.problems);
    assert!(outcome.problems[0].cause.is_input_output(), "{:?}", outcome.problems);
    assert!(outcome.done(Verb::Add).entries == 0, "{:?}", outcome.done);
    assert_next_run_completes(&trees, &request, "after the error");
    drive.cool().unwrap();
    let left = differences(&snapshot(&trees.source), &without_own(snapshot(&trees.destination)));
    assert!(left.is_empty(), "{left}");
}
