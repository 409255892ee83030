//! Guarantee: whatever a run with a set-aside folder removes or replaces is found there under the path it had, with
//! all its attributes. Undoing the run restores the destination to the last attribute, also if the run was killed
//! at any call. Entries changed since the run are left alone.

#![allow(clippy::unwrap_used, clippy::print_stderr, reason = "a test stops there")]

use std::cell::Cell;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

use crate::common::{Trees, chosen_calls, plan_of, request, sampled};
use rustix::io::Errno;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::{Linux, System};
use utter_echo_core::plan::Verbs;
use utter_echo_core::request::{Flush, Keep, Keeping, Request, SetAside, Task, Workers};
use utter_echo_core::{Outcome, PastRun, Session};
use utter_echo_files::dirty_marker;
use utter_echo_lab::{
    DriveKind, Gardener, MountedDrive, Snapshot, Tampered, Tampering, differences, snapshot,
};

const RUN: &str = "2026-11-23T14-05-09Z";

fn mirror_into(trees: &Trees, folder: &Path) -> Request {
    let mut request = request(trees, Task::Mirror);
    let folder = folder.to_path_buf();
    request.safety.set_aside =
        Some(SetAside { folder, run: RUN.into(), keep: None, what: Keeping::Displaced });
    request
}

fn run(system: &dyn System, request: &Request) -> Outcome {
    crate::common::apply(system, request)
}

/// Undoes a run as far as possible, and returns the result.
fn undo(trees: &Trees, path: &Path) -> Outcome {
    let past = PastRun::open(&Linux, path).unwrap();
    assert_eq!(past.purpose.places.destination, trees.destination);
    let request = request(trees, Task::Undo);
    let session = Session::open_to_undo(&Linux, &request, &past).unwrap();
    let plan = session.plan_to_undo().unwrap();
    let overtaken = session.stale(&plan);
    let outcome = session.execute(&plan, &NoObserver);
    assert_eq!(overtaken.is_empty(), outcome.problems.is_empty(), "{overtaken:?} {outcome:?}");
    if outcome.problems.is_empty() {
        let left = session.not_back().unwrap();
        assert!(left.is_empty(), "not back: {left:?}");
        past.discard().unwrap();
    }
    outcome
}

/// Undoes a run through a system that may fail. True if the undo reports that all is back.
fn try_to_undo(system: &dyn System, trees: &Trees, path: &Path) -> bool {
    try_to_undo_with((system, &|| {}), trees, path, 1)
}

/// Sets the flag once the plan is ready.
fn try_to_undo_with(
    (system, is_planned): (&dyn System, &dyn Fn()),
    trees: &Trees,
    path: &Path,
    workers: usize,
) -> bool {
    let Ok(past) = PastRun::open(system, path) else { return false };
    let mut request = request(trees, Task::Undo);
    request.running.workers = Workers::Fixed(workers);
    let Ok(session) = Session::open_to_undo(system, &request, &past) else { return false };
    let Ok(plan) = session.plan_to_undo() else { return false };
    is_planned();
    let outcome = session.execute(&plan, &NoObserver);
    outcome.problems.is_empty()
        && plan.problems.is_empty()
        && session.not_back().is_ok_and(|left| left.is_empty())
        && past.discard().is_ok()
}

fn grown(seed: u64) -> Trees {
    let trees = Trees::new();
    Gardener::new(seed).grow(&trees.source, 60);
    if seed.is_multiple_of(2) {
        Gardener::new(seed + 500).grow(&trees.destination, 40);
    } else {
        Gardener::new(seed).grow(&trees.destination, 60);
        Gardener::new(seed + 1).change(&trees.source, 30);
    }
    trees
}

/// What was displaced is set aside as it was. Folders that stay in the destination may be there too, as parents.
fn assert_kept(old: &Snapshot, new: &Snapshot, aside: &Snapshot, when: &str) {
    for (path, was) in old {
        let gone = new.get(path).is_none_or(|now| {
            (now.mode >> 12, &now.content, now.device) != (was.mode >> 12, &was.content, was.device)
        });
        if gone {
            let kept = aside.get(path).map(|kept| utter_echo_lab::Facts {
                // The other names of a file may not have been displaced.
                same_as: was.same_as.clone(),
                // A locked folder could neither be emptied again nor pruned.
                flags: if was.mode >> 12 == 4 { was.flags } else { kept.flags },
                ..kept.clone()
            });
            let path = String::from_utf8_lossy(path);
            assert_eq!(kept.as_ref(), Some(was), "{when}: {path:?} is not aside as it was");
        }
    }
}

