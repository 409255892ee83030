//! Writing down what became of a step.

use parking_lot::MutexGuard;
use std::sync::atomic::Ordering;

use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Problem};

use crate::execute::stages::ledger::Health;
use crate::execute::stages::run::{OnDrive, PartRun};
use crate::execute::writer::{StepError, StepResult, was_interrupted};
use crate::policy::{Step, StepLocation};

impl PartRun<'_> {
    /// Writes down what became of a step on a drive.
    pub(super) fn conclude(
        &self,
        on: &OnDrive<'_>,
        number: usize,
        path: &TreePath,
        result: StepResult,
    ) {
        let error = match result {
            Ok(()) => {
                self.ledger.set(number, StepOutcome::Done);
                self.context.observer.concluded(number, StepOutcome::Done);
                return;
            }
            Err(error) => error,
        };
        if self.context.observer.stop_requested() && was_interrupted(&error.1) {
            return;
        }
        let _asking = self.ask_in_turn(&error.1);
        if self.is_told(on, &error.1) {
            return;
        }
        let overtaken = error.1.is_stale();
        let outcome = if overtaken { StepOutcome::Stale } else { StepOutcome::Failed };
        self.ledger.set(number, outcome);
        let needs = self.bytes_of(number);
        self.report_needing(on, path, error, needs);
        self.context.observer.concluded(number, outcome);
    }

    fn bytes_of(&self, number: usize) -> u64 {
        let step = match self.part.at(number) {
            Some(StepLocation::Below(folder, slot)) => self.part.folders[folder].step(slot),
            Some(StepLocation::Root(_)) | None => None,
        };
        step.map_or(0, Step::bytes)
    }

    pub(super) fn report(&self, on: &OnDrive<'_>, path: &TreePath, error: StepError) {
        let _asking = self.ask_in_turn(&error.1);
        self.report_needing(on, path, error, 0);
    }

    fn ask_in_turn(&self, cause: &Cause) -> Option<MutexGuard<'_, ()>> {
        let asks =
            cause.is_gone() || cause.is_input_output() || cause.is_full() || cause.is_read_only();
        asks.then(|| self.ledger.asking.lock())
    }

    /// Tells of a fault. It is about one entry, until its drive says otherwise.
    fn report_needing(&self, on: &OnDrive<'_>, path: &TreePath, error: StepError, needs: u64) {
        let StepError(operation, cause) = error;
        if self.is_told(on, &cause) {
            return;
        }
        let cause = self.judge(on, cause, needs);
        let path = self.prefix.join(path.as_bytes());
        let problem = Problem { path, operation, cause };
        self.context.observer.met(&problem);
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
            self.context.over.store(true, Ordering::Relaxed);
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
