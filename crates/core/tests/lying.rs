//! Guarantee: what a drive says of itself is not believed against what it gives. Content is read to its
//! end, however little comes at a time; what does not fit its size is named and not copied; numbers
//! that change are no reason to give up; what passes is tried again; and what nobody needs to know may
//! fail in any way.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

mod common;

use std::fs;
use std::path::PathBuf;
use std::time::Duration;

use common::{Trees, request};
use utter_echo_core::observe::Silent;
use utter_echo_core::os::Linux;
use utter_echo_core::problem::Cause;
use utter_echo_core::request::{By, Retries, Task};
use utter_echo_core::{Outcome, Session};
use utter_echo_lab::{ERRORS, Lies, LyingDrive, left_out};

const FILES: [&str; 3] = ["log.csv", "empty", "seasons/season.wav"];

/// A run over a drive that lies.
struct Told {
    trees: Trees,
    /// What it lies about.
    truth: PathBuf,
    outcome: Outcome,
}

/// Mirrors a drive that answers like this, with everything read back.
fn mirrored(lies: &Lies) -> Option<Told> {
    let trees = Trees::new();
    let truth = trees.base.path().join("truth");
    fs::create_dir_all(truth.join("seasons")).unwrap();
    let waves: Vec<u8> =
        (0..700_000_u32).map(|n| n.wrapping_mul(0x9e37_79b9).to_be_bytes()[0]).collect();
    for (file, content) in FILES.iter().zip([&b"lit at four\n"[..], b"", &waves]) {
        fs::write(truth.join(file), content).unwrap();
    }
    let drive = match LyingDrive::mount(lies.clone(), &truth, &trees.source) {
        Ok(drive) => drive,
        Err(error) => {
            left_out(format!("no drive that lies could be mounted: {error}"));
            return None;
        }
    };
    let mut wanted = request(&trees, Task::Mirror);
    wanted.running.recheck = true;
    wanted.running.retries = Retries { times: 3, wait: Duration::ZERO };
    let session = Session::open(&Linux, &wanted).unwrap();
    let plan = session.plan(&Silent).unwrap();
    assert!(plan.problems.is_empty(), "{:?}", plan.problems);
    let outcome = session.enact(&plan, &Silent);
    if outcome.problems.is_empty() && lies.size.is_none() {
        let mut compared = request(&trees, Task::Verify);
        compared.changed.by = By::Content;
        compared.running.retries = wanted.running.retries;
        let verified = Session::open(&Linux, &compared).unwrap().plan(&Silent).unwrap();
        assert!(verified.is_empty() && verified.problems.is_empty(), "{:?}", verified.problems);
    }
    drop(drive);
    Some(Told { trees, truth, outcome })
}

impl Told {
    fn arrived(&self, file: &str) -> bool {
        let read = |root: &PathBuf| fs::read(root.join(file)).ok();
        read(&self.trees.destination).is_some_and(|is| Some(is) == read(&self.truth))
    }

    fn all_arrived(&self, lies: &Lies) {
        assert!(self.outcome.problems.is_empty(), "{lies:?}: {:?}", self.outcome.problems);
        assert!(FILES.iter().all(|file| self.arrived(file)), "{lies:?}");
    }
}

#[test]
fn whatever_it_says_content_arrives() {
    let at_a_time = [1000, 4096, 131_071].map(|at_a_time| Lies { at_a_time, ..Lies::default() });
    let others = [
        Lies::default(),
        Lies { restless: true, ..Lies::default() },
        Lies { fails: Some(5), ..Lies::default() },
        Lies { size: Some(0), ..Lies::default() },
        Lies { first: Duration::from_secs(2), ..Lies::default() },
        Lies { restless: true, at_a_time: 777, fails: Some(2000), ..Lies::default() },
    ];
    for lies in at_a_time.into_iter().chain(others) {
        let Some(told) = mirrored(&lies) else { return };
        told.all_arrived(&lies);
    }
}

#[test]
fn a_size_that_is_not_that_of_the_content_is_a_problem() {
    for size in [1, 699_999, 700_001, 5_000_000] {
        let lies = Lies { size: Some(size), ..Lies::default() };
        let Some(told) = mirrored(&lies) else { return };
        let causes: Vec<&Cause> =
            told.outcome.problems.iter().map(|problem| &problem.cause).collect();
        let belied =
            |cause: &&Cause| matches!(cause, Cause::SizeBelied { size: told, .. } if *told == size);
        assert!(causes.len() == FILES.len() && causes.iter().all(belied), "{size}: {causes:?}");
        assert!(FILES.iter().all(|file| !told.trees.destination.join(file).exists()), "{size}");
    }
}

#[test]
fn what_nobody_needs_to_know_may_fail_in_any_way() {
    for error in ERRORS {
        let lies = Lies { optional: error.raw_os_error(), ..Lies::default() };
        let Some(told) = mirrored(&lies) else { return };
        told.all_arrived(&lies);
    }
}