#[test]
fn an_undone_run_leaves_the_state_before() {
    for seed in 800..840 {
        let trees = grown(seed);
        let aside = trees.base.path().join("aside");
        let (old, new) = (snapshot(&trees.destination), snapshot(&trees.source));
        let outcome = run(&Linux, &mirror_into(&trees, &aside));
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        let path = outcome.set_aside.unwrap();
        assert_eq!(path, aside.join(RUN));
        let echo =
            differences(&new, &crate::common::with_groups_within(snapshot(&trees.destination)));
        assert!(echo.is_empty(), "seed {seed}: {echo}");
        assert_kept(&old, &new, &snapshot(&path), &format!("seed {seed}"));
        let outcome = undo(&trees, &path);
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        let left = differences(&old, &snapshot(&trees.destination));
        assert!(left.is_empty(), "seed {seed}: {left}");
        assert_eq!(fs::read_dir(&aside).unwrap().count(), 0, "seed {seed}: something is left");
    }
}

#[test]
fn what_is_set_aside_on_another_drive_is_copied_there_and_back() {
    let Ok(elsewhere) = tempfile::tempdir_in("/dev/shm") else {
        return utter_echo_lab::left_out("no second drive to be had");
    };
    for seed in 840..852 {
        let trees = grown(seed);
        let aside = elsewhere.path().join(seed.to_string());
        let old = snapshot(&trees.destination);
        let outcome = run(&Linux, &mirror_into(&trees, &aside));
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        let outcome = undo(&trees, &outcome.set_aside.unwrap());
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        let left = differences(&old, &snapshot(&trees.destination));
        assert!(left.is_empty(), "seed {seed}: {left}");
    }
}

#[test]
fn what_is_set_aside_on_another_drive_is_flushed_before_anything_is_removed() {
    let Ok(elsewhere) = tempfile::tempdir_in("/dev/shm") else {
        return utter_echo_lab::left_out("no second drive to be had");
    };
    let trees = Trees::new();
    fs::create_dir(trees.destination.join("old")).unwrap();
    for name in ["replaced", "removed", "old/removed"] {
        fs::write(trees.destination.join(name), name).unwrap();
    }
    fs::write(trees.source.join("replaced"), "by what is new").unwrap();
    let is_kept = || {
        let aside = elsewhere.path().join(RUN);
        ["replaced", "removed", "old/removed"].iter().all(|name| aside.join(name).exists())
    };
    let flushed = std::sync::atomic::AtomicBool::new(false);
    let are_there = || {
        let old = ["removed", "old/removed"];
        old.iter().all(|name| trees.destination.join(name).exists())
            && fs::read(trees.destination.join("replaced")).unwrap() == b"replaced"
    };
    let system = Tampered::before_each(|call| {
        if call == "flush_drive" && is_kept() {
            flushed.store(true, std::sync::atomic::Ordering::Relaxed);
        }
        let safe = are_there() || flushed.load(std::sync::atomic::Ordering::Relaxed);
        assert!(safe, "something went before it was kept, by the time of {call}");
    });
    let mut request = mirror_into(&trees, elsewhere.path());
    request.running.flush = Flush::End;
    let outcome = run(&system, &request);
    assert!(outcome.problems.is_empty() && !are_there(), "{:?}", outcome.problems);
}

#[test]
fn a_run_killed_at_any_call_can_be_undone() {
    each_call(Tampering::KillAt);
}

#[test]
fn a_run_into_a_new_folder_killed_at_any_call_can_be_undone() {
    let prepare = || {
        let mut trees = Trees::in_memory();
        Gardener::new(7).grow(&trees.source, 4);
        fs::remove_dir(&trees.destination).unwrap();
        trees.destination = trees.destination.join("harbour/saltmere");
        let store = trees.base.path().join("store");
        let request = mirror_into(&trees, &store);
        (trees, request, store)
    };
    let (_trees, request, _) = prepare();
    let calls = crate::common::chosen_calls_of(&Tampered::new(Tampering::Nothing), &request);
    for at in calls {
        let (trees, request, store) = prepare();
        let system = Tampered::new(Tampering::KillAt(at));
        let session = Session::open(&system, &request);
        let plan = session.as_ref().ok().and_then(|session| session.plan(&NoObserver).ok());
        if let Some((session, plan)) = session.ok().zip(plan) {
            session.execute(&plan, &NoObserver);
        }
        let never = |why: &String| why.contains("never started") || why.contains("not the folder");
        let undone = crate::common::undo(&Linux, &store.join(RUN));
        let is_undone = undone.as_ref().err().is_none_or(never);
        assert!(is_undone, "call {at}: {undone:?}");
        let top = trees.destination.ancestors().nth(2).unwrap();
        assert!(!top.exists(), "call {at}");
    }
}

