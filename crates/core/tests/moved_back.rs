//! Guarantee: undoing a move brings back what was on both sides, to the last attribute and time, also if the
//! move or the undo was killed.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

mod common;

use std::fs;
use std::path::Path;

use common::{RUN, Trees};
use proptest::test_runner::{Config, TestCaseError, TestCaseResult, TestError, TestRunner};
use utter_echo_core::observe::Silent;
use utter_echo_core::os::{Linux, System};
use utter_echo_core::plan::{Plan, Verb, Verbs};
use utter_echo_core::request::{
    Guard, Keeping, OnConflict, Places, Request, Safety, SetAside, Task, Vacating, Workers,
};
use utter_echo_core::{PastRun, Session};
use utter_echo_lab::world::{self, Options, Other, Tree, World};
use utter_echo_lab::{Gardener, Snapshot, Tampered, Tampering, differences, snapshot};

/// What is not well.
type Trouble = String;

fn enact(session: &Session<'_>, plan: &Plan) -> Result<(), Trouble> {
    let outcome = session.enact(plan, &Silent);
    let listed = common::listed(plan);
    match plan.problems.iter().chain(&outcome.problems).next() {
        None => Ok(()),
        Some(_) => Err(format!("{:?}\n{:?}\n{listed:?}", plan.problems, outcome.problems)),
    }
}

fn moves(system: &dyn System, request: &Request) -> Result<(), Trouble> {
    let session = Session::open(system, request).map_err(shown)?;
    let plan = session.plan(&Silent).map_err(shown)?;
    session.guard(&plan, &[]).map_err(shown)?;
    enact(&session, &plan)
}

fn shown(error: impl std::fmt::Display) -> Trouble {
    error.to_string()
}

/// Undoes a run as the program does.
fn undo(system: &dyn System, store: &Path, run: &str) -> Result<(), Trouble> {
    let past = PastRun::open(system, &store.join(run)).map_err(shown)?;
    let aside = SetAside {
        folder: store.with_file_name("second"),
        run: RUN.to_owned(),
        keep: None,
        what: Keeping::Notes,
    };
    let waived = vec![Guard::Loss, Guard::Space];
    let safety = Safety { set_aside: Some(aside), waived, ..Safety::default() };
    let request = |task, safety| {
        let places = Places::new(vec!["there".into()], "here".into());
        Request::new(task, places).guarded(safety)
    };
    let back = request(Task::Move, safety);
    let session = Session::open_to_move_back(system, &back, &past).map_err(shown)?;
    let plan = session.plan_to_move_back(&Silent).map_err(shown)?;
    session.guard(&plan, &[]).map_err(shown)?;
    enact(&session, &plan)?;
    if !past.is_gone() {
        let rest = request(Task::Undo, Safety::default());
        let session = Session::open_to_undo(system, &rest, &past).map_err(shown)?;
        let plan = session.plan_to_undo().map_err(shown)?;
        enact(&session, &plan)?;
        let left = session.not_back().map_err(shown)?;
        if !left.is_empty() {
            return Err(format!("not back: {left:?}"));
        }
    }
    past.discard().map_err(shown)
}

/// Which names share a file is told apart from the rest: a name that was left out keeps its file.
fn seen(root: &Path, groups: bool) -> Snapshot {
    let mut all = if root.exists() { snapshot(root) } else { Snapshot::default() };
    // A run that was killed leaves its mark, until one looks at everything.
    all.retain(|path, _| !path.split(|b| *b == b'/').any(|name| name.starts_with(b".utter-")));
    if !groups {
        for facts in all.values_mut() {
            facts.same_as = None;
        }
    }
    all
}

fn is_back(
    trees: (&Path, &Path),
    before: (&Snapshot, &Snapshot),
    groups: bool,
) -> Result<(), String> {
    let left = differences(before.0, &seen(trees.0, groups));
    let right = differences(before.1, &seen(trees.1, groups));
    if left.is_empty() && right.is_empty() {
        Ok(())
    } else {
        Err(format!("source:\n{left}\ndestination:\n{right}"))
    }
}

fn holds(
    source: &Tree,
    other: &Other,
    options: &Options,
    (on_conflict, leave_folders): (OnConflict, bool),
) -> TestCaseResult {
    let world = World::grow(source, other, (None, None));
    let vacating = Vacating { on_conflict, leave_folders };
    let mut request = options.request(&world).vacating(vacating);
    request.carry = utter_echo_core::aspect::Aspects::ALL;
    request.running.workers = Workers::Fixed(options.workers);
    let beside = tempfile::tempdir().unwrap();
    let store = beside.path().join("store");
    request.safety.set_aside = Some(SetAside {
        folder: store.clone(),
        run: RUN.to_owned(),
        keep: None,
        what: Keeping::Displaced,
    });
    let before = (seen(&world.source, false), seen(&world.destination, false));
    let moved = moves(&Linux, &request);
    if !store.join(format!("{RUN}.notes")).exists() {
        return Ok(());
    }
    let undone = undo(&Linux, &store, RUN);
    undone.map_err(|why| TestCaseError::fail(format!("{why}\nafter {moved:?}")))?;
    is_back((&world.source, &world.destination), (&before.0, &before.1), false)
        .map_err(TestCaseError::fail)
}

