//! What became of each step, kept by all workers together.

use parking_lot::Mutex;
use std::sync::atomic::{AtomicU8, Ordering};

use utter_echo_model::count::Count;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::problem::{Cause, Problem};
use utter_echo_model::running::Retries;
use utter_echo_model::verb::Verb;
use utter_echo_workers::retry::Retrying;

use crate::execute::outcome::{Ending, Outcome};
use crate::plan::Plan;
use crate::policy::Part;

/// Kept by all workers together.
pub(super) struct Ledger {
    outcomes: Vec<AtomicU8>,
    problems: Mutex<Vec<Problem>>,
    /// What ended the run early.
    ended: Mutex<Option<Cause>>,
    /// Held while a drive is asked whether it works at all: what others meet in the meantime may be told by
    /// the answer.
    pub(crate) asking: Mutex<()>,
    pub(super) retrying: Retrying,
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

    pub(super) fn set(&self, number: usize, outcome: StepOutcome) {
        self.outcomes[number].store(outcome as u8, Ordering::Relaxed);
    }

    pub(super) fn get(&self, number: usize) -> StepOutcome {
        read(&self.outcomes[number])
    }

    pub(crate) fn end(&self, cause: &Cause) {
        let mut ended = self.ended.lock();
        *ended = ended.take().or_else(|| cause.copied());
    }

    pub(crate) fn is_ended_by_loss(&self) -> bool {
        let ended = self.ended.lock();
        ended.as_ref().is_some_and(Cause::is_gone)
    }

    pub(super) fn is_ended_by_full(&self) -> bool {
        let ended = self.ended.lock();
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
            notes_only: false,
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
