//! The outcomes of steps, shared by all workers.

use parking_lot::{Mutex, MutexGuard};
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::{AtomicU8, Ordering};

use utter_echo_model::count::Count;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::running::Retries;
use utter_echo_model::verb::Verb;
use utter_echo_workers::retry::Retrying;

use crate::execute::outcome::{Ending, Outcome};
use crate::execute::stages::health::{self, Answer, Health};
use crate::execute::stages::site::{OnDrive, PartSite};
use crate::execute::writer::{StepError, StepResult, was_interrupted};
use crate::plan::Plan;
use crate::policy::{Part, StepId};

/// The outcomes of all parts, by step number.
pub(super) struct Ledger {
    outcomes: Vec<AtomicU8>,
    problems: Mutex<Vec<Problem>>,
    /// The error that ended the run early.
    ended: Mutex<Option<Cause>>,
    /// Held during a diagnosis, since errors of other workers may have the same cause.
    asking: Mutex<()>,
    retrying: Retrying,
}

impl Ledger {
    pub(super) fn new(steps: usize, retries: Retries) -> Self {
        Self {
            outcomes: std::iter::repeat_with(|| AtomicU8::new(0)).take(steps).collect(),
            problems: Mutex::default(),
            ended: Mutex::default(),
            asking: Mutex::default(),
            retrying: Retrying::new(retries),
        }
    }

    pub(super) fn report(&self, problem: Problem) {
        self.problems.lock().push(problem);
    }

    fn end(&self, cause: &Cause) {
        let mut ended = self.ended.lock();
        *ended = ended.take().or_else(|| cause.copied());
    }

    fn is_ended_by(&self, is: impl Fn(&Cause) -> bool) -> bool {
        self.ended.lock().as_ref().is_some_and(is)
    }

    pub(super) fn outcome(self, plan: &Plan, stopped: bool) -> Outcome {
        let steps: Vec<StepOutcome> = self.outcomes.iter().map(read).collect();
        let mut done = [Count::default(); Verb::ALL.len()];
        let all = plan.parts.iter().flat_map(Part::all_steps);
        for (step, outcome) in all.zip(&steps) {
            if *outcome == StepOutcome::Done {
                done[step.verb as usize].add(step.size());
            }
        }
        let mut problems = self.problems.into_inner();
        problems.sort_by(|a, b| a.path.cmp(&b.path));
        let ended = self.ended.into_inner();
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
            journal_only: false,
            lost_notes: None,
        }
    }
}

fn read(outcome: &AtomicU8) -> StepOutcome {
    match outcome.load(Ordering::Relaxed) {
        1 => StepOutcome::Done,
        2 => StepOutcome::Failed,
        3 => StepOutcome::Stale,
        _ => StepOutcome::NotReached,
    }
}

/// The outcomes of one part.
#[derive(Clone, Copy)]
pub(super) struct PartLedger<'a> {
    pub(super) all: &'a Ledger,
    pub(super) site: &'a PartSite<'a>,
}

