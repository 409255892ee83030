//! What a run did.

use std::io;
use std::path::{Path, PathBuf};

use utter_echo_model::count::Count;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::verb::Verb;

use crate::plan::Plan;

/// How a run ended.
#[derive(Debug)]
pub enum Ending {
    /// Every step came up.
    Complete,
    /// The observer asked to stop.
    Stopped,
    /// No further step could succeed.
    Early(Cause),
}

/// What a run did.
#[derive(Debug)]
pub struct Outcome {
    pub(super) steps: Vec<StepOutcome>,
    /// In tree order.
    pub problems: Vec<Problem>,
    /// Steps that were done, in the order of [`Verb::ALL`].
    pub done: [Count; Verb::ALL.len()],
    /// Bytes of content that were written, finished or not.
    pub bytes_written: u64,
    /// How it ended.
    pub ending: Ending,
    /// Where it set aside what it displaced, if it did; the name to undo it by.
    pub set_aside: Option<PathBuf>,
    /// Only the notes are there, and not what was displaced.
    pub notes_only: bool,
    /// Why the notes of a move are not whole, so that it cannot be undone.
    pub lost_notes: Option<io::Error>,
}

impl Outcome {
    /// Of a run that found no place to set things aside, and so did nothing.
    pub(crate) fn without_shelf(plan: &Plan, folder: &Path, error: io::Error) -> Self {
        let count = usize::try_from(plan.totals.steps()).unwrap_or(usize::MAX);
        let kind = error.kind();
        let path = folder.as_os_str().as_encoded_bytes().into();
        Self {
            steps: vec![StepOutcome::NotReached; count],
            problems: vec![Problem { path, operation: Operation::SetAside, cause: error.into() }],
            done: Default::default(),
            bytes_written: 0,
            ending: Ending::Early(Cause::System(kind.into())),
            set_aside: None,
            notes_only: false,
            lost_notes: None,
        }
    }

    /// What became of the step with this number.
    pub fn of(&self, number: usize) -> StepOutcome {
        self.steps.get(number).copied().unwrap_or(StepOutcome::NotReached)
    }

    /// Steps done of one verb.
    pub fn done(&self, verb: Verb) -> Count {
        self.done[verb as usize]
    }
}
