//! The outcome of a run.

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
    /// All steps were tried.
    Complete,
    /// The observer asked to stop.
    Stopped,
    /// It ended early, since no further step could succeed.
    Early(Cause),
}

/// The outcome of a run.
#[derive(Debug)]
pub struct Outcome {
    pub(super) steps: Vec<StepOutcome>,
    /// In tree order.
    pub problems: Vec<Problem>,
    /// Steps that were done, in the order of [`Verb::ALL`].
    pub done: [Count; Verb::ALL.len()],
    /// Bytes of content that were written, also of unfinished files.
    pub bytes_written: u64,
    /// How it ended.
    pub ending: Ending,
    /// The folder of its set-aside entries, if any, by which it can be undone.
    pub set_aside: Option<PathBuf>,
    /// That folder has only the undo journal and no displaced entries.
    pub journal_only: bool,
    /// Why the journal of a move is not complete, so that it cannot be undone.
    pub lost_notes: Option<io::Error>,
}

impl Outcome {
    /// The outcome of a run that did nothing, since its set-aside folder failed.
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
            journal_only: false,
            lost_notes: None,
        }
    }

    /// The outcome of the step with this number.
    pub fn of(&self, number: usize) -> StepOutcome {
        self.steps.get(number).copied().unwrap_or(StepOutcome::NotReached)
    }

    /// The number of steps of one verb that were done.
    pub fn done(&self, verb: Verb) -> Count {
        self.done[verb as usize]
    }
}