#[test]
fn a_run_in_which_a_call_failed_can_be_undone() {
    let errors = [Errno::IO, Errno::ACCESS, Errno::NOSPC, Errno::PERM, Errno::ROFS, Errno::MLINK];
    each_call(|at| Tampering::FailOne(at, errors[at % errors.len()].raw_os_error()));
}

/// Tampers with each call of a run in turn, and undoes the result.
fn each_call(tampering: impl Fn(usize) -> Tampering) {
    let prepare = || {
        let trees = Trees::in_memory();
        Gardener::new(11).grow(&trees.source, 18);
        Gardener::new(11).grow(&trees.destination, 18);
        Gardener::new(12).change(&trees.source, 12);
        crate::common::move_a_folder(&trees.source);
        let aside = trees.base.path().join("aside");
        let mut request = mirror_into(&trees, &aside);
        request.running.workers = Workers::Fixed(1);
        request.changed.steps = Verbs::ALL;
        (trees, aside, request)
    };
    let (_trees, _, request) = prepare();
    let counted = Tampered::new(Tampering::Nothing);
    let session = Session::open(&counted, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    // Before that nothing is changed; only the capabilities of the drive are tried out.
    let begun = counted.calls().len();
    session.execute(&plan, &NoObserver);
    let mut undone = 0;
    for at in begun..counted.calls().len() {
        let (trees, aside, request) = prepare();
        let old = snapshot(&trees.destination);
        let system = Tampered::new(tampering(at));
        let Ok(session) = Session::open(&system, &request) else { continue };
        let Ok(plan) = session.plan(&NoObserver) else { continue };
        session.execute(&plan, &NoObserver);
        let call = system.calls().get(at).copied().unwrap_or("none");
        let path = aside.join(RUN);
        let when = format!("call {at} ({call})");
        let Ok(_) = PastRun::open(&Linux, &path) else {
            // It had not changed anything yet, or was not killed at all.
            let left = differences(&old, &snapshot(&trees.destination));
            assert!(left.is_empty(), "{when}: {left}");
            continue;
        };
        undo(&trees, &path);
        // An unfinished entry is left under a hidden name, and has changed the times of its folders.
        let shown = |mut tree: Snapshot| {
            tree.retain(|path, _| !path.split(|b| *b == b'/').any(|n| n.starts_with(b".utter-")));
            let folders = tree.values_mut().filter(|facts| facts.mode >> 12 == 4);
            folders.for_each(|facts| facts.modified = (0, 0));
            tree
        };
        let left = differences(&shown(old), &shown(snapshot(&trees.destination)));
        assert!(left.is_empty(), "{when}: {left}");
        undone += 1;
    }
    assert!(undone > 50, "only {undone} runs were undone");
}

/// What a killed run may have left beside the entries that its undo restores.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Else {
    Nothing,
    HalfWritten,
    Drive,
}

#[test]
fn the_marker_of_a_killed_run_goes_with_its_undo_unless_something_else_is_unfinished() {
    let (mut gone, mut kept, mut within) = (0, 0, 0);
    for at in (0..2000).step_by(13) {
        for else_is in [Else::Nothing, Else::HalfWritten, Else::Drive] {
            let trees = Trees::in_memory();
            Gardener::new(11).grow(&trees.source, 18);
            Gardener::new(11).grow(&trees.destination, 18);
            Gardener::new(12).change(&trees.source, 12);
            for side in [&trees.source, &trees.destination] {
                fs::write(side.join("tide.csv"), "high at six").unwrap();
            }
            let aside = trees.base.path().join("aside");
            let mut request = mirror_into(&trees, &aside);
            request.running.flush = Flush::End;
            request.running.workers = Workers::Fixed(1);
            // That drive has a clock of its own, and is not flushed with the rest.
            let drive = (else_is == Else::Drive)
                .then(|| MountedDrive::make(DriveKind::Tmpfs, &trees.destination));
            if matches!(drive, Some(Err(_))) {
                continue;
            }
            let system = Tampered::new(Tampering::KillAt(at));
            let session = Session::open(&system, &request);
            let plan = session.as_ref().ok().and_then(|session| session.plan(&NoObserver).ok());
            let Some((session, plan)) = session.ok().zip(plan) else { continue };
            session.execute(&plan, &NoObserver);
            drop(session);
            let marker = trees.destination.join(String::from_utf8(dirty_marker::name()).unwrap());
            if fs::symlink_metadata(&marker).is_err() {
                continue;
            }
            if else_is == Else::HalfWritten {
                fs::write(trees.destination.join("tide.csv"), "half").unwrap();
            }
            if try_to_undo(&Linux, &trees, &aside.join(RUN)) {
                let is_gone = fs::symlink_metadata(&marker).is_err();
                assert_eq!(is_gone, else_is == Else::Nothing, "killed at call {at}, {else_is:?}");
                *match else_is {
                    Else::Nothing => &mut gone,
                    Else::HalfWritten => &mut kept,
                    Else::Drive => &mut within,
                } += 1;
            }
        }
    }
    assert!(gone > 3 && kept > 3, "{gone} {kept}");
    if within == 0 {
        utter_echo_lab::left_out("no drive could be mounted within");
    }
}

