//! Guarantee: a move never leaves an entry missing on both sides, wherever it is killed or fails. What leaves the
//! source is proven to be in the destination; what is not proven stays and is reported. The same command finishes
//! the work.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::HashMap;
use std::fs;
use std::os::fd::AsFd as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;
use std::process::Command;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, SystemTime};

use crate::common::{Trees, chosen_calls, chosen_calls_of};
use proptest::test_runner::{Config, TestCaseError, TestCaseResult, TestError, TestRunner};
use rustix::io::Errno;
use utter_echo_core::attribute::Attribute;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::{Linux, System};
use utter_echo_core::plan::{Note, Plan, Verb, Verbs};
use utter_echo_core::problem::{Cause, Problem};
use utter_echo_core::request::{
    CompareBy, Guard, MoveOptions, OnConflict, Request, Retries, Task, Workers,
};
use utter_echo_core::select::{PatternRules, Rules, Selection};
use utter_echo_core::{Ending, Outcome, Session, StepOutcome};
use utter_echo_lab::model::select;
use utter_echo_lab::world::{self, Options, Other, Tree, World};
use utter_echo_lab::{
    DriveKind, Facts, Gardener, Lies, LyingDrive, MountedDrive, Snapshot, Taking, Tampered,
    Tampering, differences, snapshot,
};

macro_rules! ensure {
    ($holds:expr, $($why:tt)*) => {
        if !$holds {
            return Err(TestCaseError::fail(format!($($why)*)));
        }
    };
}

/// By copying, as between two drives.
fn request(trees: &Trees) -> Request {
    let mut request = by_renaming(trees);
    request.changed.steps = Verbs::ALL.without(Verb::Rename);
    request
}

/// With its journal beside the trees.
fn by_renaming(trees: &Trees) -> Request {
    let mut request = crate::common::request(trees, Task::Move);
    request.changed.steps = Verbs::ALL;
    request.running.workers = Workers::Fixed(1);
    request.safety.set_aside = Some(crate::common::journal_of_moves(trees));
    request
}

/// An injected error is not retried.
fn impatient(mut request: Request) -> Request {
    request.running.retries = Retries::default();
    request
}

type RequestOf = fn(&Trees) -> Request;

/// What a run reports as a problem or as staying.
fn told(system: &dyn System, request: &Request) -> Result<(), String> {
    let session = Session::open(system, request).map_err(|error| error.to_string())?;
    let mut plan = session.plan(&NoObserver).map_err(|error| error.to_string())?;
    if session.recover(&plan).map_err(|refusal| refusal.to_string())? {
        plan = session.plan(&NoObserver).map_err(|error| error.to_string())?;
    }
    session.guard(&plan, &[]).map_err(|refusal| refusal.to_string())?;
    let outcome = session.execute(&plan, &NoObserver);
    let complete = matches!(outcome.ending, Ending::Complete);
    let stays = plan.notes.iter().find(|note| matches!(note, Note::RootStays(..)));
    if plan.problems.is_empty() && outcome.problems.is_empty() && complete && stays.is_none() {
        return Ok(());
    }
    Err(format!("{:?}\n{:?}\n{:?}\n{stays:?}", plan.problems, outcome.problems, outcome.ending))
}

/// True if the run reported no problem.
fn run(system: &dyn System, request: &Request) -> bool {
    told(system, request).is_ok()
}

fn carried_out(request: &Request) -> (Plan, Outcome) {
    carried_out_on(&Linux, request)
}

fn carried_out_on(system: &dyn System, request: &Request) -> (Plan, Outcome) {
    let session = Session::open(system, request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let outcome = session.execute(&plan, &NoObserver);
    (plan, outcome)
}

fn is_leftover(path: &[u8]) -> bool {
    path.split(|b| *b == b'/').any(|name| name.starts_with(b".utter-"))
}

/// Of the entries that exist.
fn seen(root: &Path) -> Snapshot {
    if root.exists() { snapshot(root) } else { Snapshot::default() }
}

/// Every entry that was in the source is still there, or in the destination, with all that belongs to it.
fn assert_nothing_is_lost(trees: &Trees, before: &Snapshot, when: &str) {
    let (here, there) = (seen(&trees.source), seen(&trees.destination));
    for (path, facts) in before {
        let shown = String::from_utf8_lossy(path);
        let same = |side: &Snapshot| {
            side.get(path).is_some_and(|now| {
                let is_folder = facts.mode >> 12 == 4;
                let of =
                    |f: &Facts| (f.mode, f.owner, f.content.clone(), f.device, f.xattrs.clone());
                // Entries that leave or enter a folder change its time.
                of(now) == of(facts) && (is_folder || now.modified == facts.modified)
            })
        };
        // An unfinished folder is given its attributes last.
        let is_there = facts.mode >> 12 == 4 && there.contains_key(path);
        assert!(
            same(&here) || same(&there) || is_there,
            "{when}: {shown:?} is nowhere: {facts:?}\n{:?}\n{:?}",
            here.get(path),
            there.get(path)
        );
    }
}

fn prepare(seed: u64) -> Trees {
    // One seed is tried on disk.
    let trees = if seed == 3 { Trees::new() } else { Trees::in_memory() };
    Gardener::new(seed).grow(&trees.source, 22);
    trees
}

#[test]
fn everything_arrives_and_nothing_stays() {
    for seed in 1..30 {
        let trees = prepare(seed);
        let before = snapshot(&trees.source);
        let again = seed % 3 == 0;
        if again {
            // Some of it is there already.
            let copy = crate::common::request(&trees, Task::Copy);
            crate::common::apply(&Linux, &copy);
            fs::create_dir(trees.source.join("more")).unwrap();
            Gardener::new(seed).grow(&trees.source.join("more"), 8);
            // A folder that is there already does not get the time of one that was changed since.
            let time = fs::metadata(&trees.destination).unwrap().modified().unwrap();
            fs::File::open(&trees.source).unwrap().set_modified(time).unwrap();
        }
        let before = if again { snapshot(&trees.source) } else { before };
        let disks = Tampered::new(Tampering::Nothing).with_rotational_disks();
        let system: &dyn System = if seed % 2 == 0 { &disks } else { &Linux };
        let (plan, outcome) = carried_out_on(system, &request(&trees));
        assert!(plan.problems.is_empty() && outcome.problems.is_empty(), "{seed}: {outcome:#?}");
        assert!(!trees.source.exists(), "seed {seed}: {:?}", seen(&trees.source).keys());
        let differences = differences(&before, &snapshot(&trees.destination));
        assert!(differences.is_empty(), "seed {seed}:\n{differences}");
        let vacated = plan.steps().filter(|placed| placed.step.verb == Verb::RemoveSource);
        assert!(
            vacated.count() > 0 && plan.steps().all(|p| outcome.of(p.number) == StepOutcome::Done)
        );
    }
}

/// Part of it is in folders that are there already, so that not all goes over in one step.
fn prepare_half(seed: u64) -> Trees {
    let trees = prepare(seed);
    let folders = fs::read_dir(&trees.source).unwrap().map(|entry| entry.unwrap());
    let folders = folders.filter(|entry| entry.file_type().unwrap().is_dir());
    for folder in folders.map(|entry| entry.file_name()).take(2) {
        fs::create_dir(trees.destination.join(folder)).unwrap();
    }
    trees
}

/// With some seeds the drives are rotational, and are read in disk order.
fn tampered(seed: u64, tampering: Tampering) -> Tampered<'static> {
    let system = Tampered::new(tampering);
    if seed == 3 || seed == 9 { system.with_rotational_disks() } else { system }
}

