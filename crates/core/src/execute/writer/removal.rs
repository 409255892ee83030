//! Removing an entry that is still as in the plan.

use crate::execute::writer::step_error::ErrorContext as _;
use std::io::ErrorKind;
use std::os::fd::AsFd;

use utter_echo_files::leftovers::clear_all_leftovers;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::verb::Reason;
use utter_echo_os::{Entry, Flags, Kind, Stat};

use crate::execute::writer::drive_writer::Writer;
use crate::execute::writer::flags::AfterWork;
use crate::execute::writer::folder_pair::FolderPair;
use crate::execute::writer::operation::EntryOperation;
use crate::execute::writer::set_aside::{DisplacedBy, NameState};
use crate::execute::writer::step_error::{StepError, StepResult};

impl Writer<'_> {
    /// Removes an entry, or sets it aside. A folder must be empty by now.
    pub(crate) fn remove(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let now = match self.check_destination(place, name, operation) {
            // A partial large file was continued, and has its name by now.
            Err(_) if operation.reason == Reason::Leftover && self.is_gone(place, name) => {
                return Ok(());
            }
            other => other?,
        };
        if !matches!(operation.reason, Reason::Leftover | Reason::Unselected) {
            self.check_still_extra(place, name, operation.kind())?;
        }
        let folder = place.destination.as_fd();
        let shown = now.map_or_else(Flags::default, |now| now.flags);
        let kept = self.keeps_displaced().is_some() && operation.kind() != Kind::Folder;
        let after = if kept { AfterWork::Kept } else { AfterWork::Gone };
        self.unlocked((folder, name), (operation.kind(), shown), after, || {
            if operation.kind() == Kind::Folder {
                self.set_folder_aside(place, name, operation)?;
                self.clear_interrupted(place, name)?;
                return self.system().remove_folder(folder, name).during(Operation::Remove);
            }
            if operation.reason != Reason::Leftover
                && self.set_aside(place, name, DisplacedBy::Removed)? == NameState::Free
            {
                return Ok(());
            }
            self.system().remove_file(folder, name).during(Operation::Remove)
        })
    }

    /// Clears leftovers in a folder that an undone, killed run made.
    fn clear_interrupted(&self, place: &FolderPair, name: &[u8]) -> StepResult {
        if self.memory.is_none() {
            return Ok(());
        }
        let system = self.system();
        let folder = system.open_folder(place.destination.as_fd(), name);
        let cleared = folder.and_then(|folder| clear_all_leftovers(system, folder.as_fd()));
        cleared.during(Operation::Remove)
    }

    /// Fails if the source has an entry that was missing in the plan.
    fn check_still_extra(&self, place: &FolderPair, name: &[u8], kind: Kind) -> StepResult {
        let Some(source) = &place.source else { return Ok(()) };
        match self.system().stat(Entry::Named(source.as_fd(), name)) {
            Ok(now) if self.capabilities.has_appeared(now.kind, kind) => {
                Err(StepError::stale_source(Operation::LookAtSource))
            }
            Err(e) if e.kind() != ErrorKind::NotFound => Err(e).during(Operation::LookAtSource),
            _ => Ok(()),
        }
    }

    fn is_gone(&self, place: &FolderPair, name: &[u8]) -> bool {
        let now = self.system().stat(Entry::Named(place.destination.as_fd(), name));
        now.is_err_and(|error| error.kind() == ErrorKind::NotFound)
    }

    /// Fails unless the destination's entry is as in the plan. Returns its present state.
    pub(crate) fn check_destination(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
    ) -> Result<Option<Stat>, StepError> {
        let Some(seen) = operation.destination else {
            return Ok(None);
        };
        let now = self.system().stat(Entry::Named(place.destination.as_fd(), name));
        let now = now.during(Operation::LookAtDestination);
        match now {
            Ok(now) if seen.still(&now) => Ok(Some(now)),
            Err(StepError(operation, Cause::System(e))) if e.kind() != ErrorKind::NotFound => {
                Err(StepError(operation, Cause::System(e)))
            }
            _ => Err(StepError::stale_destination(Operation::LookAtDestination)),
        }
    }
}