#[test]
fn an_undo_killed_at_any_call_can_be_repeated_until_all_is_restored() {
    each_call_of_undo(None, Tampering::KillAt);
}

#[test]
fn hard_links_are_restored_from_another_drive_though_the_undo_was_killed() {
    use std::os::unix::fs::MetadataExt as _;
    // The trees are in memory.
    let elsewhere = tempfile::tempdir().unwrap();
    let drive = |path: &Path| fs::metadata(path).unwrap().dev();
    if drive(elsewhere.path()) == drive(Trees::in_memory().base.path()) {
        return utter_echo_lab::left_out("no second drive to be had");
    }
    each_call_of_undo(Some(elsewhere.path()), Tampering::KillAt);
}

#[test]
fn an_undo_in_which_a_call_failed_can_be_repeated_until_all_is_restored() {
    let errors = [Errno::IO, Errno::ACCESS, Errno::NOSPC, Errno::PERM, Errno::ROFS, Errno::MLINK];
    each_call_of_undo(None, |at| Tampering::FailOne(at, errors[at % errors.len()].raw_os_error()));
}

#[test]
fn set_aside_entries_are_not_removed_for_a_similar_name() {
    let Ok(elsewhere) = tempfile::tempdir_in("/dev/shm") else {
        return utter_echo_lab::left_out("no second drive to be had");
    };
    let trees = Trees::new();
    share_files(&trees);
    let outcome = run(&Linux, &mirror_into(&trees, elsewhere.path()));
    let stays = trees.destination.join("log");
    let time = fs::metadata(&stays).unwrap().modified().unwrap();
    fs::write(&stays, "KEPT").unwrap();
    fs::File::options().write(true).open(&stays).unwrap().set_modified(time).unwrap();
    undo(&trees, &outcome.set_aside.unwrap());
    for name in ["log 2", "names/log 3"] {
        assert_eq!(fs::read(trees.destination.join(name)).unwrap(), b"kept", "{name}");
    }
}

/// The destination has three names of one file, of which one stays, and two of another, of which none stays.
fn share_files(trees: &Trees) {
    let kept = trees.source.join("log");
    fs::write(&kept, "kept").unwrap();
    let there = |name: &str| trees.destination.join(name);
    fs::write(there("log"), "kept").unwrap();
    let time = fs::metadata(&kept).unwrap().modified().unwrap();
    fs::File::open(there("log")).unwrap().set_modified(time).unwrap();
    fs::write(there("tide"), "of last year").unwrap();
    fs::create_dir(there("names")).unwrap();
    for (first, other) in [("log", "log 2"), ("log", "names/log 3"), ("tide", "names/tide 2")] {
        fs::hard_link(there(first), there(other)).unwrap();
    }
}

