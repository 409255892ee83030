//! What the tests of the core share: two folders and a request.

#![allow(clippy::new_without_default, reason = "trees are made on purpose")]
#![allow(missing_docs, unreachable_pub, reason = "the tests share it")]
#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says its seed"
)]

use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;

use tempfile::TempDir;
use utter_echo_core::attribute::Attribute;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::System;
use utter_echo_core::path::TreePath;
use utter_echo_core::plan::{Plan, Verb, Verbs};
use utter_echo_core::problem::{Operation, Problem};
use utter_echo_core::request::{
    Changed, Flush, Guard, Keeping, Places, Request, Running, Safety, SetAside, Task, Workers,
};
use utter_echo_core::{Outcome, PastRun, Session};
use utter_echo_lab::world::PATIENT;
use utter_echo_lab::{Facts, Snapshot, Tampered};

const ACCESS_LIST: &[u8] = b"system.posix_acl_access";

pub struct Trees {
    pub base: TempDir,
    pub source: PathBuf,
    pub destination: PathBuf,
}

impl Trees {
    /// On the drive of the temporary files.
    pub fn new() -> Self {
        Self::below(tempfile::tempdir().unwrap())
    }

    /// In memory where possible, for tests that make hundreds of trees.
    pub fn in_memory() -> Self {
        Self::below(utter_echo_lab::folder_in_memory().unwrap())
    }

    fn below(base: TempDir) -> Self {
        let (source, destination) = (base.path().join("source"), base.path().join("destination"));
        std::fs::create_dir(&source).unwrap();
        std::fs::create_dir(&destination).unwrap();
        Self { base, source, destination }
    }
}

pub fn request(trees: &Trees, task: Task) -> Request {
    let places = Places::new(vec![trees.source.clone()], trees.destination.clone());
    // Random trees may hold the same content twice, so a rename could take the place of a step under test.
    let steps = Verbs::ALL.without(Verb::Rename);
    // These tests cut no power, and some make hundreds of runs.
    let running = Running { workers: Workers::Fixed(2), flush: Flush::None, ..Running::default() };
    let retries = if task == Task::Move { PATIENT } else { running.retries };
    let running = Running { retries, ..running };
    Request::new(task, places).comparing(Changed { steps, ..Changed::default() }).running(running)
}

/// The name of a run.
pub const RUN: &str = "2026-11-23T14-05-09Z";

/// A folder for the journals of moves.
pub fn journal_of_moves(trees: &Trees) -> SetAside {
    let folder = trees.base.path().join("notes");
    SetAside { folder, run: RUN.to_owned(), keep: None, what: Keeping::Journal }
}

/// Renames the first folder of a tree, unless it is locked.
pub fn move_a_folder(root: &Path) {
    let entries = std::fs::read_dir(root).unwrap().map(|entry| entry.unwrap());
    let folders = entries.filter(|entry| entry.file_type().unwrap().is_dir());
    if let Some(first) = folders.map(|entry| entry.path()).min() {
        let _ = std::fs::rename(first, root.join("moved"));
    }
}

pub fn plan_of(system: &dyn System, request: &Request) -> Plan {
    Session::open(system, request).unwrap().plan(&NoObserver).unwrap()
}

pub fn apply(system: &dyn System, request: &Request) -> Outcome {
    let session = Session::open(system, request).unwrap();
    let mut plan = session.plan(&NoObserver).unwrap();
    if session.recover(&plan).unwrap() {
        plan = session.plan(&NoObserver).unwrap();
    }
    session.execute(&plan, &NoObserver)
}

pub fn listed(plan: &Plan) -> Vec<(Verb, TreePath)> {
    plan.steps().map(|placed| (placed.step.verb, placed.path)).collect()
}

