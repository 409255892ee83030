//! Guarantee: what a drive reports is not trusted over what it delivers. Content is read to its end, however short
//! the reads; a file whose content does not fit its size is reported and not copied; changing inode numbers do not
//! stop a run; temporary errors are retried; and calls that only help may fail in any way. A destination is not
//! trusted either: one value that it refuses does not make it a full drive, and two names that it takes for one
//! never stand for each other.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use crate::common::{Trees, apply, listed, plan_of, request};
use utter_echo_core::guard::Refusal;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::Verb;
use utter_echo_core::problem::Cause;
use utter_echo_core::request::{CompareBy, Retries, Task};
use utter_echo_core::{Ending, Outcome, PlanError, Session};
use utter_echo_lab::{ERRORS, Lies, LyingDrive, Taking, left_out, snapshot};

const FILES: [&str; 3] = ["log.csv", "empty", "seasons/season.wav"];

/// A run that reads a lying drive.
struct Told {
    trees: Trees,
    /// What the drive lies about.
    truth: PathBuf,
    outcome: Outcome,
}

/// Mirrors a drive that answers in this way, with read-back.
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
    wanted.running.read_back = true;
    wanted.running.retries = Retries { times: 3, wait: Duration::ZERO };
    let session = Session::open(&Linux, &wanted).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    assert!(plan.problems.is_empty(), "{:?}", plan.problems);
    let outcome = session.execute(&plan, &NoObserver);
    if outcome.problems.is_empty() && lies.size.is_none() {
        let mut compared = request(&trees, Task::Verify);
        compared.changed.by = CompareBy::Content;
        compared.running.retries = wanted.running.retries;
        let verified = Session::open(&Linux, &compared).unwrap().plan(&NoObserver).unwrap();
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
fn content_arrives_whatever_the_drive_reports() {
    let at_a_time = [1000, 4096, 131_071].map(|at_a_time| Lies { at_a_time, ..Lies::default() });
    let others = [
        Lies::default(),
        Lies { restless: true, ..Lies::default() },
        Lies { fails: Some(5), ..Lies::default() },
        Lies { size: Some(0), ..Lies::default() },
        Lies { first: Duration::from_secs(30), ..Lies::default() },
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
fn calls_that_only_help_may_fail_in_any_way() {
    for error in ERRORS {
        let lies = Lies { optional: error.raw_os_error(), ..Lies::default() };
        let Some(told) = mirrored(&lies) else { return };
        told.all_arrived(&lies);
    }
}

/// A destination on a drive with these limits, beside the trees, where its real content can be seen.
fn destination_that_takes(taking: Taking) -> Option<(Trees, PathBuf, LyingDrive)> {
    let trees = Trees::new();
    let truth = trees.base.path().join("truth");
    fs::create_dir(&truth).unwrap();
    let lies = Lies { taking: Some(taking), ..Lies::default() };
    match LyingDrive::mount(lies, &truth, &trees.destination) {
        Ok(drive) => Some((trees, truth, drive)),
        Err(error) => {
            left_out(format!("no drive that lies could be mounted: {error}"));
            None
        }
    }
}

fn write_all(root: &Path, files: &[(&str, &str)]) {
    for (path, content) in files {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    }
}

#[test]
fn an_attribute_that_the_drive_refuses_keeps_only_its_entry_in_the_source() {
    let taking = Taking { longest: 100, ..Taking::default() };
    let Some((trees, truth, _drive)) = destination_that_takes(taking) else { return };
    let files = [("a.csv", "lit"), ("lens.svg", "<svg/>"), ("seasons/z.wav", "~~~")];
    write_all(&trees.source, &files);
    for (file, length) in
        [("a.csv", 100), ("lens.svg", 101), ("seasons", 101), ("seasons/z.wav", 8)]
    {
        xattr::set(trees.source.join(file), "user.keeper", &vec![b'k'; length]).unwrap();
    }
    for _ in 0..2 {
        let outcome = apply(&Linux, &request(&trees, Task::Mirror));
        let problems: Vec<_> =
            outcome.problems.iter().map(|problem| problem.path.as_bytes().to_vec()).collect();
        assert_eq!(problems, [&b"lens.svg"[..], b"seasons"], "{:?}", outcome.problems);
        assert!(matches!(outcome.ending, Ending::Complete), "{:?}", outcome.ending);
        let (all, there) = (snapshot(&trees.source), snapshot(&truth));
        for file in ["a.csv", "seasons/z.wav"] {
            let (expected, is) = (&all[file.as_bytes()], &there[file.as_bytes()]);
            assert_eq!((&is.xattrs, &is.content), (&expected.xattrs, &expected.content), "{file}");
        }
        assert!(!truth.join("lens.svg").exists());
    }
}

#[test]
fn names_that_the_drive_cannot_tell_apart_never_stand_for_each_other() {
    let taking = Taking { folds: true, ..Taking::default() };
    let Some((trees, truth, _drive)) = destination_that_takes(taking) else { return };
    let files =
        [("Log", "of the first"), ("log", "of the second"), ("Lens/a", "1"), ("lens/b", "2")];
    write_all(&trees.source, &files);
    write_all(&trees.destination, &[("lOG", "an old one"), ("Echo/x", "extra")]);
    for (at, task) in [Task::Copy, Task::Mirror, Task::Mirror].into_iter().enumerate() {
        let wanted = request(&trees, task);
        let session = Session::open(&Linux, &wanted).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        assert_eq!(plan.problems.len(), 2, "{task:?}: {:?}", plan.problems);
        let outcome = session.execute(&plan, &NoObserver);
        assert!(outcome.problems.is_empty(), "{task:?}: {:?}", outcome.problems);
        let held = fs::read_to_string(trees.destination.join("LOG")).unwrap();
        assert_eq!(held, "of the first", "{task:?}");
        let inner: Vec<_> = fs::read_dir(truth.join("Lens")).unwrap().collect();
        assert_eq!(inner.len(), 1, "{task:?}");
        // A second run only reports the same again.
        assert!(at < 2 || plan.is_empty(), "{:?}", listed(&plan));
    }
    fs::remove_file(trees.source.join("log")).unwrap();
    fs::rename(trees.source.join("Log"), trees.source.join("LOG")).unwrap();
    fs::remove_dir_all(trees.source.join("lens")).unwrap();
    let outcome = apply(&Linux, &request(&trees, Task::Mirror));
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    let left = listed(&plan_of(&Linux, &request(&trees, Task::Mirror)));
    assert!(left.iter().all(|(verb, _)| *verb == Verb::Rename), "{left:?}");
    assert_eq!(fs::read_to_string(trees.destination.join("LOG")).unwrap(), "of the first");

    let mut within = request(&trees, Task::Copy);
    within.places.sources = vec![trees.destination.join("Lens")];
    within.places.destination = trees.destination.join("lENS/copy");
    let session = Session::open(&Linux, &within).unwrap();
    let refused = session.plan(&NoObserver).map(|plan| session.guard(&plan, &[]));
    let overlaps = |refused: &Refusal| matches!(refused, Refusal::Overlap { .. });
    match refused {
        Err(PlanError::Refused(refused)) => assert!(overlaps(&refused), "{refused}"),
        Ok(guarded) => assert!(guarded.is_err_and(|refused| overlaps(&refused))),
        Err(other) => panic!("{other}"),
    }
}