fn each_call(
    (prepare, seed, request): (fn(u64) -> Trees, u64, RequestOf),
    tampering: impl Fn(usize) -> Tampering + Sync,
    may_stand_in_the_way: bool,
) {
    let trees = prepare(seed);
    let calls = chosen_calls_of(&tampered(seed, Tampering::Nothing), &request(&trees));
    let each = |at: usize| {
        let trees = prepare(seed);
        let before = snapshot(&trees.source);
        let system = tampered(seed, tampering(at));
        let well = run(&system, &impatient(request(&trees)));
        let call = system.calls().get(at).copied().unwrap_or("none");
        let when = format!("seed {seed}, call {at} ({call})");
        assert_nothing_is_lost(&trees, &before, &when);
        if trees.source.exists() {
            assert!(
                !well || call == "remove_folder",
                "{when}: something stays, and all is said to be well"
            );
            // Where the drive was taken for one that holds less than it does, what was put there differs, and is a
            // conflict.
            let replace =
                MoveOptions { on_conflict: OnConflict::Replace, ..MoveOptions::default() };
            let next = told(&Linux, &request(&trees));
            let replaces = || told(&Linux, &request(&trees).moving(replace));
            let finished = next.is_ok() || may_stand_in_the_way && replaces().is_ok();
            assert!(finished, "{when}: the next run has problems: {next:?}");
        }
        let there = snapshot(&trees.destination);
        let differences = differences(&before, &there);
        assert!(differences.is_empty(), "{when}:\n{differences}");
        assert!(!trees.source.exists() && !there.keys().any(|path| is_leftover(path)), "{when}");
    };
    // Two at a time, since rotational disks are slow.
    let (some, others) = calls.split_at(calls.len() / 2);
    std::thread::scope(|scope| {
        scope.spawn(|| some.iter().copied().for_each(&each));
        others.iter().copied().for_each(&each);
    });
}

#[test]
fn killed_at_any_call_nothing_is_lost_and_the_next_run_finishes() {
    each_call((prepare_half, 3, request), Tampering::KillAt, false);
}

#[test]
fn a_renaming_killed_at_any_call_loses_nothing_and_the_next_run_finishes() {
    each_call((prepare_half, 12, by_renaming), Tampering::KillAt, false);
}

fn each_call_fails(prepare: fn(u64) -> Trees, way: RequestOf) {
    let errors = [Errno::IO, Errno::ACCESS, Errno::NOSPC, Errno::STALE, Errno::ROFS, Errno::BUSY];
    for seed in [5, 9] {
        let fail = |at: usize| errors[at % errors.len()].raw_os_error();
        each_call((prepare, seed, way), |at| Tampering::FailOne(at, fail(at)), true);
    }
}

#[test]
fn whatever_call_fails_nothing_is_lost_and_the_next_run_finishes() {
    each_call_fails(prepare, request);
}

#[test]
fn whatever_call_of_a_renaming_fails_nothing_is_lost_and_the_next_run_finishes() {
    each_call_fails(prepare_half, by_renaming);
}

#[test]
fn what_cannot_be_removed_from_its_folder_is_not_copied() {
    for seed in [2, 7, 11] {
        let trees = prepare(seed);
        let calls = Tampered::new(Tampering::Nothing);
        let (mut stays, whole) = (0, crate::common::plan_of(&calls, &request(&trees)));
        assert!(!whole.is_locked());
        for (at, call) in calls.calls().into_iter().enumerate() {
            if call != "may_change" {
                continue;
            }
            let trees = prepare(seed);
            let before = snapshot(&trees.source);
            let error = [Errno::ACCESS, Errno::ROFS, Errno::PERM][at % 3].raw_os_error();
            let locked = Tampered::new(Tampering::FailOne(at, error));
            let plan = crate::common::plan_of(&locked, &request(&trees));
            assert!(plan.problems.len() <= 1, "{:?}", plan.problems);
            let folder = plan.problems.first().map(|problem| problem.path.as_bytes().to_vec());
            Session::open(&Linux, &request(&trees)).unwrap().execute(&plan, &NoObserver);
            let (here, there) = (seen(&trees.source), seen(&trees.destination));
            for (path, facts) in &before {
                let (of, _) = path.split_at(path.iter().rposition(|b| *b == b'/').unwrap_or(0));
                let is_held = folder.as_deref() == Some(of) && !path.is_empty();
                // Hard links depend on each other, and folders on their entries.
                if facts.mode >> 12 == 4 || facts.same_as.is_some() {
                    continue;
                }
                stays += u32::from(is_held);
                let sides = (here.contains_key(path), there.contains_key(path));
                assert_eq!(sides, (is_held, !is_held), "{:?} of {folder:?}", path.escape_ascii());
            }
        }
        assert!(stays > 0);
        // A drive from which nothing can be removed is reported once, and no folder is made.
        let (before, read_only) = (snapshot(&trees.source), Errno::ROFS.raw_os_error());
        let system = Tampered::new(Tampering::FailAll("may_change", read_only));
        let plan = crate::common::plan_of(&system, &request(&trees));
        assert!(plan.is_locked() && plan.problems.len() == 1, "{:?}", plan.problems);
        assert!(plan.problems[0].path.as_bytes().is_empty());
        // Where this cannot be known beforehand, it is tried.
        let system = Tampered::new(Tampering::FailAll("may_change", Errno::NOSYS.raw_os_error()));
        assert!(run(&system, &request(&trees)));
        assert_eq!(differences(&before, &snapshot(&trees.destination)), "");
    }
}

