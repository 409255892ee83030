//! Guarantee: whichever system call fails, and wherever the run is killed, every name in the destination shows its
//! old or its new content and nothing else. Every failure is reported, and the next run completes the work and
//! clears leftovers.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::fs;
use std::path::Path;

use crate::common::{Trees, chosen_calls_of, entries, request, sampled};
use rustix::io::Errno;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::{Linux, System};
use utter_echo_core::plan::Verbs;
use utter_echo_core::request::{Flush, Request, Task, Workers};
use utter_echo_core::{Ending, Session};
use utter_echo_lab::{ERRORS, Gardener, Snapshot, Tampered, Tampering, differences, snapshot};

/// A source, and a destination that was identical before the source changed in every way.
fn prepare(seed: u64) -> Trees {
    // One seed is tried on disk.
    let trees = if seed == 11 { Trees::new() } else { Trees::in_memory() };
    Gardener::new(seed).grow(&trees.source, 18);
    Gardener::new(seed).grow(&trees.destination, 18);
    Gardener::new(seed + 1).change(&trees.source, 12);
    crate::common::move_a_folder(&trees.source);
    trees
}

/// True if the run reported no problem.
fn run(system: &dyn System, request: &Request) -> bool {
    let Ok(session) = Session::open(system, request) else { return false };
    let Ok(plan) = session.plan(&NoObserver) else { return false };
    let outcome = session.execute(&plan, &NoObserver);
    let complete = matches!(outcome.ending, Ending::Complete);
    plan.problems.is_empty() && outcome.problems.is_empty() && complete
}

fn is_leftover(path: &[u8]) -> bool {
    path.split(|b| *b == b'/').any(|name| name.starts_with(b".utter-"))
}

/// Every name shows its state of before or the state it should have afterwards.
fn assert_old_or_new(now: &Snapshot, old: &Snapshot, new: &Snapshot, when: &str) {
    for (path, facts) in now.iter().filter(|(path, _)| !is_leftover(path)) {
        let shows = |side: &Snapshot| {
            side.get(path).is_some_and(|other| {
                (other.mode >> 12, &other.content, other.device)
                    == (facts.mode >> 12, &facts.content, facts.device)
            })
        };
        let path = String::from_utf8_lossy(path);
        assert!(shows(old) || shows(new), "{when}: {path:?} shows neither: {facts:?}");
    }
    for path in old.keys().filter(|path| new.contains_key(*path)) {
        let path_shown = String::from_utf8_lossy(path);
        assert!(now.contains_key(path), "{when}: {path_shown:?} is gone, and both sides have it");
    }
}

fn assert_echo(source: &Path, destination: &Path, when: &str) {
    let differences = differences(&snapshot(source), &snapshot(destination));
    assert!(differences.is_empty(), "{when}:\n{differences}");
}

/// With the dirty marker that a run leaves until all is flushed, and without.
fn sequential(trees: &Trees, seed: u64) -> Request {
    let mut request = request(trees, Task::Mirror);
    request.running.workers = Workers::Fixed(1);
    request.changed.steps = Verbs::ALL;
    request.running.flush = if seed == 1 { Flush::None } else { Flush::End };
    request.running.read_back = seed == 2;
    request
}

/// Tampers with the calls of a run in turn.
fn each_call(seed: u64, tampering: impl Fn(usize) -> Tampering, errors_may_pass: bool) {
    // The last seed is tried on rotational disks, too.
    let is_rotational = seed == 2 || seed == 13;
    let system = |tampering| {
        let system = Tampered::new(tampering);
        if is_rotational { system.with_rotational_disks() } else { system }
    };
    let trees = prepare(seed);
    for at in chosen_calls_of(&system(Tampering::Nothing), &sequential(&trees, seed)) {
        let trees = prepare(seed);
        let (old, new) = (snapshot(&trees.destination), snapshot(&trees.source));
        let request = sequential(&trees, seed);
        let system = system(tampering(at));
        let well = run(&system, &request);
        let call = system.calls().get(at).copied().unwrap_or("none");
        let when = format!("seed {seed}, call {at} ({call})");
        assert_old_or_new(&snapshot(&trees.destination), &old, &new, &when);
        if well {
            // Look-ups are made ahead as long as they are slow, so there may be fewer calls than before.
            assert!(errors_may_pass || call == "none", "{when}: killed, and said that all is well");
            assert_echo(&trees.source, &trees.destination, &when);
        }
        assert!(run(&Linux, &request), "{when}: the next run has problems");
        assert_echo(&trees.source, &trees.destination, &when);
        assert_eq!(new, snapshot(&trees.source), "{when}: the source changed");
    }
}