/// Tampers with each call of an undo in turn. Afterwards either all is back, or the next undo restores it.
fn each_call_of_undo(elsewhere: Option<&Path>, tampering: impl Fn(usize) -> Tampering) {
    let prepare = || {
        let trees = Trees::in_memory();
        Gardener::new(11).grow(&trees.source, 12);
        Gardener::new(11).grow(&trees.destination, 12);
        Gardener::new(12).change(&trees.source, 8);
        crate::common::move_a_folder(&trees.source);
        // A folder in the place of a file, and a file in the place of a folder.
        for (name, is_folder) in [("lamp", true), ("lens", false)] {
            for (root, is_folder) in [(&trees.source, is_folder), (&trees.destination, !is_folder)]
            {
                let path = root.join(name);
                if is_folder {
                    fs::create_dir_all(path.join("deep")).unwrap();
                    fs::write(path.join("deep/note"), name).unwrap();
                } else {
                    fs::write(path, name).unwrap();
                }
            }
        }
        share_files(&trees);
        let old = snapshot(&trees.destination);
        let aside = elsewhere.unwrap_or(trees.base.path()).join("aside");
        let _ = fs::remove_dir_all(&aside);
        let mut request = mirror_into(&trees, &aside);
        (request.running.workers, request.changed.steps) = (Workers::Fixed(1), Verbs::ALL);
        let outcome = run(&Linux, &request);
        assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
        (trees, outcome.set_aside.unwrap(), old)
    };
    let (trees, path, old) = prepare();
    let counted = Tampered::new(Tampering::Nothing);
    let planned = Cell::new(0);
    let plans = || planned.set(counted.calls().len());
    assert!(try_to_undo_with((&counted, &plans), &trees, &path, 1));
    assert_eq!(differences(&old, &snapshot(&trees.destination)), "");
    // The same calls, except those that copy and link.
    let calls = counted.calls().len();
    let chosen =
        if elsewhere.is_some() { sampled(0..calls, 3) } else { chosen_calls(planned.get(), calls) };
    for at in chosen {
        let (trees, path, old) = prepare();
        let system = Tampered::new(tampering(at));
        let says_so = try_to_undo(&system, &trees, &path);
        let when = format!("call {at} ({})", counted.calls()[at]);
        // A second undo, stopped elsewhere, goes on after the first, and a third after the second.
        let elsewhere = at * 7919 % counted.calls().len();
        if !says_so && path.with_extension("notes").exists() {
            try_to_undo(&Tampered::new(tampering(elsewhere)), &trees, &path);
        }
        if path.with_extension("notes").exists() {
            let again = try_to_undo(&Linux, &trees, &path);
            if !again {
                let past = PastRun::open(&Linux, &path).unwrap();
                let wanted = request(&trees, Task::Undo);
                let session = Session::open_to_undo(&Linux, &wanted, &past).unwrap();
                panic!("{when}: not back: {:?}", session.not_back());
            }
        }
        let left = differences(&old, &snapshot(&trees.destination));
        assert!(left.is_empty(), "{when}: {left}");
    }
}

#[test]
fn attributes_outside_stat_are_restored_wherever_the_run_was_killed() {
    let name = "user.keeper";
    let prepare = || {
        let trees = Trees::new();
        for side in [&trees.source, &trees.destination] {
            fs::write(side.join("ledger"), "debts").unwrap();
            let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_000_000_000);
            for path in [side.join("ledger"), side.clone()] {
                fs::File::open(path).unwrap().set_modified(time).unwrap();
            }
        }
        let (ours, theirs) = (trees.source.join("ledger"), trees.destination.join("ledger"));
        let set =
            xattr::set(&theirs, name, b"old").and_then(|()| xattr::set(&theirs, "user.b", b"b"));
        let able = set.and_then(|()| xattr::set(ours, name, b"new")).is_ok();
        let mut request = mirror_into(&trees, &trees.base.path().join("aside"));
        (request.changed.all_attributes, request.running.workers) = (true, Workers::Fixed(1));
        (trees, request, able)
    };
    let (trees, request, able) = prepare();
    if !able {
        return utter_echo_lab::left_out("this drive has no extended attributes");
    }
    let counted = Tampered::new(Tampering::Nothing);
    let (old, path) = (snapshot(&trees.destination), run(&counted, &request).set_aside.unwrap());
    assert_ne!(snapshot(&trees.destination), old);
    undo(&trees, &path);
    assert_eq!(snapshot(&trees.destination), old);
    let mut undone = 0;
    for at in 0..counted.calls().len() {
        let (trees, request, _) = prepare();
        let system = Tampered::new(Tampering::KillAt(at));
        let Ok(session) = Session::open(&system, &request) else { continue };
        let Ok(plan) = session.plan(&NoObserver) else { continue };
        session.execute(&plan, &NoObserver);
        let path = trees.base.path().join("aside").join(RUN);
        if PastRun::open(&Linux, &path).is_ok() {
            undo(&trees, &path);
            assert_eq!(snapshot(&trees.destination), old, "killed at call {at}");
            undone += 1;
        }
    }
    assert!(undone > 5, "only {undone} runs were undone");
}

