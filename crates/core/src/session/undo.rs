//! Undoing a run, by a plan from its journal and the present state.

use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_os::{Kind, Lock, System};
use utter_echo_workers::pool::WorkerPool;

use crate::compare::LeftBehind;
use crate::guard::Refusal;
use crate::journal::RunLock;
use crate::plan::{PlacedStep, Plan, Undoes};
use crate::request::{Guard, Request};
use crate::session::error::PlanError;
use crate::session::run::Session;
use crate::sides::CallError;
use crate::undo::{PartBack, PastRun, PlacesBack};

impl<'a> Session<'a> {
    /// Opens the set-aside folder of a run and its destination, without changing them. The request is for
    /// `Task::Undo`; its places are those of the run.
    pub fn open_to_undo(
        system: &'a dyn System,
        request: &'a Request,
        run: &'a PastRun<'a>,
    ) -> Result<Self, CallError> {
        Self::new(system, request, run.pairs()?, Some(run))
    }

    /// Opens both sides of a move the other way round, to move entries back. The request is for `Task::Move`; its
    /// places are those of the run.
    pub fn open_to_move_back(
        system: &'a dyn System,
        request: &'a Request,
        run: &'a PastRun<'a>,
    ) -> Result<Self, CallError> {
        Self::new(system, request, run.pairs_back()?, Some(run))
    }

    /// The plan that moves entries back to the source, as far as that was not done yet.
    pub fn plan_to_move_back(&self) -> Result<Plan, PlanError> {
        let Some(run) = self.history.undoes else { return Ok(Plan::default()) };
        self.refuse_overlaps()?;
        if !self.request.safety.waived.contains(&Guard::Drive) {
            let there = run.pairs().ok();
            let there = there.as_deref().and_then(|pairs| run.other_place(pairs));
            let other = there.or_else(|| run.other_origin(&self.pairs));
            if let Some(other) = other {
                return Err(Refusal::OtherPlace { path: other.destination_shown.clone() }.into());
            }
        }
        let mut plan = Plan { undoes: Undoes::Move, ..Plan::default() };
        plan.notes.extend(run.note());
        let pool = WorkerPool::new(self.request.running.workers);
        for ((pair, map), of) in self.pairs.iter().zip(self.maps()).zip(run.left()) {
            let find_drive = |path: &TreePath| self.find_again(pair, map, path);
            let root = self.source_root_removal(pair);
            let places = PlacesBack { pair, map, find_drive: &find_drive, root };
            let PartBack { part, problems, note, exits } = run.moved_back(of, &places, &pool);
            let is_selected = |problem: &Problem| {
                self.request.selection.takes_by_name(problem.path.as_bytes(), Kind::File)
            };
            plan.add_undone(part, pair, problems.into_iter().filter(is_selected));
            plan.notes.extend(note);
            plan.drives.push(map.all().iter().skip(1).map(|drive| drive.path.clone()).collect());
            plan.left_behind.push(LeftBehind { exits, ..LeftBehind::default() });
        }
        run.link_single_sources(&mut plan.parts);
        plan.number();
        self.keep_only_what_is_selected(&mut plan);
        Ok(plan)
    }

    fn keep_only_what_is_selected(&self, plan: &mut Plan) {
        let selection = &self.request.selection;
        let taken = |placed: &PlacedStep<'_>| {
            selection.takes_by_name(placed.path.as_bytes(), placed.step.kind())
        };
        plan.keep_only(&taken);
    }

    /// The plan that undoes a run, as far as that was not done yet. It includes stale steps: see
    /// [`Session::stale`]. It is empty unless the session was opened to undo a run.
    pub fn plan_to_undo(&self) -> Result<Plan, PlanError> {
        let mut plan = self.whole_plan_to_undo()?;
        self.keep_only_what_is_selected(&mut plan);
        if let Some(run) = self.history.undoes {
            for (at, (pair, map)) in self.pairs.iter().zip(self.maps()).enumerate() {
                run.regroup(at, (pair, map), &mut plan.parts[at]);
            }
            plan.number();
        }
        Ok(plan)
    }

    fn whole_plan_to_undo(&self) -> Result<Plan, PlanError> {
        let Some(run) = self.history.undoes else { return Ok(Plan::default()) };
        self.pairs.iter().try_for_each(|pair| self.places().check_aside(pair))?;
        let waived = self.request.safety.waived.contains(&Guard::Drive);
        if let Some(other) = run.other_place(&self.pairs).filter(|_| !waived) {
            return Err(Refusal::OtherPlace { path: other.destination_shown.clone() }.into());
        }
        let mut plan = Plan { undoes: Undoes::Run, ..Plan::default() };
        plan.notes.extend(run.note());
        let pool = WorkerPool::new(self.request.running.workers);
        for (at, (pair, map)) in self.pairs.iter().zip(self.maps()).enumerate() {
            for path in run.drives(at) {
                self.find_again(pair, map, path);
            }
            let (part, problems) = run.reversed(at, pair, map, &pool);
            plan.add_undone(part, pair, problems);
            plan.drives.push(run.drives(at).to_vec());
        }
        plan.number();
        Ok(plan)
    }

    /// Locks the run to undo, so that nobody else undoes or removes it; `None` if the drive cannot lock.
    pub fn hold(&self) -> Result<Option<Lock>, Refusal> {
        let Some(run) = self.history.undoes else { return Ok(None) };
        match run.hold() {
            RunLock::InUse => {
                Err(Refusal::RunInUse { path: run.path.to_string_lossy().into_owned() })
            }
            RunLock::Ours(lock) => Ok(Some(lock)),
            RunLock::Unknown => Ok(None),
        }
    }

    /// Entries that the run changed and that are not as they were before. While there are any, nothing of the run
    /// may be discarded.
    pub fn not_back(&self) -> Result<Vec<Problem>, PlanError> {
        let plan = self.whole_plan_to_undo()?;
        let steps = plan.steps().map(|placed| not_back(placed.path));
        let mut left: Vec<Problem> = steps.collect();
        left.extend(plan.problems);
        left.extend(self.not_back_after_all());
        left.sort_by(|a, b| a.path.cmp(&b.path));
        left.dedup_by(|a, b| a.path == b.path);
        Ok(left)
    }

    /// The same right after a plan to undo all of the run was carried out without a problem: its steps are not looked at
    /// again, only what is still set aside and the attributes of the journal.
    pub fn not_back_after_all(&self) -> Vec<Problem> {
        let Some(run) = self.history.undoes else { return Vec::new() };
        let mut left: Vec<Problem> = run.still_aside().into_iter().map(not_back).collect();
        for (at, (pair, map)) in self.pairs.iter().zip(self.maps()).enumerate() {
            left.extend(run.unlike(at, pair, map));
        }
        left
    }
}

fn not_back(path: TreePath) -> Problem {
    Problem { path, operation: Operation::PutBack, cause: Cause::NotBack }
}