/// With several workers or sources the order of the calls is not fixed.
#[test]
fn workers_that_are_killed_or_fail_together_leave_old_or_new() {
    for seed in 20..26 {
        let prepared = || {
            let trees = prepare(seed);
            let mut request = sequential(&trees, seed);
            request.running.workers = Workers::Fixed(3);
            request.places.sources = entries(&trees.source);
            request.task = Task::Copy;
            // A link in place of a root is refused.
            for entry in
                fs::read_dir(&trees.destination).unwrap().map(|entry| entry.unwrap().path())
            {
                if entry.is_symlink() {
                    fs::remove_file(entry).unwrap();
                }
            }
            (trees, request)
        };
        let (_trees, request) = prepared();
        let counted = Tampered::new(Tampering::Nothing);
        let session = Session::open(&counted, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let outcome = session.execute(&plan, &NoObserver);
        assert!(plan.problems.is_empty(), "seed {seed}: {:?}", plan.problems);
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        for at in sampled(0..counted.calls().len(), 40) {
            for tampering in
                [Tampering::KillAt(at), Tampering::FailOne(at, Errno::IO.raw_os_error())]
            {
                let (trees, request) = prepared();
                let (old, new) = (snapshot(&trees.destination), snapshot(&trees.source));
                let system = Tampered::new(tampering);
                let well = run(&system, &request);
                let when = format!("seed {seed}, call {at}, {tampering:?}");
                let now = snapshot(&trees.destination);
                assert_old_or_new(&now, &old, &new, &when);
                let is_whole = |now: &Snapshot| {
                    let linked = |path: &[u8]| new[path].mode >> 12 == 0o12;
                    let roots = |path: &&Vec<u8>| {
                        !path.is_empty() && (path.contains(&b'/') || !linked(path))
                    };
                    new.keys().filter(roots).all(|path| {
                        now.get(path).is_some_and(|there| there.content == new[path].content)
                    })
                };
                // The last calls look at sources that have nothing left to do.
                assert!(!well || is_whole(&now), "{when}: said that all is well");
                assert!(run(&Linux, &request), "{when}: the next run has problems");
                assert!(is_whole(&snapshot(&trees.destination)), "{when}: it is not whole");
                assert_eq!(new, snapshot(&trees.source), "{when}: the source changed");
            }
        }
    }
}

#[test]
fn each_failed_call_is_reported_or_compensated() {
    let errors = [Errno::IO, Errno::ACCESS, Errno::NOSPC, Errno::STALE, Errno::ROFS, Errno::DQUOT];
    for seed in [1, 2] {
        let fail = |at: usize| errors[at % errors.len()].raw_os_error();
        each_call(seed, |at| Tampering::FailOne(at, fail(at)), true);
    }
}

#[test]
fn a_run_killed_at_any_call_leaves_old_or_new_and_is_completed_by_the_next() {
    for seed in [11, 13] {
        each_call(seed, Tampering::KillAt, false);
    }
}

/// Calls that a run makes for speed or convenience only.
const OPTIONAL: [&str; 6] =
    ["flags", "next_data", "share_content", "copy_range", "advise", "mounts"];

/// The attributes in which each entry of the destination equals that of the source.
fn alike(source: &Snapshot, destination: &Snapshot) -> Vec<(Vec<u8>, [bool; 7])> {
    let same = |(path, here): (&Vec<u8>, &utter_echo_lab::Facts)| {
        let is = destination.get(path)?;
        let same = [
            here.mode == is.mode && here.owner == is.owner,
            here.content == is.content && here.device == is.device,
            here.modified == is.modified,
            here.xattrs == is.xattrs,
            here.flags == is.flags,
            here.same_as == is.same_as,
            here.allocated == is.allocated,
        ];
        Some((path.clone(), same))
    };
    assert_eq!(source.len(), destination.len());
    source.iter().map(|entry| same(entry).expect("it arrived")).collect()
}

#[test]
fn optional_calls_of_a_run_may_fail_in_any_way() {
    let grown = |name, error: Errno| {
        let trees = prepare(71);
        fs::write(trees.source.join("season.wav"), vec![7; 3 << 20]).unwrap();
        let sparse = fs::File::create(trees.source.join("sparse.wav")).unwrap();
        sparse.set_len(1 << 20).unwrap();
        std::os::unix::fs::FileExt::write_at(&sparse, b"fog", 300_000).unwrap();
        let system = Tampered::new(Tampering::FailAll(name, error.raw_os_error()));
        assert!(run(&system, &request(&trees, Task::Mirror)), "{name} failing with {error}");
        let tried = system.calls().contains(&name);
        (tried, alike(&snapshot(&trees.source), &snapshot(&trees.destination)))
    };
    for name in OPTIONAL {
        let (tried, unknown) = grown(name, Errno::OPNOTSUPP);
        assert!(tried, "{name} is never called");
        for error in ERRORS {
            let (_, is) = grown(name, error);
            assert_eq!(is, unknown, "{name} failing with {error}");
        }
    }
}
