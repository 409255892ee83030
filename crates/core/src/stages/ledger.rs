//! What became of each step, and what went wrong.

use std::sync::atomic::{AtomicU8, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::path::TreePath;
use crate::patience::Patience;
use crate::plan::{Count, Plan};
use crate::policy::{At, Part, Step, Verb};
use crate::problem::{Cause, Problem};
use crate::request::Retries;
use crate::writer::{Done, Trouble, was_interrupted};

use super::outcome::{Ending, Outcome, StepOutcome};
use super::{OnDrive, Run};

/// Kept by all workers together.
pub(super) struct Ledger {
    outcomes: Vec<AtomicU8>,
    problems: Mutex<Vec<Problem>>,
    /// What ended the run early.
    ended: Mutex<Option<Cause>>,
    /// Held while a drive is asked whether it works at all: what others meet in the meantime may be told by
    /// the answer.
    asking: Mutex<()>,
    pub(super) patience: Patience,
}

impl Ledger {
    pub(super) fn new(steps: usize, retries: Retries) -> Self {
        Self {
            outcomes: std::iter::repeat_with(|| AtomicU8::new(0)).take(steps).collect(),
            problems: Mutex::default(),
            ended: Mutex::default(),
            asking: Mutex::default(),
            patience: Patience::new(retries),
        }
    }

    pub(super) fn report(&self, problem: Problem) {
        self.problems.lock().unwrap_or_else(PoisonError::into_inner).push(problem);
    }

    pub(super) fn set(&self, number: usize, outcome: StepOutcome) {
        self.outcomes[number].store(outcome as u8, Ordering::Relaxed);
    }

    pub(super) fn get(&self, number: usize) -> StepOutcome {
        read(&self.outcomes[number])
    }

    fn end(&self, cause: &Cause) {
        let mut ended = self.ended.lock().unwrap_or_else(PoisonError::into_inner);
        *ended = ended.take().or_else(|| cause.copied());
    }

    fn is_ended_by_loss(&self) -> bool {
        let ended = self.ended.lock().unwrap_or_else(PoisonError::into_inner);
        ended.as_ref().is_some_and(Cause::is_gone)
    }

    pub(super) fn is_ended_by_full(&self) -> bool {
        let ended = self.ended.lock().unwrap_or_else(PoisonError::into_inner);
        ended.as_ref().is_some_and(Cause::is_full)
    }

    pub(super) fn outcome(self, plan: &Plan, stopped: bool) -> Outcome {
        let steps: Vec<StepOutcome> = self.outcomes.iter().map(read).collect();
        let mut done = [Count::default(); Verb::ALL.len()];
        let all = plan.parts.iter().flat_map(Part::all_steps);
        for (step, outcome) in all.zip(&steps) {
            if *outcome == StepOutcome::Done {
                done[step.verb as usize].add(step.bytes());
            }
        }
        let mut problems = self.problems.into_inner().unwrap_or_else(PoisonError::into_inner);
        problems.sort_by(|a, b| a.path.cmp(&b.path));
        let ended = self.ended.into_inner().unwrap_or_else(PoisonError::into_inner);
        let all_came_up = !steps.contains(&StepOutcome::NotReached);
        let ending = match ended {
            Some(cause) => Ending::Early(cause),
            None if stopped && !all_came_up => Ending::Stopped,
            None => Ending::Complete,
        };
        Outcome {
            steps,
            problems,
            done,
            bytes_written: 0,
            ending,
            set_aside: None,
            notes_only: false,
            lost_notes: None,
        }
    }
}

fn read(outcome: &AtomicU8) -> StepOutcome {
    match outcome.load(Ordering::Relaxed) {
        1 => StepOutcome::Done,
        2 => StepOutcome::Failed,
        3 => StepOutcome::Overtaken,
        _ => StepOutcome::NotReached,
    }
}

impl Run<'_> {
    /// Writes down what became of a step on a drive.
    pub(super) fn conclude(&self, on: &OnDrive<'_>, number: usize, path: &TreePath, result: Done) {
        let trouble = match result {
            Ok(()) => {
                self.ledger.set(number, StepOutcome::Done);
                self.means.observer.concluded(number, StepOutcome::Done);
                return;
            }
            Err(trouble) => trouble,
        };
        if self.means.observer.stop_requested() && was_interrupted(&trouble.1) {
            return;
        }
        let _asking = self.ask_in_turn(&trouble.1);
        if self.is_told(on, &trouble.1) {
            return;
        }
        let overtaken = trouble.1.is_overtaken();
        let outcome = if overtaken { StepOutcome::Overtaken } else { StepOutcome::Failed };
        self.ledger.set(number, outcome);
        let needs = self.bytes_of(number);
        self.report_needing(on, path, trouble, needs);
        self.means.observer.concluded(number, outcome);
    }

    fn bytes_of(&self, number: usize) -> u64 {
        let step = match self.part.at(number) {
            Some(At::Below(folder, slot)) => self.part.folders[folder].step(slot),
            Some(At::Root(_)) | None => None,
        };
        step.map_or(0, Step::bytes)
    }

    pub(super) fn report(&self, on: &OnDrive<'_>, path: &TreePath, trouble: Trouble) {
        let _asking = self.ask_in_turn(&trouble.1);
        self.report_needing(on, path, trouble, 0);
    }

    fn ask_in_turn(&self, cause: &Cause) -> Option<MutexGuard<'_, ()>> {
        let asks =
            cause.is_gone() || cause.is_input_output() || cause.is_full() || cause.is_read_only();
        asks.then(|| self.ledger.asking.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Tells of a fault. It is about one entry, until its drive says otherwise.
    fn report_needing(&self, on: &OnDrive<'_>, path: &TreePath, trouble: Trouble, needs: u64) {
        let Trouble(operation, cause) = trouble;
        if self.is_told(on, &cause) {
            return;
        }
        let cause = self.judge(on, cause, needs);
        let path = self.prefix.join(path.as_bytes());
        let problem = Problem { path, operation, cause };
        self.means.observer.met(&problem);
        self.ledger.report(problem);
    }

    /// Ends the run, or closes one of its drives, where a cause is about more than an entry.
    fn judge(&self, on: &OnDrive<'_>, cause: Cause, needs: u64) -> Cause {
        let verdict = self.ask_drives(on, &cause, needs);
        if verdict == Health::Well {
            return cause;
        }
        let cause = if cause.is_input_output() { Cause::DriveLost } else { cause };
        if verdict == Health::OneIsOver && on.mounted.id != self.drives[0].mounted.id {
            on.closed.store(true, Ordering::Relaxed);
        } else {
            self.ledger.end(&cause);
            self.means.over.store(true, Ordering::Relaxed);
        }
        cause
    }

    /// True for what follows from the loss of a drive that was told already.
    fn is_told(&self, on: &OnDrive<'_>, cause: &Cause) -> bool {
        let follows = cause.is_gone() || cause.is_input_output();
        let closed = on.closed.load(Ordering::Relaxed) && (follows || cause.is_full());
        closed || follows && self.ledger.is_ended_by_loss()
    }
}

/// What the drives say when they are asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Health {
    /// The fault was about one entry.
    Well,
    /// Nothing more can be written to the drive of the destination that the entry lies on.
    OneIsOver,
    /// The source cannot be read any more.
    SourceIsOver,
}
