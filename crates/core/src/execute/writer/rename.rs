//! Renaming an entry of the destination to another name on its drive.

use crate::execute::writer::step_error::ErrorContext as _;
use std::io::ErrorKind;
use std::os::fd::AsFd;

use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::State;
use utter_echo_os::{Entry, Stat};

use crate::execute::writer::drive_writer::Writer;
use crate::execute::writer::flags::AfterWork;
use crate::execute::writer::folder_pair::FolderPair;
use crate::execute::writer::step_error::StepError;

impl Writer<'_> {
    /// Renames an entry that is as in the plan to a free name. Returns its present state.
    pub(crate) fn rename(
        &self,
        above: &FolderPair,
        old: &[u8],
        place: &FolderPair,
        name: &[u8],
        seen: &State,
    ) -> Result<Stat, StepError> {
        let from = (above.destination.as_fd(), old);
        let now = match self.context.system.stat(Entry::Named(from.0, from.1)) {
            Ok(now) if seen.still(&now) => now,
            Err(e) if e.kind() != ErrorKind::NotFound => {
                return Err(StepError(Operation::LookAtDestination, Cause::System(e)));
            }
            _ => return Err(StepError::stale_destination(Operation::LookAtDestination)),
        };
        let to = (place.destination.as_fd(), name);
        self.unlocked(from, (now.kind, now.flags), AfterWork::Kept, || {
            match self.rename_kept(from, to) {
                Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                    Err(StepError::stale_destination(Operation::Write))
                }
                other => other.during(Operation::Write),
            }
        })?;
        Ok(now)
    }
}