#[test]
fn what_changed_since_is_left_alone_and_the_rest_is_undone() {
    let trees = Trees::new();
    let (source, destination) = (&trees.source, &trees.destination);
    for (name, here, there) in [
        ("a", "new", None),
        ("b", "new", None),
        ("c", "longer", Some("c")),
        ("d", "longer", Some("d")),
    ] {
        fs::write(source.join(name), here).unwrap();
        if let Some(there) = there {
            fs::write(destination.join(name), there).unwrap();
        }
    }
    fs::write(destination.join("e"), "extra").unwrap();
    let aside = trees.base.path().join("aside");
    let path = run(&Linux, &mirror_into(&trees, &aside)).set_aside.unwrap();
    fs::write(destination.join("b"), "worked on since").unwrap();
    fs::write(destination.join("d"), "worked on since").unwrap();
    fs::write(destination.join("e"), "made anew").unwrap();
    let outcome = undo(&trees, &path);
    let named: Vec<_> = outcome.problems.iter().map(|problem| problem.path.as_bytes()).collect();
    assert_eq!(named, [b"b", b"d", b"e"]);
    assert!(
        outcome.problems.iter().all(|problem| problem.cause.is_stale()),
        "{:?}",
        outcome.problems
    );
    let now = |name: &str| fs::read_to_string(destination.join(name)).ok();
    assert_eq!(now("a"), None);
    assert_eq!(now("c").as_deref(), Some("c"));
    assert_eq!(now("b").as_deref(), Some("worked on since"));
    assert_eq!(now("d").as_deref(), Some("worked on since"));
    assert_eq!(now("e").as_deref(), Some("made anew"));
    // What could not be restored is still set aside, and is restored once there is space for it.
    assert_eq!(fs::read_to_string(path.join("d")).unwrap(), "d");
    fs::remove_file(destination.join("e")).unwrap();
    undo(&trees, &path);
    assert_eq!(now("e").as_deref(), Some("extra"));
}

#[test]
fn only_runs_that_need_not_be_kept_are_pruned() {
    let trees = Trees::new();
    let aside = trees.base.path().join("aside");
    let runs: Vec<String> = (10..16).map(|day| format!("2026-11-{day}T00-00-00Z")).collect();
    let run_at = |day: usize, keep: Option<Keep>| -> Vec<PathBuf> {
        let mut request = mirror_into(&trees, &aside);
        let set_aside = request.safety.set_aside.as_mut().unwrap();
        (set_aside.run, set_aside.keep) = (runs[day].clone(), keep);
        let outcome = run(&Linux, &request);
        assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
        let mut left: Vec<_> = fs::read_dir(&aside).unwrap().map(|e| e.unwrap().path()).collect();
        left.retain(|path| path.is_dir());
        left.sort();
        left
    };
    let names = |paths: Vec<PathBuf>| -> Vec<String> {
        paths.iter().map(|path| path.file_name().unwrap().to_str().unwrap().to_owned()).collect()
    };
    let write = |day: usize| {
        fs::write(trees.source.join("tide.csv"), "x".repeat(day + 1)).unwrap();
    };
    for day in 0..3 {
        write(day);
        run_at(day, None);
    }
    // Neither has a record next to it.
    fs::create_dir(aside.join("2026-11-01T00-00-00Z")).unwrap();
    fs::create_dir(aside.join("notes")).unwrap();
    write(3);
    assert_eq!(names(run_at(3, Some(Keep::Newest(3)))).len(), 5);
    // Nothing is removed for its age that only one run found old: that run's clock may be a year ahead.
    write(4);
    let old = Some(Keep::Since(runs[3].clone()));
    assert_eq!(names(run_at(4, old.clone())).len(), 6);
    write(5);
    let kept = names(run_at(5, old));
    assert_eq!(kept, ["2026-11-01T00-00-00Z", &*runs[3], &*runs[4], &*runs[5], "notes"]);
    // A second run within one second gets another name.
    assert_eq!(names(run_at(5, None)).len(), 5, "nothing changed, nothing is set aside");
    fs::write(trees.source.join("lens.svg"), "<svg/>").unwrap();
    assert!(names(run_at(5, None)).contains(&format!("{}-2", runs[5])));
}