/// All is flushed at once; a file is by itself only if somebody wrote to its copy since.
#[test]
fn what_was_changed_since_the_flush_is_flushed_by_itself() {
    // Also on a drive whose clock is behind that of this machine.
    for behind in [Duration::ZERO, Duration::from_secs(3600)] {
        changes_since_the_flush_are_flushed(behind);
    }
}

fn changes_since_the_flush_are_flushed(behind: Duration) {
    let flushes = |writes: bool| {
        let trees = Trees::new();
        for name in ["lens.svg", "tide.csv", "logbook"] {
            fs::write(trees.source.join(name), format!("the {name}")).unwrap();
        }
        let truth = trees.base.path().join("truth");
        fs::create_dir(&truth).unwrap();
        let lies = Lies { taking: Some(Taking::default()), behind, ..Lies::default() };
        let drive = (behind > Duration::ZERO)
            .then(|| LyingDrive::mount(lies, &truth, &trees.destination))
            .transpose();
        let _drive = match drive {
            Ok(drive) => drive,
            Err(error) => {
                utter_echo_lab::left_out(format!("no drive that lies could be mounted: {error}"));
                return None;
            }
        };
        let (flushed, done) = (AtomicBool::new(false), AtomicBool::new(false));
        let system = Tampered::before_each(|call| {
            // Changes within one tick of the clock cannot be told apart.
            if ["create_nameless", "create_file"].contains(&call) {
                std::thread::sleep(Duration::from_millis(20));
            }
            let is_after = flushed.fetch_or(call == "flush_drive", Ordering::Relaxed);
            if writes && is_after && !done.swap(true, Ordering::Relaxed) {
                let path = trees.destination.join("tide.csv");
                let time = fs::metadata(&path).unwrap().modified().unwrap();
                std::thread::sleep(Duration::from_millis(20));
                fs::write(&path, "the tide.csv").unwrap();
                fs::File::open(&path).unwrap().set_modified(time).unwrap();
            }
        });
        let mut request = request(&trees);
        if behind > Duration::ZERO {
            // The drive has no device that its content could be read from.
            request.safety.waived.push(Guard::Loss);
        }
        assert!(run(&system, &request));
        assert!(!trees.source.exists());
        Some(system.calls().into_iter().filter(|call| *call == "flush_file").count())
    };
    assert_eq!(flushes(true), flushes(false).map(|without| without + 1), "{behind:?}");
}

