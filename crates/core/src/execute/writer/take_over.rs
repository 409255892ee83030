//! Renaming entries from the source, if both sides are on one drive.

use crate::execute::writer::step_error::ErrorContext as _;
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::State;
use utter_echo_os::Entry;

use crate::execute::writer::drive_writer::Writer;
use crate::execute::writer::folder_pair::FolderPair;
use crate::execute::writer::step_error::{StepError, StepResult, is_elsewhere};
use crate::sides::{self, Pair};

impl Writer<'_> {
    /// Renames an entry of the source to a name that is free in the plan.
    pub(crate) fn take_over(&self, place: &FolderPair, name: &[u8], planned: &State) -> StepResult {
        let from = (place.source()?, place.source_name(name));
        self.source_now(Entry::Named(from.0, from.1), planned)?;
        translate_error(self.rename_to_new(place, from, name))
    }

    /// The same for the root of the source.
    pub(crate) fn take_root_over(&self, pair: &Pair, to: (BorrowedFd<'_>, &[u8])) -> StepResult {
        let root = sides::parent_of_root(self.system(), &pair.source);
        let (above, name) = root.during(Operation::LookAtSource)?;
        let from = (above.as_fd(), &*name);
        self.source_now(Entry::Named(from.0, from.1), &State::from(&pair.source_stat))?;
        translate_error(self.rename_free(from, to).during(Operation::Write))
    }
}

/// Translates the error of a drive that cannot rename between its mounts.
fn translate_error(renamed: StepResult) -> StepResult {
    match renamed {
        Err(StepError(_, Cause::System(e))) if is_elsewhere(&e) => {
            Err(StepError(Operation::RemoveSource, Cause::NotRenamed))
        }
        other => other,
    }
}
