//! Undoing a run, by a plan from its journal and the present state.

use std::collections::HashSet;

use utter_echo_model::observe::Observer;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::verb::Verb;
use utter_echo_os::{Kind, Lock, System};
use utter_echo_workers::pool::WorkerPool;

use crate::guard::Refusal;
use crate::journal::RunLock;
use crate::plan::{PlacedStep, Plan, Undoes};
use crate::request::{Guard, Request};
use crate::session::error::PlanError;
use crate::session::run::Session;
use crate::sides::CallError;
use crate::undo::{LeftAlone, PastRun};

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
        let mut session = Self::new(system, request, run.pairs_back()?, Some(run))?;
        session.selections = run.selections_back(&session.pairs, &mut session.history.left_alone);
        session.history.times = run.times_back();
        for (pair, times) in session.pairs.iter_mut().zip(&session.history.times) {
            times.correct(&TreePath::default(), &mut pair.source_stat);
        }
        Ok(session)
    }

    /// The plan that moves entries back to the source, as far as that was not done yet.
    pub fn plan_to_move_back(&self, observer: &dyn Observer) -> Result<Plan, PlanError> {
        let Some(run) = self.history.undoes else { return Ok(Plan::default()) };
        if !self.request.safety.waived.contains(&Guard::Drive) {
            let there = run.pairs().ok();
            let there = there.as_deref().and_then(|pairs| run.other_place(pairs));
            let other = there.or_else(|| run.other_origin(&self.pairs));
            if let Some(other) = other {
                return Err(Refusal::OtherPlace { path: other.destination_shown.clone() }.into());
            }
        }
        let mut plan = Plan { undoes: Undoes::Move, ..self.plan(observer)? };
        plan.notes.extend(run.note());
        let selection = &self.request.selection;
        let found: HashSet<TreePath> = if self.history.left_alone.is_empty() {
            HashSet::new()
        } else {
            plan.steps().map(|placed| placed.path).collect()
        };
        let is_left = |left: &&LeftAlone| {
            selection.takes_by_name(left.path.as_bytes(), Kind::File) && !found.contains(&left.path)
        };
        let left_alone = self.history.left_alone.iter().filter(is_left);
        plan.problems.extend(left_alone.map(LeftAlone::problem));
        for (part, was) in plan.parts.iter_mut().zip(run.folders_of_singles()) {
            if let (Some(top), Some(was)) = (part.folders.first_mut(), was) {
                top.head.before = Some(was);
            }
        }
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
            run.drives(at).iter().for_each(|path| self.find_again(pair, map, path));
            let (part, problems) = run.reversed(at, pair, map, &pool);
            let totals = &mut plan.totals;
            for step in part.all_steps() {
                let comes_back = step.source.filter(|_| step.verb != Verb::Adjust);
                if let Some(state) = comes_back {
                    totals.source.count(state.kind, state.bytes());
                }
                if let Some(state) = step.destination {
                    totals.destination.count(state.kind, state.bytes());
                }
            }
            plan.parts.push(part);
            plan.drives.push(run.drives(at).to_vec());
            plan.prefixes.push(pair.prefix.clone());
            plan.problems.extend(problems);
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
        let Some(run) = self.history.undoes else { return Ok(Vec::new()) };
        let plan = self.whole_plan_to_undo()?;
        let (operation, cause) = (Operation::PutBack, || Cause::NotBack);
        let left = plan.steps().map(|placed| placed.path).chain(run.still_aside());
        let left = left.map(|path| Problem { path, operation, cause: cause() });
        let mut left: Vec<Problem> = left.collect();
        left.extend(plan.problems);
        for (at, (pair, map)) in self.pairs.iter().zip(self.maps()).enumerate() {
            let unlike = run.unlike(at, pair, map);
            left.extend(unlike);
        }
        left.sort_by(|a, b| a.path.cmp(&b.path));
        left.dedup_by(|a, b| a.path == b.path);
        Ok(left)
    }
}