#[test]
fn what_is_not_the_same_on_the_drive_stays_in_the_source() {
    let trees = Trees::new();
    for name in ["lens.svg", "tide.csv", "logbook"] {
        fs::write(trees.source.join(name), format!("the {name}")).unwrap();
    }
    let done = AtomicBool::new(false);
    let system = Tampered::before_each(|call| {
        // Once all is copied and flushed, a byte of a copy changes unnoticed, and the time stays.
        if call == "take_lease" || call == "flush_drive" {
            let path = trees.destination.join("tide.csv");
            if path.exists() && !done.swap(true, Ordering::Relaxed) {
                let time = fs::metadata(&path).unwrap().modified().unwrap();
                fs::write(&path, "the tidE.csv").unwrap();
                fs::File::open(&path).unwrap().set_modified(time).unwrap();
            }
        }
    });
    let request = request(&trees);
    let session = Session::open(&system, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let outcome = session.execute(&plan, &NoObserver);
    assert!(done.load(Ordering::Relaxed));
    assert_eq!(outcome.problems.len(), 1, "{outcome:?}");
    let told = outcome.problems[0].cause.to_string();
    assert!(told.contains("differs"), "{told}");
    assert_eq!(fs::read_to_string(trees.source.join("tide.csv")).unwrap(), "the tide.csv");
    assert_eq!(fs::read_dir(&trees.source).unwrap().count(), 1, "the rest went");
}

#[test]
fn what_is_written_to_meanwhile_stays() {
    for how in ["open", "closed", "changed", "replaced"] {
        let trees = Trees::new();
        fs::write(trees.source.join("tide.csv"), "1,2,3").unwrap();
        fs::write(trees.source.join("lens.svg"), "<svg/>").unwrap();
        let path = trees.source.join("tide.csv");
        let open = || fs::File::options().append(true).open(&path).unwrap();
        let open = Mutex::new(["open", "closed"].contains(&how).then(open));
        let (count, leases) = (AtomicUsize::new(0), AtomicUsize::new(0));
        let system = Tampered::before_each(|call| {
            let nth = count.fetch_add(usize::from(call == "remove_file"), Ordering::Relaxed);
            if call == "flush_drive" && nth == 0 && how == "changed" {
                let time = fs::metadata(&path).unwrap().modified().unwrap();
                fs::write(&path, "4,5,6").unwrap();
                fs::File::open(&path).unwrap().set_modified(time).unwrap();
            }
            // The other file takes two leases. The first try for this one takes one, and then its writer ends.
            let lease = leases.fetch_add(usize::from(call == "take_lease"), Ordering::Relaxed);
            if call == "take_lease" && lease == 3 && how == "closed" {
                drop(open.lock().unwrap().take());
            }
            if call == "flush_drive" && how == "replaced" {
                let _ = fs::remove_file(&path);
                fs::write(&path, "7,8,9").unwrap();
            }
        });
        let request = request(&trees);
        let session = Session::open(&system, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let outcome = session.execute(&plan, &NoObserver);
        assert!(!trees.source.join("lens.svg").exists(), "{how}: the rest goes");
        if how == "closed" {
            assert!(open.lock().unwrap().is_none());
            assert!(outcome.problems.is_empty() && !path.exists(), "{outcome:?}");
            continue;
        }
        let theirs = match how {
            "open" => "1,2,3",
            "changed" => "4,5,6",
            _ => "7,8,9",
        };
        assert_eq!(fs::read_to_string(&path).unwrap(), theirs, "{how}: {outcome:?}");
        assert!(!outcome.problems.is_empty(), "{how}: {outcome:?}");
    }
}

#[test]
fn conflicting_entries_stay_unless_requested_otherwise() {
    for (on_conflict, left, there) in [
        (OnConflict::Skip, vec!["newer", "older"], ["theirs", "theirs"]),
        (OnConflict::Newer, vec!["older"], ["ours", "theirs"]),
        (OnConflict::Replace, vec![], ["ours", "ours"]),
    ] {
        let trees = Trees::new();
        for (name, here, other) in
            [("newer", 2_000_000_000, 1_000_000_000), ("older", 1_000_000_000, 2_000_000_000)]
        {
            for (root, text, secs) in
                [(&trees.source, "ours", here), (&trees.destination, "theirs", other)]
            {
                fs::write(root.join(name), text).unwrap();
                let time = SystemTime::UNIX_EPOCH + Duration::from_secs(secs);
                fs::File::open(root.join(name)).unwrap().set_modified(time).unwrap();
            }
        }
        for root in [&trees.source, &trees.destination] {
            fs::create_dir(root.join("shared")).unwrap();
            fs::write(root.join("shared/same"), "same").unwrap();
            let time = SystemTime::UNIX_EPOCH + Duration::from_secs(7);
            fs::File::open(root.join("shared/same")).unwrap().set_modified(time).unwrap();
        }
        fs::write(trees.source.join("shared/new"), "new").unwrap();
        let request = request(&trees).moving(MoveOptions { on_conflict, ..MoveOptions::default() });
        let (plan, outcome) = carried_out(&request);
        assert_eq!(plan.problems.len(), left.len(), "{on_conflict:?}: {:?}", plan.problems);
        assert!(outcome.problems.is_empty(), "{on_conflict:?}: {outcome:?}");
        let mut stays: Vec<_> = match fs::read_dir(&trees.source) {
            Ok(entries) => entries.map(|e| e.unwrap().file_name().into_string().unwrap()).collect(),
            Err(_) => Vec::new(),
        };
        stays.sort();
        assert_eq!(stays, left, "{on_conflict:?}");
        let read = |name: &str| fs::read_to_string(trees.destination.join(name)).unwrap();
        assert_eq!([read("newer"), read("older")], there, "{on_conflict:?}");
        assert_eq!((read("shared/same"), read("shared/new")), ("same".into(), "new".into()));
    }
}

#[test]
fn excluded_entries_stay_with_their_folders() {
    let trees = Trees::new();
    for path in ["a/b/keep.csv", "a/go.svg", "c/go.svg", "c/d/go.svg"] {
        fs::create_dir_all(trees.source.join(path).parent().unwrap()).unwrap();
        fs::write(trees.source.join(path), path).unwrap();
    }
    fs::create_dir(trees.source.join("empty")).unwrap();
    let rules = Rules {
        patterns: PatternRules { exclude: vec!["*.csv".into()], ..PatternRules::default() },
        ..Rules::default()
    };
    let request = request(&trees).selecting(Selection::new(&rules).unwrap());
    let (plan, outcome) = carried_out(&request);
    assert!(plan.problems.is_empty() && outcome.problems.is_empty(), "{outcome:?}");
    let left: Vec<_> =
        snapshot(&trees.source).into_keys().map(|p| String::from_utf8(p).unwrap()).collect();
    assert_eq!(left, ["", "a", "a/b", "a/b/keep.csv"]);
    let there = snapshot(&trees.destination);
    assert!(there.contains_key(&b"c/d/go.svg"[..]) && there.contains_key(&b"empty"[..]));
}

#[test]
fn folders_stay_empty_where_that_is_wanted() {
    let trees = prepare(4);
    let folders: Vec<Vec<u8>> = snapshot(&trees.source)
        .into_iter()
        .filter(|(_, facts)| facts.mode >> 12 == 4)
        .map(|(path, _)| path)
        .collect();
    let before = snapshot(&trees.source);
    let moving = MoveOptions { leave_folders: true, ..MoveOptions::default() };
    let (_, outcome) = carried_out(&request(&trees).moving(moving));
    assert!(outcome.problems.is_empty(), "{outcome:?}");
    assert_eq!(snapshot(&trees.source).into_keys().collect::<Vec<_>>(), folders);
    assert_eq!(differences(&before, &snapshot(&trees.destination)), "");
}

#[test]
fn hard_links_are_moved_together_or_stay() {
    for spoiled in [false, true] {
        let trees = Trees::new();
        let at = |name: &str| trees.source.join(name);
        fs::write(at("first"), "one file").unwrap();
        fs::create_dir(at("folder")).unwrap();
        for name in ["folder/second", "third"] {
            fs::hard_link(at("first"), at(name)).unwrap();
        }
        let outside = trees.base.path().join("outside");
        fs::hard_link(at("first"), &outside).unwrap();
        let there = |name: &str| trees.destination.join(name);
        let system = Tampered::before_each(|call| {
            // One of the copies is spoiled once all are on the drive.
            if call == "flush_drive" && spoiled && there("third").exists() {
                fs::remove_file(there("third")).unwrap();
                fs::write(there("third"), "two file").unwrap();
            }
        });
        let request = request(&trees);
        let session = Session::open(&system, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let outcome = session.execute(&plan, &NoObserver);
        let left = ["first", "folder/second", "third"].map(|name| at(name).exists());
        assert_eq!(left, [spoiled; 3], "{outcome:?}");
        assert_eq!(outcome.problems.is_empty(), !spoiled, "{outcome:?}");
        let inode = |name: &str| fs::metadata(there(name)).unwrap().ino();
        assert_eq!(inode("first"), inode("folder/second"));
        assert_eq!(fs::read_to_string(&outside).unwrap(), "one file");
    }
}

#[test]
fn a_move_that_would_lose_attributes_is_refused() {
    let trees = Trees::new();
    fs::write(trees.source.join("lens.svg"), "<svg/>").unwrap();
    fs::set_permissions(trees.source.join("lens.svg"), fs::Permissions::from_mode(0o640)).unwrap();
    let mut request = request(&trees);
    request.carry = "content,times".split(',').fold(
        utter_echo_core::attribute::Attributes::NONE,
        |set, name| {
            let all = Attribute::ALL;
            set.with(all.into_iter().find(|attribute| attribute.name() == name).unwrap())
        },
    );
    let session = Session::open(&Linux, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let refused = session.guard(&plan, &[]).unwrap_err();
    assert_eq!(refused.guard().name(), "loss");
    assert!(refused.to_string().contains("mode, owner"), "{refused}");
}

type Mark = Box<dyn Fn(&Path)>;

#[test]
fn what_only_the_sources_drive_can_hold_stays_unless_its_loss_is_accepted() {
    let chattr = |flag: &'static [&'static str]| {
        move |path: &Path| {
            assert!(Command::new("chattr").args(flag).arg(path).status().unwrap().success());
        }
    };
    let hide = |path: &Path| xattr::set(path, "system.ntfs_attrib", &[0x22, 0, 0, 0]).unwrap();
    let marks: [(DriveKind, &str, Mark); 3] = [
        (DriveKind::Ntfs, "hidden, system or read-only flags", Box::new(hide)),
        (DriveKind::Xfs, "project numbers", Box::new(chattr(&["-p", "31"]))),
        (DriveKind::Btrfs, "no-copy-on-write flags", Box::new(chattr(&["+C"]))),
    ];
    for (kind, words, mark) in marks {
        let mut trees = Trees::new();
        let drive = match MountedDrive::make(kind, trees.base.path()) {
            Ok(drive) => drive,
            Err(why) => return utter_echo_lab::left_out(&why),
        };
        trees.source = drive.folder().join("harbour");
        let folder = trees.source.join("lamps");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("plain.svg"), "<svg/>").unwrap();
        let mut request = request(&trees);
        let refusal = |request: &Request| {
            let session = Session::open(&Linux, request).unwrap();
            let plan = session.plan(&NoObserver).unwrap();
            session.guard(&plan, &[]).map_err(|refused| refused.to_string())
        };
        refusal(&request).unwrap();
        mark(&folder);
        fs::write(folder.join("lens.svg"), "").unwrap();
        mark(&folder.join("lens.svg"));
        let refused = refusal(&request).unwrap_err();
        assert!(refused.contains(&format!("store: {words}\n")), "{refused}");
        // Once begun, nothing goes that has some of it; the folder stays as well.
        let (_, outcome) = carried_out(&request);
        let is_named = |cause: &Cause| matches!(cause, Cause::Uncarried(lost) if lost == words);
        let named = outcome.problems.iter().filter(|problem| is_named(&problem.cause)).count();
        assert!(named >= 1 && folder.join("lens.svg").exists(), "{kind:?}: {outcome:?}");
        assert!(!folder.join("plain.svg").exists());
        request.safety.waived.push(Guard::Loss);
        refusal(&request).unwrap();
        let (_, outcome) = carried_out(&request);
        assert!(outcome.problems.is_empty() && !trees.source.exists(), "{kind:?}: {outcome:?}");
    }
}

#[test]
fn a_single_file_is_moved_to_its_new_name() {
    let trees = Trees::new();
    let (from, to) = (trees.source.join("tide.csv"), trees.destination.join("1931.csv"));
    fs::write(&from, "1,2,3").unwrap();
    let mut request = request(&trees);
    request.places.sources = vec![from.clone()];
    request.places.destination = to.clone();
    let (_, outcome) = carried_out(&request);
    assert!(outcome.problems.is_empty(), "{outcome:?}");
    assert!(!from.exists() && trees.source.exists());
    assert_eq!(fs::read_to_string(to).unwrap(), "1,2,3");
}

/// True if each name in a path equals that in the other, or has an insertion before its extension.
fn is_named_after(path: &[u8], other: &[u8]) -> bool {
    let names = |path: &[u8]| path.split(|b| *b == b'/').map(<[u8]>::to_vec).collect::<Vec<_>>();
    let (names, others) = (names(path), names(other));
    let is_after = |(name, other): (&Vec<u8>, &Vec<u8>)| {
        let dot =
            other.iter().rposition(|b| *b == b'.').filter(|at| *at > 0 && at + 1 < other.len());
        let (stem, ending) = other.split_at(dot.unwrap_or(other.len()));
        let is_longer = name.len() > other.len();
        name == other || is_longer && name.starts_with(stem) && name.ends_with(ending)
    };
    names.len() == others.len() && names.iter().zip(&others).all(is_after)
}

/// A folder where the destination has a file, and what the destination should hold at the end.
fn prepare_met(seed: u64) -> (Trees, Snapshot) {
    let trees = Trees::in_memory();
    Gardener::new(seed).grow(&trees.source, 5);
    let logbooks = trees.source.join("logbooks");
    fs::create_dir(&logbooks).unwrap();
    Gardener::new(seed + 50).grow(&logbooks, 7);
    let folder = fs::File::open(&logbooks).unwrap();
    folder.set_modified(SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000_000)).unwrap();
    fs::write(trees.destination.join("logbooks"), "a list of them").unwrap();
    let named = |(path, facts): (Vec<u8>, Facts)| match path.strip_prefix(b"logbooks") {
        Some(rest) if rest.is_empty() || rest[0] == b'/' => {
            ([b"logbooks 2001-09-09", rest].concat(), facts)
        }
        _ => (path, facts),
    };
    let all = snapshot(&trees.source).into_iter().map(named).collect();
    (trees, all)
}

fn keeping_both(trees: &Trees) -> Request {
    let on_conflict = OnConflict::KeepBoth;
    request(trees).moving(MoveOptions { on_conflict, ..MoveOptions::default() })
}

fn keeping_both_by_renaming(trees: &Trees) -> Request {
    let on_conflict = OnConflict::KeepBoth;
    by_renaming(trees).moving(MoveOptions { on_conflict, ..MoveOptions::default() })
}

#[test]
fn a_folder_in_conflict_with_a_file_arrives_beside_it_wherever_the_run_is_killed() {
    for (seed, way) in [(4, keeping_both as RequestOf), (6, keeping_both_by_renaming)] {
        let calls = Tampered::new(Tampering::Nothing);
        assert!(run(&calls, &way(&prepare_met(seed).0)));
        for at in 0..=calls.calls().len() {
            let (trees, expected) = prepare_met(seed);
            let well = run(&Tampered::new(Tampering::KillAt(at)), &way(&trees));
            if trees.source.exists() {
                assert!(!well, "call {at}");
                let next = told(&Linux, &way(&trees));
                assert!(next.is_ok(), "call {at}: the next run has problems: {next:?}");
            }
            let list = fs::read_to_string(trees.destination.join("logbooks")).unwrap();
            assert_eq!(list, "a list of them");
            fs::remove_file(trees.destination.join("logbooks")).unwrap();
            let there = snapshot(&trees.destination);
            // What goes from the root changes its time.
            let without_root = |all: &Snapshot| {
                let mut all = all.clone();
                all.remove(&Vec::new());
                all
            };
            let differences = differences(&without_root(&expected), &without_root(&there));
            assert!(differences.is_empty(), "call {at}:\n{differences}");
            assert!(!trees.source.exists(), "call {at}");
        }
    }
}

#[test]
fn names_of_one_file_arrive_beside_others_wherever_the_run_is_killed() {
    let prepare = || {
        let trees = Trees::in_memory();
        fs::write(trees.source.join("harbour.csv"), "the file").unwrap();
        fs::hard_link(trees.source.join("harbour.csv"), trees.source.join("tide.csv")).unwrap();
        for name in ["harbour.csv", "tide.csv"] {
            fs::write(trees.destination.join(name), "another one").unwrap();
        }
        trees
    };
    for way in [keeping_both as RequestOf, keeping_both_by_renaming] {
        let calls = Tampered::new(Tampering::Nothing);
        assert!(run(&calls, &way(&prepare())));
        let all = calls.calls().len();
        for at in chosen_calls(all, all) {
            let trees = prepare();
            let well = run(&Tampered::new(Tampering::KillAt(at)), &way(&trees));
            assert_ne!(well, trees.source.exists(), "call {at}");
            let next = if well { Ok(()) } else { told(&Linux, &way(&trees)) };
            assert!(next.is_ok(), "call {at}: the next run has problems: {next:?}");
            let there = snapshot(&trees.destination);
            let names: Vec<_> = there.keys().map(|path| String::from_utf8_lossy(path)).collect();
            assert_eq!(names.len(), 5, "call {at}: {names:?}");
            let shared = there.values().filter(|facts| facts.same_as.is_some());
            assert_eq!(shared.count(), 2, "call {at}: {names:?}");
            assert!(!trees.source.exists(), "call {at}");
        }
    }
}

#[test]
fn several_sources_are_finished_by_the_same_command_wherever_it_was_killed() {
    let prepare = |way: RequestOf| {
        let trees = Trees::in_memory();
        fs::create_dir(trees.source.join("charts")).unwrap();
        for name in ["charts/harbour.csv", "keeper.log", "tide.csv"] {
            fs::write(trees.source.join(name), name).unwrap();
        }
        fs::hard_link(trees.source.join("keeper.log"), trees.source.join("log")).unwrap();
        let mut request = way(&trees);
        request.places.sources = crate::common::entries(&trees.source);
        (trees, request)
    };
    for way in [request as RequestOf, by_renaming] {
        let calls = Tampered::new(Tampering::Nothing);
        assert!(run(&calls, &prepare(way).1));
        let all = calls.calls().len();
        for at in chosen_calls(all, all) {
            let (trees, request) = prepare(way);
            // The folder of the sources is no source.
            let held = || {
                let mut all = snapshot(&trees.source);
                all.remove(&Vec::new());
                all
            };
            let before = held();
            let well = run(&Tampered::new(Tampering::KillAt(at)), &request);
            let left = fs::read_dir(&trees.source).unwrap().count();
            if left > 0 {
                let next = told(&Linux, &request);
                assert!(!well && next.is_ok(), "call {at}: the next run has problems: {next:?}");
            }
            assert_eq!(fs::read_dir(&trees.source).unwrap().count(), 0, "call {at}");
            let mut there = snapshot(&trees.destination);
            // The marker of a run into the folder of others waits for one that looks at everything.
            there.retain(|path, _| !is_leftover(path) && !path.is_empty());
            assert_eq!(there.len(), before.len(), "call {at}: {:?}", there.keys());
            let store = request.safety.set_aside.unwrap().folder;
            let mut runs: Vec<_> = fs::read_dir(&store).unwrap().map(|it| it.unwrap()).collect();
            runs.retain(|it| it.file_type().unwrap().is_dir());
            runs.sort_by_key(fs::DirEntry::file_name);
            for run in runs.iter().rev() {
                let undone = crate::common::undo(&Linux, &run.path());
                let never = undone.as_ref().is_err_and(|why| why.contains("never started"));
                assert!(never || undone.is_ok(), "call {at}: {undone:?}");
            }
            let differences = differences(&before, &held());
            assert!(differences.is_empty(), "call {at}: {differences}");
        }
    }
}

#[test]
fn a_source_that_somebody_removed_was_not_taken_by_the_interrupted_move() {
    let prepare = || {
        let trees = Trees::in_memory();
        for name in ["keeper.log", "tide.csv"] {
            fs::write(trees.source.join(name), name).unwrap();
        }
        let mut request = request(&trees);
        request.places.sources = crate::common::entries(&trees.source);
        (trees, request)
    };
    let calls = Tampered::new(Tampering::Nothing);
    assert!(run(&calls, &prepare().1));
    let (mut refused, all) = (0, calls.calls().len());
    for at in (0..all).step_by(5) {
        let (trees, request) = prepare();
        run(&Tampered::new(Tampering::KillAt(at)), &request);
        let removed = fs::remove_file(trees.source.join("keeper.log")).is_ok();
        let arrived = fs::read(trees.destination.join("keeper.log")).is_ok();
        // Nothing is asked of a move that ended.
        if !removed || !trees.source.join("tide.csv").exists() {
            continue;
        }
        let opened = Session::open(&Linux, &request);
        assert!(arrived || opened.is_err(), "call {at}: taken, but not there");
        refused += usize::from(opened.is_err());
    }
    assert!(refused > 0);
}

/// What must hold for any move, with any options.
fn holds(
    source: &Tree,
    other: &Other,
    options: &Options,
    on_conflict: OnConflict,
) -> TestCaseResult {
    let world = World::grow(source, other, options.mounts);
    let (from, there) = (snapshot(&world.source), snapshot(&world.destination));
    let selected = select(options, &from, &there);
    let mut request =
        options.request(&world).moving(MoveOptions { on_conflict, ..MoveOptions::default() });
    request.carry = utter_echo_core::attribute::Attributes::ALL;
    request.running.workers = Workers::Fixed(options.workers);
    // Half of the runs see rotational disks.
    let disks = Tampered::new(Tampering::Nothing).with_rotational_disks();
    let system: &dyn System = if options.workers == 1 { &Linux } else { &disks };
    let session = Session::open(system, &request).unwrap();
    let Ok(plan) = session.plan(&NoObserver) else { return Ok(()) };
    if session.guard(&plan, &[]).is_err() {
        return Ok(());
    }
    let outcome = session.execute(&plan, &NoObserver);
    let (left, now) = (seen(&world.source), snapshot(&world.destination));
    let is_folder = |facts: &Facts| facts.mode >> 12 == 4;
    let same = |a: &Facts, b: &Facts| {
        let of = |f: &Facts| (f.mode, f.owner, f.content.clone(), f.device, f.xattrs.clone());
        of(a) == of(b) && (is_folder(a) || a.modified == b.modified)
    };
    let shown = |path: &Vec<u8>| String::from_utf8_lossy(path).into_owned();
    for (path, facts) in &from {
        let stays = left.get(path).is_some_and(|left| same(facts, left));
        let arrived =
            now.get(path).is_some_and(|now| same(facts, now) || is_folder(facts) && is_folder(now));
        // Under another name, or in a folder that was given one.
        let is_beside = |(other, now): (&Vec<u8>, &Facts)| {
            is_named_after(other, path) && !there.contains_key(other) && same(facts, now)
        };
        let arrived = arrived || on_conflict == OnConflict::KeepBoth && now.iter().any(is_beside);
        ensure!(stays || !left.contains_key(path), "{:?} of the source was changed", shown(path));
        ensure!(stays || arrived, "{:?} is lost: {facts:?} {:?}", shown(path), now.get(path));
        let text = String::from_utf8(path.clone()).unwrap();
        let is_selected = path.is_empty() || selected.source.contains(&text);
        let may_go = if is_folder(facts) { options.kinds[1] } else { is_selected };
        ensure!(stays || may_go, "{text:?} was left out, and went");
    }
    ensure!(left.keys().all(|path| from.contains_key(path)), "the source has more than before");
    ensure!(
        options.by != CompareBy::Content
            || !plan.problems.is_empty()
            || outcome.problems.is_empty(),
        "the plan saw no problem: {:?}",
        outcome.problems
    );
    if options.mounts == (None, None) {
        let mut names: HashMap<&Vec<u8>, Vec<&Vec<u8>>> = HashMap::new();
        for (path, facts) in &from {
            names.entry(facts.same_as.as_ref().unwrap_or(path)).or_default().push(path);
        }
        let is_selected =
            |path: &Vec<u8>| selected.source.contains(&String::from_utf8_lossy(path).into_owned());
        for names in names.into_values().filter(|names| names.iter().all(|it| is_selected(it))) {
            let stay = names.iter().filter(|path| left.contains_key(**path)).count();
            ensure!([0, names.len()].contains(&stay), "one file is torn apart: {names:?}");
        }
    }
    for (path, facts) in there.iter().filter(|(_, facts)| !is_folder(facts)) {
        let keeps = [OnConflict::Skip, OnConflict::KeepBoth].contains(&on_conflict);
        let gave_way = from.contains_key(path) && !keeps;
        let stays = now.get(path).is_some_and(|now| same(facts, now));
        ensure!(stays || gave_way, "{:?} of the destination was changed", shown(path));
    }
    let told = plan.problems.len() + outcome.problems.len() > 0;
    let everything = options.steps.len() == Verb::ALL.len() && !options.leave_newer;
    for path in selected.source.iter().filter(|path| left.contains_key(path.as_bytes())) {
        let is_folder = is_folder(&left[path.as_bytes()]);
        ensure!(is_folder || told || !everything, "{path:?} stays, and nobody says why");
    }
    // Once more: what stays is reported again, and nothing else is done.
    if world.source.exists() {
        let again = crate::common::plan_of(&Linux, &request);
        let moves = again.steps().filter(|placed| placed.step.verb != Verb::Adjust).count();
        let retried = outcome.problems.len();
        ensure!(
            moves == 0 || retried > 0 || !everything,
            "again: {:?}",
            crate::common::listed(&again)
        );
    }
    Ok(())
}

#[test]
fn with_any_options_nothing_is_lost_and_nothing_else_is_touched() {
    let count = std::env::var("UTTER_CASES").ok().and_then(|count| count.parse().ok());
    let cases = count.unwrap_or(500_u32).div_ceil(2);
    let config = Config { cases, failure_persistence: None, ..Config::default() };
    let on_conflict = proptest::sample::select(vec![
        OnConflict::Skip,
        OnConflict::Newer,
        OnConflict::Replace,
        OnConflict::KeepBoth,
    ]);
    let case = (world::tree(), world::other(), world::options(&[Task::Move]), on_conflict);
    let tried =
        TestRunner::new(config).run(&case, |(s, o, options, how)| holds(&s, &o, &options, how));
    match tried {
        Err(TestError::Fail(why, case)) => panic!("{why}\nat least with {case:?}"),
        Err(error) => panic!("{error}"),
        Ok(()) => {}
    }
}

#[test]
fn a_folder_that_is_moved_whole_is_one_rename_whatever_it_holds() {
    let mut counts = Vec::new();
    for files in [10, 1000] {
        let trees = Trees::new();
        let big = trees.source.join("logbooks/1931");
        fs::create_dir_all(&big).unwrap();
        (0..files).for_each(|i| fs::write(big.join(i.to_string()), "").unwrap());
        fs::write(trees.source.join("keep"), "").unwrap();
        for root in [&trees.source, &trees.destination] {
            fs::File::open(root).unwrap().set_modified(std::time::UNIX_EPOCH).unwrap();
        }
        let request = by_renaming(&trees);
        let system = Tampered::new(Tampering::Nothing);
        let session = Session::open(&system, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let planned = system.calls();
        assert_eq!(planned.iter().filter(|call| **call == "list").count(), 2, "{planned:?}");
        let steps: Vec<Verb> = plan.steps().map(|placed| placed.step.verb).collect();
        assert_eq!(steps, [Verb::Rename, Verb::Rename, Verb::RemoveSource]);
        let outcome = session.execute(&plan, &NoObserver);
        assert!(outcome.problems.is_empty(), "{outcome:?}");
        assert_eq!(fs::read_dir(trees.destination.join("logbooks/1931")).unwrap().count(), files);
        counts.push(system.calls().len());
    }
    assert_eq!(counts[0], counts[1]);
}

#[test]
fn a_new_root_takes_few_calls() {
    let trees = Trees::new();
    (0..100).for_each(|i| fs::write(trees.source.join(i.to_string()), "").unwrap());
    fs::remove_dir(&trees.destination).unwrap();
    let mut request = by_renaming(&trees);
    request.safety.set_aside = None;
    let system = Tampered::new(Tampering::Nothing);
    let session = Session::open(&system, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let planned = system.calls().len();
    let outcome = session.execute(&plan, &NoObserver);
    assert!(outcome.problems.is_empty() && !trees.source.exists(), "{outcome:?}");
    let calls = system.calls();
    assert!(calls.len() - planned <= 11, "{:?}", &calls[planned..]);
}

/// Until programs that other tests start have let go of their copies of the handle that wrote a file.
fn wait_until_written(path: &Path) {
    let file = fs::File::open(path).unwrap();
    while matches!(Linux.take_lease(file.as_fd()), Ok(None)) {
        std::thread::yield_now();
    }
}

#[test]
fn what_was_proven_is_not_compared_again() {
    // Calls are counted: a disk is asked more where it takes its time, and a large file is written out by a helper.
    let trees = Trees::in_memory();
    fs::write(trees.source.join("season.wav"), vec![7; 900_000]).unwrap();
    wait_until_written(&trees.source.join("season.wav"));
    let reads = |tampering: Tampering| {
        let system = Tampered::new(tampering);
        let well = run(&system, &impatient(request(&trees)));
        (well, system.calls().iter().filter(|call| **call == "read_at").count())
    };
    // It cannot be removed, after it was copied and compared: nothing else is renamed.
    let (well, first) = reads(Tampering::FailAll("rename", Errno::IO.raw_os_error()));
    assert!(!well && trees.source.join("season.wav").exists());
    // The journal is read in any case.
    let (well, again) = reads(Tampering::Nothing);
    assert!(well && !trees.source.exists());
    assert!(again < first, "{again} reads after {first}");
}

#[test]
fn what_cannot_be_read_from_the_drive_itself_stays_unless_that_is_accepted() {
    let trees = Trees::new();
    fs::write(trees.source.join("tide.csv"), "1,2,3").unwrap();
    // A driver in user space whose device is not for this user.
    let system =
        || Tampered::new(Tampering::FailAll("driver_device", Errno::ACCESS.raw_os_error()));
    let mut request = request(&trees);
    let system_now = system();
    let session = Session::open(&system_now, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let refused = session.guard(&plan, &[]).unwrap_err();
    assert_eq!(refused.guard().name(), "loss");
    let outcome = session.execute(&plan, &NoObserver);
    assert!(matches!(outcome.problems[..], [Problem { cause: Cause::ProvenInMemoryAlone, .. }]));
    assert!(trees.source.join("tide.csv").exists());
    drop(session);
    request.safety.waived.push(Guard::Loss);
    assert!(run(&system(), &request));
    assert!(!trees.source.exists());
}

#[test]
fn a_cached_copy_of_a_program_is_no_proof_of_the_drives_content() {
    let mut trees = Trees::new();
    let drive = match MountedDrive::make(DriveKind::Ext4, trees.base.path()) {
        Ok(drive) => drive,
        Err(reason) => return utter_echo_lab::left_out(reason),
    };
    // A program that runs is mapped.
    fs::copy("/bin/sleep", trees.source.join("bell")).unwrap();
    trees.destination = drive.folder().join("loft");
    crate::common::apply(&Linux, &crate::common::request(&trees, Task::Copy));
    let mut bell = Command::new(trees.destination.join("bell")).arg("600").spawn().unwrap();
    let (_, outcome) = carried_out(&request(&trees));
    bell.kill().and_then(|()| bell.wait()).unwrap();
    assert!(
        matches!(outcome.problems[..], [Problem { cause: Cause::ProvenInMemoryAlone, .. }]),
        "{outcome:?}"
    );
    assert!(trees.source.join("bell").exists());
    assert!(run(&Linux, &request(&trees)) && !trees.source.exists());
}

#[test]
fn a_drive_that_stores_other_data_is_detected_below_its_driver() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts drives");
    }
    for kind in [DriveKind::ExFat, DriveKind::Ntfs] {
        let mut trees = Trees::new();
        let drive = match MountedDrive::make(kind, trees.base.path()) {
            Ok(drive) => drive,
            Err(reason) => return utter_echo_lab::left_out(reason),
        };
        trees.destination = drive.folder().join("loft");
        fs::create_dir(&trees.destination).unwrap();
        let content = b"the keeper's only logbook ".repeat(4000);
        fs::write(trees.source.join("logbook"), &content).unwrap();
        let mut request = request(&trees);
        request.safety.waived.clear();
        request.carry = [Attribute::Content].into_iter().collect();
        let done = AtomicBool::new(false);
        let system = Tampered::before_each(|call| {
            if call == "drop_device_cache" && !done.swap(true, Ordering::Relaxed) {
                alter(&drive.image(), &content[..4096]);
            }
        });
        let session = Session::open(&system, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let outcome = session.execute(&plan, &NoObserver);
        assert!(done.load(Ordering::Relaxed), "{}: {outcome:?}", kind.name());
        let stays = trees.source.join("logbook").exists();
        assert!(stays && !outcome.problems.is_empty(), "{}: {outcome:?}", kind.name());
    }
}

/// Changes a byte of this content in an image, below the mounted file system.
fn alter(image: &Path, content: &[u8]) {
    use std::os::unix::fs::FileExt as _;
    let bytes = fs::read(image).unwrap();
    // Content begins where a sector does.
    let at = (0..bytes.len()).step_by(512).find(|at| bytes[*at..].starts_with(content));
    let at = at.expect("it was flushed") as u64;
    fs::File::options().write(true).open(image).unwrap().write_all_at(b"X", at + 100).unwrap();
}