/// A name that stays may belong to a file of which another name was set aside.
pub fn with_groups_within(mut snapshot: Snapshot) -> Snapshot {
    let mut sizes = HashMap::new();
    for group in snapshot.values().filter_map(|facts| facts.same_as.clone()) {
        *sizes.entry(group).or_insert(0) += 1;
    }
    for facts in snapshot.values_mut() {
        facts.same_as = facts.same_as.take().filter(|group| sizes[group] > 1);
    }
    snapshot
}

/// Special bits lend the rights of one owner, and are not carried to another.
fn lent(model: &Facts, there: &Facts) -> u32 {
    let user = if model.owner.0 == there.owner.0 { 0 } else { 0o4000 };
    let group = if model.owner.1 == there.owner.1 { 0 } else { 0o2000 };
    user | group
}

/// Adjusts the expected state of an entry if `attribute` was not carried: the old value where an entry existed, any
/// value for a new one.
pub fn leave(expected: &mut Facts, there: &Facts, kept: Option<&Facts>, attribute: Attribute) {
    let model = kept.unwrap_or(there);
    match attribute {
        // New content has a new time.
        Attribute::Times => expected.modified = there.modified,
        // An access list holds permission bits of its own.
        Attribute::Mode if expected.xattrs.contains_key(ACCESS_LIST) => {
            expected.mode = expected.mode & !0o7000 | model.mode & 0o7000 & !lent(model, there);
        }
        Attribute::Mode => {
            expected.mode = expected.mode & !0o7777 | model.mode & 0o7777 & !lent(model, there);
        }
        Attribute::Owner => {
            expected.mode &= !lent(expected, there);
            expected.owner = model.owner;
        }
        Attribute::Acl | Attribute::Xattr => {
            let list = |name: &[u8]| name.starts_with(b"system.posix_acl");
            let of_attribute = |name: &Vec<u8>| list(name) == (attribute == Attribute::Acl);
            expected.xattrs.retain(|name, _| !of_attribute(name));
            let own = model.xattrs.iter().filter(|(name, _)| of_attribute(name));
            expected.xattrs.extend(own.map(|(name, value)| (name.clone(), value.clone())));
            // The mode was carried, and shows in the list as well.
            let lists = (there.xattrs.get(ACCESS_LIST), expected.xattrs.get_mut(ACCESS_LIST));
            if let (Some(list), Some(expected)) = lists {
                assert_eq!(list.len(), expected.len());
                expected.clone_from(list);
            }
        }
        Attribute::Flags => expected.flags = model.flags,
        Attribute::Content | Attribute::Hardlinks | Attribute::Holes | Attribute::Atime => {}
    }
}

/// The choice moves with each commit, so that over time every call is tried.
pub fn seed() -> usize {
    static SEED: OnceLock<usize> = OnceLock::new();
    *SEED.get_or_init(|| {
        let commit = Command::new("git").args(["rev-parse", "--short=8", "HEAD"]).output();
        let commit = commit.map(|told| String::from_utf8_lossy(&told.stdout).into_owned());
        let seed = std::env::var("UTTER_SEED").ok().or(commit.ok()).unwrap_or_default();
        let seed = usize::from_str_radix(seed.trim(), 16).unwrap_or_default();
        eprintln!("calls are chosen by UTTER_SEED={seed:x}; UTTER_NIGHTLY=1 takes all");
        seed
    })
}

/// One of every so many of these calls; with `UTTER_NIGHTLY=1` all.
pub fn sampled(calls: Range<usize>, every: usize) -> Vec<usize> {
    let takes_all = std::env::var_os("UTTER_NIGHTLY").is_some();
    calls.filter(|at| takes_all || (at + seed()).is_multiple_of(every)).collect()
}

/// The calls of a run to tamper with: all those that change something, and a tenth of those before, which only
/// plan.
pub fn chosen_calls(planned: usize, all: usize) -> Vec<usize> {
    let mut chosen = sampled(0..planned, 10);
    chosen.extend(planned..all);
    chosen
}