#[test]
fn whatever_was_moved_comes_back() {
    let count = std::env::var("UTTER_CASES").ok().and_then(|count| count.parse().ok());
    let config =
        Config { cases: count.unwrap_or(200), failure_persistence: None, ..Config::default() };
    let how = proptest::sample::select(vec![
        (OnConflict::Skip, false),
        (OnConflict::Newer, false),
        (OnConflict::Replace, false),
        (OnConflict::Replace, true),
        (OnConflict::KeepBoth, false),
    ]);
    let case = (world::tree(), world::other(), world::options(&[Task::Move]), how);
    let tried =
        TestRunner::new(config).run(&case, |(s, o, options, how)| holds(&s, &o, &options, how));
    match tried {
        Err(TestError::Fail(why, case)) => panic!("{why}\nat least with {case:?}"),
        Err(error) => panic!("{error}"),
        Ok(()) => {}
    }
}

fn grown(seed: u64) -> (Trees, Request) {
    let trees = Trees::new();
    Gardener::new(seed).grow(&trees.source, 16);
    if seed.is_multiple_of(2) {
        let copy = common::request(&trees, Task::Copy);
        common::apply(&Linux, &copy);
        Gardener::new(seed + 1).change(&trees.source, 8);
    }
    let mut request = common::request(&trees, Task::Move);
    request.running.workers = Workers::Fixed(1);
    request.changed.steps =
        if seed.is_multiple_of(3) { Verbs::ALL } else { Verbs::ALL.without(Verb::Rename) };
    request.vacating.on_conflict = OnConflict::Replace;
    if seed > 20 {
        // A folder meets a file, and gets another name.
        request.vacating.on_conflict = OnConflict::KeepBoth;
        fs::create_dir(trees.source.join("logbooks")).unwrap();
        Gardener::new(seed + 1).grow(&trees.source.join("logbooks"), 8);
        fs::write(trees.destination.join("logbooks"), "a list of them").unwrap();
    }
    let folder = trees.base.path().join("store");
    let what = Keeping::Displaced;
    request.safety.set_aside = Some(SetAside { folder, run: RUN.to_owned(), keep: None, what });
    (trees, request)
}

/// Kills the move at each call, or moves and kills the undo at each; what comes after brings all back.
fn killed(seed: u64, kills_undo: bool) {
    let (trees, request) = grown(seed);
    let system = Tampered::new(Tampering::Nothing);
    let _ = moves(&system, &request);
    let mut calls = system.calls().len();
    if kills_undo {
        let system = Tampered::new(Tampering::Nothing);
        undo(&system, &trees.base.path().join("store"), RUN).unwrap();
        calls = system.calls().len();
    }
    for at in (0..calls).step_by(3) {
        let (trees, request) = grown(seed);
        let before = (seen(&trees.source, false), seen(&trees.destination, false));
        let store = trees.base.path().join("store");
        let killer = Tampered::new(Tampering::KillAt(at));
        if kills_undo {
            let _ = moves(&Linux, &request);
            let _ = undo(&killer, &store, RUN);
        } else {
            let _ = moves(&killer, &request);
        }
        let call = killer.calls().get(at).copied().unwrap_or("none");
        let when = format!("seed {seed}, undo {kills_undo}, call {at} ({call})");
        // Nothing was done, or all is back.
        let nothing = matches!(
            PastRun::open(&Linux, &store.join(RUN)),
            Err(utter_echo_core::BadRun::NeverBegun(_) | utter_echo_core::BadRun::NoRun { .. })
        );
        if !nothing {
            undo(&Linux, &store, RUN).unwrap_or_else(|why| panic!("{when}: {why}"));
        }
        let back = is_back((&trees.source, &trees.destination), (&before.0, &before.1), false);
        back.unwrap_or_else(|left| panic!("{when}:\n{left}"));
        let _ = fs::remove_dir_all(trees.base.path());
    }
}

#[test]
fn a_move_that_was_killed_comes_back() {
    killed(3, false);
    killed(4, false);
    killed(23, false);
}

#[test]
fn an_undo_that_was_killed_is_finished_by_the_next() {
    killed(6, true);
    killed(7, true);
    killed(21, true);
    killed(23, true);
}