#[test]
fn a_run_that_sets_aside_above_its_destination_does_not_wait_for_itself() {
    let mut trees = Trees::in_memory();
    trees.destination = trees.destination.join("echo");
    fs::create_dir(&trees.destination).unwrap();
    for (side, text) in [(&trees.source, "lit"), (&trees.destination, "dark, and longer")] {
        fs::write(side.join("log"), text).unwrap();
    }
    let above = trees.destination.parent().unwrap().to_path_buf();
    let request = mirror_into(&trees, &above);
    let system = Tampered::new(Tampering::Nothing);
    let session = Session::open(&system, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    session.guard(&plan, &[]).unwrap();
    let outcome = session.execute(&plan, &NoObserver);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    let tries = system.calls().into_iter().filter(|call| *call == "lock").count();
    assert!(tries < 30, "it asks again and again for what it has itself: {tries}");
}

/// Only a run that looked at everything can clear the dirty marker.
#[test]
fn undo_leaves_the_dirty_markers_of_other_runs() {
    let trees = Trees::new();
    fs::write(trees.source.join("tide.csv"), "high").unwrap();
    let aside = trees.base.path().join("aside");
    let path = run(&Linux, &mirror_into(&trees, &aside)).set_aside.unwrap();
    // A later run was killed, and no run has looked at everything since.
    let killed = Tampered::new(Tampering::FailAll("flush_drive", Errno::IO.raw_os_error()));
    fs::write(trees.source.join("lens.svg"), "<svg/>").unwrap();
    let mut request = request(&trees, Task::Copy);
    request.running.flush = Flush::End;
    run(&killed, &request);
    let mark = trees.destination.join(".utter-2cdf9ba5b64a9d78");
    assert!(mark.is_symlink(), "the run that was killed left no mark");
    undo(&trees, &path);
    assert!(mark.is_symlink(), "undo took the mark away");
    assert!(!trees.destination.join("tide.csv").exists());
}

/// What is done to a file; returns whether it was possible.
type Touch<'a> = (&'a str, &'a dyn Fn(&Path) -> bool);

#[test]
fn attributes_that_were_changed_since_are_noticed() {
    let is_root = utter_echo_lab::is_root();
    let touches: [Touch<'_>; 4] = [
        ("nothing", &|_| true),
        ("mode", &|path| fs::set_permissions(path, fs::Permissions::from_mode(0o640)).is_ok()),
        ("owner", &|path| is_root && std::os::unix::fs::chown(path, Some(7), Some(7)).is_ok()),
        ("attribute", &|path| xattr::set(path, "user.keeper", b"three").is_ok()),
    ];
    for (what, touch) in touches {
        let trees = Trees::new();
        for (side, text) in [(&trees.source, "new"), (&trees.destination, "older")] {
            fs::write(side.join("replaced"), text).unwrap();
            fs::write(side.join("adjusted"), "same").unwrap();
            fs::create_dir(side.join("seasons")).unwrap();
            let file = fs::File::open(side.join("adjusted")).unwrap();
            file.set_modified(std::time::UNIX_EPOCH).unwrap();
        }
        fs::write(trees.source.join("seasons/added"), "new").unwrap();
        for name in ["adjusted", "seasons"] {
            let mode = fs::Permissions::from_mode(0o700);
            fs::set_permissions(trees.source.join(name), mode).unwrap();
        }
        let request = mirror_into(&trees, &trees.base.path().join("aside"));
        let path = run(&Linux, &request).set_aside.unwrap();
        let touched = ["replaced", "adjusted", "seasons/added"];
        if !touched.iter().all(|name| touch(&trees.destination.join(name))) {
            utter_echo_lab::left_out(format!("a file whose {what} changed"));
            continue;
        }
        let past = PastRun::open(&Linux, &path).unwrap();
        let wanted = crate::common::request(&trees, Task::Undo);
        let session = Session::open_to_undo(&Linux, &wanted, &past).unwrap();
        let plan = session.plan_to_undo().unwrap();
        let named: Vec<_> =
            plan.problems.iter().map(|p| String::from_utf8_lossy(p.path.as_bytes())).collect();
        // A change to a folder is only noticed where `stat` shows it.
        let expected = if what == "nothing" { vec![] } else { touched.to_vec() };
        assert_eq!(named.len(), expected.len(), "{what}: {named:?}");
        assert!(expected.iter().all(|name| named.iter().any(|n| n == name)), "{what}: {named:?}");
        let outcome = session.execute(&plan, &NoObserver);
        assert!(outcome.problems.is_empty(), "{what}: {:?}", outcome.problems);
        assert_eq!(session.not_back().unwrap().is_empty(), expected.is_empty(), "{what}");
    }
}

/// A system in which each worker's first operation waits until some folder is given its time, or until no worker is
/// left that could do that. So a worker that sets a folder's time too early is sure to do so here.
fn with_late_deeds<'a>() -> Tampered<'a> {
    let dressed = std::sync::atomic::AtomicUsize::new(0);
    Tampered::before_each(move |name| {
        use std::sync::atomic::Ordering::SeqCst;
        thread_local!(static LATE: Cell<u32> = const { Cell::new(0) });
        match name {
            "set_times" => drop(dressed.fetch_add(1, SeqCst)),
            "rename" | "remove_file" | "add_name" | "create_folder" if LATE.get() < 3 => {
                LATE.set(LATE.get() + 1);
                let before = dressed.load(SeqCst);
                for _ in 0..40 {
                    if dressed.load(SeqCst) > before {
                        break;
                    }
                    std::thread::sleep(std::time::Duration::from_millis(1));
                }
            }
            _ => {}
        }
    })
}

#[test]
fn folders_are_given_their_times_once_their_entries_are_done() {
    for seed in 880..888 {
        let trees = grown(seed);
        let mut wanted = mirror_into(&trees, &trees.base.path().join("aside"));
        (wanted.running.workers, wanted.changed.steps) = (Workers::Fixed(4), Verbs::ALL);
        let (old, new) = (snapshot(&trees.destination), snapshot(&trees.source));
        let outcome = run(&with_late_deeds(), &wanted);
        assert!(outcome.problems.is_empty(), "seed {seed}: {:?}", outcome.problems);
        let left =
            differences(&new, &crate::common::with_groups_within(snapshot(&trees.destination)));
        assert!(left.is_empty(), "seed {seed}: {left}");
        let Some(path) = outcome.set_aside else { continue };
        assert!(try_to_undo_with((&with_late_deeds(), &|| {}), &trees, &path, 4), "seed {seed}");
        let left = differences(&old, &snapshot(&trees.destination));
        assert!(left.is_empty(), "seed {seed} undone: {left}");
    }
}

#[test]
fn a_run_that_is_in_use_is_neither_pruned_nor_undone() {
    let trees = Trees::new();
    let aside = trees.base.path().join("aside");
    let run_at = |day: usize, keep: Option<Keep>| {
        let mut request = mirror_into(&trees, &aside);
        let set_aside = request.safety.set_aside.as_mut().unwrap();
        (set_aside.run, set_aside.keep) = (format!("2026-11-{day}T00-00-00Z"), keep);
        fs::write(trees.source.join("tide.csv"), "x".repeat(day)).unwrap();
        let outcome = run(&Linux, &request);
        assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
        outcome.set_aside.unwrap()
    };
    let first = run_at(20, None);
    let past = PastRun::open(&Linux, &first).unwrap();
    let wanted = request(&trees, Task::Undo);
    let session = Session::open_to_undo(&Linux, &wanted, &past).unwrap();
    let lock = session.hold().unwrap();
    assert!(lock.is_some() && session.hold().is_err());
    // By its clock this one is older than the other, and would be removed.
    let second = run_at(19, Some(Keep::Newest(1)));
    assert!(first.exists() && second.exists());
    drop(lock);
    // Nor is one whose destination does not exist now.
    let away = trees.base.path().join("away");
    fs::rename(&trees.destination, &away).unwrap();
    fs::create_dir(&trees.destination).unwrap();
    let elsewhere = run_at(22, Some(Keep::Newest(1)));
    assert!(first.exists() && second.exists() && elsewhere.exists());
    fs::remove_dir_all(&trees.destination).unwrap();
    fs::rename(&away, &trees.destination).unwrap();
    fs::remove_dir_all(&elsewhere).unwrap();
    fs::remove_file(elsewhere.with_extension("notes")).unwrap();
    // Nor one whose journal cannot be read: it may hold the only copy of something.
    let notes = fs::read(first.with_extension("notes")).unwrap();
    let mut damaged = notes.clone();
    damaged[20] ^= 1;
    fs::write(first.with_extension("notes"), damaged).unwrap();
    let newer = run_at(23, Some(Keep::Newest(1)));
    assert!(first.exists() && !second.exists() && newer.exists());
    fs::write(first.with_extension("notes"), notes).unwrap();
    fs::remove_dir_all(&newer).unwrap();
    fs::remove_file(newer.with_extension("notes")).unwrap();
    let third = run_at(21, Some(Keep::Newest(1)));
    assert!(!first.exists() && !second.exists() && third.exists());
}

#[test]
fn nothing_is_set_aside_inside_one_of_the_sides() {
    let trees = grown(860);
    for inside in [
        trees.source.clone(),
        trees.source.join("aside"),
        trees.destination.join("deep/er"),
        trees.destination.join("..").join("destination"),
    ] {
        let request = mirror_into(&trees, &inside);
        let session = Session::open(&Linux, &request).unwrap();
        let refused = session.plan(&NoObserver).unwrap_err().to_string();
        assert!(refused.contains("outside both"), "{}: {refused}", inside.display());
    }
    assert!(!plan_of(&Linux, &mirror_into(&trees, trees.base.path())).is_empty());
}