/// The same, for a run that succeeds.
pub fn chosen_calls_of(system: &Tampered<'_>, request: &Request) -> Vec<usize> {
    let session = Session::open(system, request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let planned = system.calls().len();
    let outcome = session.execute(&plan, &NoObserver);
    assert!(plan.problems.is_empty() && outcome.problems.is_empty(), "{:?}", outcome.problems);
    chosen_calls(planned, system.calls().len())
}

/// The entries of a folder except links; each becomes a source.
pub fn entries(folder: &Path) -> Vec<PathBuf> {
    let all = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let mut all: Vec<PathBuf> = all.filter(|path| !path.is_symlink()).collect();
    all.sort();
    all
}

/// All problems of a run.
pub type Trouble = String;

/// Paths of what was reported as displaced and not kept.
pub type Lost = HashSet<TreePath>;

pub fn execute(session: &Session<'_>, plan: &Plan) -> Result<Lost, Trouble> {
    let outcome = session.execute(plan, &NoObserver);
    let listed = listed(plan);
    let problems = plan.problems.iter().chain(&outcome.problems);
    let is_lost = |problem: &&Problem| problem.operation == Operation::PutBack;
    let (lost, others): (Vec<&Problem>, Vec<&Problem>) = problems.partition(is_lost);
    match &*others {
        [] => Ok(lost.into_iter().map(|problem| problem.path.clone()).collect()),
        _ => Err(format!("{:?}\n{:?}\n{listed:?}", plan.problems, outcome.problems)),
    }
}

pub fn shown(error: impl std::fmt::Display) -> Trouble {
    error.to_string()
}

/// Hard links are listed by the first name that exists.
pub fn group_anew(all: &mut Snapshot) {
    let mut groups: HashMap<Vec<u8>, Vec<Vec<u8>>> = HashMap::new();
    for (path, facts) in &*all {
        if let Some(group) = facts.same_as.clone() {
            groups.entry(group).or_default().push(path.clone());
        }
    }
    for paths in groups.into_values() {
        let first = (paths.len() > 1).then(|| paths[0].clone());
        for path in &paths {
            all.get_mut(path).unwrap().same_as.clone_from(&first);
        }
    }
}

/// Undoes a run in the way the program does.
pub fn undo(system: &dyn System, run: &Path) -> Result<Lost, Trouble> {
    let past = PastRun::open(system, run).map_err(shown)?;
    let aside = SetAside {
        folder: run.parent().unwrap().with_file_name("second"),
        run: RUN.to_owned(),
        keep: None,
        what: Keeping::Journal,
    };
    let waived = vec![Guard::Space];
    let safety = Safety { set_aside: Some(aside), waived, ..Safety::default() };
    let request = |task, safety| {
        let places = Places::new(vec!["there".into()], "here".into());
        let running = Running { retries: PATIENT, ..Running::default() };
        Request::new(task, places).guarded(safety).running(running)
    };
    if past.is_move() {
        let back = request(Task::Move, safety);
        let session = Session::open_to_move_back(system, &back, &past).map_err(shown)?;
        let mut plan = session.plan_to_move_back().map_err(shown)?;
        if session.recover(&plan).map_err(shown)? {
            plan = session.plan_to_move_back().map_err(shown)?;
        }
        session.guard(&plan, &[]).map_err(shown)?;
        let left_alone = execute(&session, &plan)?;
        if !left_alone.is_empty() {
            return Ok(left_alone);
        }
    }
    let mut lost = Lost::new();
    if !(past.is_move() && past.is_gone()) {
        let rest = request(Task::Undo, Safety::default());
        let session = Session::open_to_undo(system, &rest, &past).map_err(shown)?;
        let plan = session.plan_to_undo().map_err(shown)?;
        lost = execute(&session, &plan)?;
        let mut left = session.not_back().map_err(shown)?;
        left.retain(|problem| !lost.contains(&problem.path));
        if !left.is_empty() {
            return Err(format!("not back: {left:?}"));
        }
    }
    if lost.is_empty() {
        past.discard().map_err(shown)?;
    }
    Ok(lost)
}
