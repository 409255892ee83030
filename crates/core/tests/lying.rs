//! Guarantee: what a drive says of itself is not believed against what it gives. Content is read to its
//! end, however little comes at a time; what does not fit its size is named and not copied; and what
//! nobody needs to know may fail in any way.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

mod common;

use common::{Trees, request};
use rustix::io::Errno;
use utter_echo_core::observe::Silent;
use utter_echo_core::os::Linux;
use utter_echo_core::problem::Cause;
use utter_echo_core::request::{By, Task};
use utter_echo_core::{Outcome, Session};
use utter_echo_lab::{ERRORS, Lies, LyingDrive, Told, left_out};

fn truth() -> Lies {
    let waves: Vec<u8> =
        (0..700_000_u32).map(|n| n.wrapping_mul(0x9e37_79b9).to_be_bytes()[0]).collect();
    let files = vec![
        Told::truly("log.csv", b"lit at four\n".to_vec()),
        Told::truly("empty", Vec::new()),
        Told::truly("season.wav", waves),
    ];
    Lies {
        files,
        at_a_time: usize::MAX,
        optional: Errno::OPNOTSUPP.raw_os_error(),
        restless: false,
    }
}

/// Mirrors a drive that answers like this, with everything read back.
fn mirrored(lies: &Lies) -> Option<(Trees, Outcome)> {
    let trees = Trees::new();
    let mounted = LyingDrive::mount(lies.clone(), &trees.source);
    let drive = match mounted {
        Ok(drive) => drive,
        Err(error) => {
            left_out(format!("no drive that lies could be mounted: {error}"));
            return None;
        }
    };
    let mut wanted = request(&trees, Task::Mirror);
    wanted.running.recheck = true;
    let session = Session::open(&Linux, &wanted).unwrap();
    let plan = session.plan(&Silent).unwrap();
    assert!(plan.problems.is_empty(), "{:?}", plan.problems);
    let outcome = session.enact(&plan, &Silent);
    if outcome.problems.is_empty() && lies.files.iter().all(|file| file.size > 0) {
        let mut compared = request(&trees, Task::Verify);
        compared.changed.by = By::Content;
        let verified = Session::open(&Linux, &compared).unwrap().plan(&Silent).unwrap();
        assert!(verified.is_empty() && verified.problems.is_empty(), "{:?}", verified.totals);
    }
    drop(drive);
    Some((trees, outcome))
}

fn arrived(trees: &Trees, file: &Told) -> bool {
    std::fs::read(trees.destination.join(file.name)).is_ok_and(|is| is == file.content)
}

#[test]
fn content_is_read_to_its_end_however_little_comes_at_a_time() {
    for at_a_time in [1000, 4096, 131_071, usize::MAX] {
        let lies = Lies { at_a_time, ..truth() };
        let Some((trees, outcome)) = mirrored(&lies) else { return };
        assert!(outcome.problems.is_empty(), "{at_a_time}: {:?}", outcome.problems);
        assert!(lies.files.iter().all(|file| arrived(&trees, file)), "{at_a_time}");
    }
}

#[test]
fn a_size_that_is_not_that_of_the_content_is_a_problem_and_one_of_nothing_says_nothing() {
    for size in [1, 699_999, 700_001, 5_000_000] {
        let mut lies = truth();
        lies.files[2].size = size;
        let Some((trees, outcome)) = mirrored(&lies) else { return };
        let causes: Vec<&Cause> = outcome.problems.iter().map(|problem| &problem.cause).collect();
        let belied =
            |cause: &&Cause| matches!(cause, Cause::SizeBelied { size: told, .. } if *told == size);
        assert!(causes.len() == 1 && causes.iter().all(belied), "{size}: {causes:?}");
        assert!(!trees.destination.join("season.wav").exists(), "{size}");
        assert!(arrived(&trees, &lies.files[0]), "{size}");
    }
    let mut lies = truth();
    lies.files.iter_mut().for_each(|file| file.size = 0);
    let Some((trees, outcome)) = mirrored(&lies) else { return };
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    assert!(lies.files.iter().all(|file| arrived(&trees, file)));
}

#[test]
fn what_nobody_needs_to_know_may_fail_in_any_way() {
    for error in ERRORS {
        let lies = Lies { optional: error.raw_os_error(), ..truth() };
        let Some((trees, outcome)) = mirrored(&lies) else { return };
        assert!(outcome.problems.is_empty(), "{error}: {:?}", outcome.problems);
        assert!(lies.files.iter().all(|file| arrived(&trees, file)), "{error}");
    }
}