impl PartLedger<'_> {
    pub(super) fn outcome(&self, id: StepId) -> StepOutcome {
        read(&self.all.outcomes[self.site.part.number(id)])
    }

    pub(super) fn is_done(&self, id: StepId) -> bool {
        self.outcome(id) == StepOutcome::Done
    }

    pub(super) fn was_tried(&self, id: StepId) -> bool {
        self.outcome(id) != StepOutcome::NotReached
    }

    pub(super) fn set(&self, id: StepId, outcome: StepOutcome) {
        let number = self.site.part.number(id);
        self.all.outcomes[number].store(outcome as u8, Ordering::Relaxed);
    }

    /// Sets the outcome of steps that share one problem.
    pub(super) fn set_all(&self, steps: impl Iterator<Item = StepId>, outcome: StepOutcome) {
        steps.for_each(|id| self.set(id, outcome));
    }

    /// Does the work, with retries of temporary errors.
    pub(super) fn retry<T>(&self, work: impl Fn() -> Result<T, StepError>) -> Result<T, StepError> {
        let observer = self.site.context.observer;
        self.all.retrying.retry(observer, |error: &StepError| &error.1, work)
    }

    /// Records the result of a step.
    pub(super) fn conclude(&self, id: StepId, result: StepResult) {
        let observer = self.site.context.observer;
        let number = self.site.part.number(id);
        let Err(error) = result else {
            self.set(id, StepOutcome::Done);
            observer.concluded(number, StepOutcome::Done);
            return;
        };
        if observer.stop_requested() && was_interrupted(&error.1) {
            return;
        }
        let on = self.site.drive_of(id.folder());
        let _asking = self.ask_in_turn(&error.1);
        if self.follows_from_loss(on, &error.1) {
            return;
        }
        let outcome = error.outcome();
        self.set(id, outcome);
        let needs = self.site.step(id).map_or(0, |(step, _)| step.bytes());
        self.report_needing(on, &self.site.part.path(id), error, needs);
        observer.concluded(number, outcome);
    }

    /// Reports an error that belongs to no step.
    pub(super) fn report(&self, on: &OnDrive<'_>, path: &TreePath, error: StepError) {
        let _asking = self.ask_in_turn(&error.1);
        self.report_needing(on, path, error, 0);
    }

    /// True unless the run ended early for another reason than a full drive.
    pub(super) fn may_go_on_removing(&self) -> bool {
        !self.site.context.must_end() || self.all.is_ended_by(Cause::is_full)
    }

    fn ask_in_turn(&self, cause: &Cause) -> Option<MutexGuard<'_, ()>> {
        let asks =
            cause.is_gone() || cause.is_input_output() || cause.is_full() || cause.is_read_only();
        asks.then(|| self.all.asking.lock())
    }

    /// Reports an error, and diagnoses whether it concerns its whole drive.
    fn report_needing(&self, on: &OnDrive<'_>, path: &TreePath, error: StepError, needs: u64) {
        let StepError(operation, cause) = error;
        if self.follows_from_loss(on, &cause) {
            return;
        }
        let cause = self.judge(on, cause, needs);
        let path = self.site.prefix.join(path.as_bytes());
        let problem = Problem { path, operation, cause };
        self.site.context.observer.met(&problem);
        self.all.report(problem);
    }

    /// Ends the run, or closes a drive, if an error concerns more than one entry.
    fn judge(&self, on: &OnDrive<'_>, cause: Cause, needs: u64) -> Cause {
        let verdict = self.ask_drives(on, &cause, needs);
        if verdict == Health::Well {
            return cause;
        }
        let cause = if cause.is_input_output() { Cause::DriveLost } else { cause };
        if verdict == Health::OneIsOver && on.mounted.id != self.site.root_drive().mounted.id {
            on.closed.store(true, Ordering::Relaxed);
        } else {
            self.all.end(&cause);
            self.site.context.over.store(true, Ordering::Relaxed);
        }
        cause
    }

    /// Diagnoses an error of an entry that needs this many bytes.
    fn ask_drives(&self, on: &OnDrive<'_>, cause: &Cause, needs: u64) -> Health {
        let over = |over| if over { Health::OneIsOver } else { Health::Well };
        let Some(handle) = on.handle.get().map(AsFd::as_fd) else { return Health::Well };
        if cause.is_full() {
            return over(!health::has_space(self.site, handle, needs));
        }
        if cause.is_read_only() {
            let source = self.site.pair.source.as_fd();
            let is_source = || health::is_read_only(self.site, source);
            return match health::try_writing(self.site, handle, 0) {
                Err(_) => Health::OneIsOver,
                Ok(()) if is_source() => Health::SourceIsOver,
                Ok(()) => Health::Well,
            };
        }
        if !cause.is_gone() && !cause.is_input_output() {
            return Health::Well;
        }
        if self.drive_fails(on, handle) {
            return Health::OneIsOver;
        }
        if self.source_fails(on) { Health::SourceIsOver } else { Health::Well }
    }

    /// True if all reads from the source's drive fail.
    pub(super) fn source_fails(&self, on: &OnDrive<'_>) -> bool {
        self.drive_fails(on, self.site.pair.source.as_fd())
    }

    fn drive_fails(&self, on: &OnDrive<'_>, folder: BorrowedFd<'_>) -> bool {
        match health::ask(self.site, folder) {
            Answer::Works => false,
            Answer::Fails => true,
            Answer::FailedOnce(error) => {
                let path = self.site.prefix.join(on.mounted.path.as_bytes());
                let (operation, cause) = (Operation::Flush, error.into());
                self.all.report(Problem { path, operation, cause });
                false
            }
        }
    }

    /// True for an error that follows from the loss of a drive, which is reported already.
    fn follows_from_loss(&self, on: &OnDrive<'_>, cause: &Cause) -> bool {
        let follows = cause.is_gone() || cause.is_input_output();
        let closed = on.is_closed() && (follows || cause.is_full());
        closed || follows && self.all.is_ended_by(Cause::is_gone)
    }
}
