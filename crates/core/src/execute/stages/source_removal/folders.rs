//! Removing empty folders from the source, from the bottom up, and its root.

use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd};

use utter_echo_files::leftovers;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::Kind;

use crate::execute::stages::source_removal::proof::HeldEntry;
use crate::execute::stages::source_removal::shared::SourceRemoval;
use crate::execute::writer::{ErrorContext as _, StepError, StepResult};
use crate::policy::{Step, StepId};
use crate::sides;

impl SourceRemoval<'_, '_> {
    pub(super) fn remove_folders(&self) {
        let folders = self.run.site.part.folders.iter().enumerate().skip(1);
        let places: HashMap<(usize, &[u8]), usize> =
            folders.map(|(at, f)| ((f.parent as usize, &*f.head.name), at)).collect();
        for at in (0..self.run.site.part.folders.len()).rev() {
            self.remove_folders_in(at, &places);
        }
    }

    /// A folder stays if something in it could not be removed, which is reported there.
    fn remove_folders_in(&self, at: usize, places: &HashMap<(usize, &[u8]), usize>) {
        let (run, folder) = (self.run, &self.run.site.part.folders[at]);
        let due = run.site.part.steps_of(at, Side::Source);
        for (id, step) in due.filter(|(_, step)| step.kind() == Kind::Folder) {
            let below = places.get(&(at, folder.name(step)));
            let is_emptied = below.is_none_or(|below| self.went(*below));
            if self.must_stop() || !is_emptied || !self.has_arrived(id) {
                continue;
            }
            run.ledger.conclude(id, run.ledger.retry(|| self.remove_folder(id, step)));
        }
    }

    fn remove_folder(&self, id: StepId, step: &Step) -> StepResult {
        let (run, system) = (self.run, self.run.system());
        let folder = &run.site.part.folders[id.folder()];
        let place = run.enter(id.folder())?;
        let own = folder.name_in_source(step);
        let here = HeldEntry::open(system, place.source()?, own)?;
        let there = HeldEntry::open(system, place.destination.as_fd(), folder.name(step))?;
        if !step.source.is_some_and(|planned| planned.still(&here.stat)) || here.stat.mounted {
            return Err(StepError::stale_source(Operation::RemoveSource));
        }
        if !self.is_home(step) {
            let on = run.site.drive_of(id.folder());
            self.prove_attributes(on, (&here, &here.stat), &there)?;
        }
        let removed = self.remove_empty(place.source()?, own);
        run.has_taken_from(id.folder(), &place);
        removed
    }

    fn remove_empty(&self, above: BorrowedFd<'_>, name: &[u8]) -> StepResult {
        let system = self.run.system();
        if self.run.site.is_undo() {
            // Leftovers of killed runs in a folder that is moved back are removed with it.
            let folder = system.open_folder(above, name).during(Operation::RemoveSource)?;
            let cleared = leftovers::clear_all_leftovers(system, folder.as_fd());
            cleared.during(Operation::RemoveSource)?;
        }
        match system.remove_folder(above, name) {
            // Somebody put something into the empty folder.
            Err(e) if e.kind() == io::ErrorKind::DirectoryNotEmpty => {
                Err(StepError(Operation::RemoveSource, Cause::NotEmpty))
            }
            other => other.during(Operation::RemoveSource),
        }
    }

    /// True if everything that was to be removed from a folder is gone.
    fn went(&self, at: usize) -> bool {
        let part = self.run.site.part;
        let renamed = part.steps_of(at, Side::Destination);
        let renamed = renamed.filter(|(_, step)| step.is_taken_over());
        let mut all = part.steps_of(at, Side::Source).chain(renamed);
        all.all(|(id, _)| self.run.ledger.is_done(id))
    }

    /// Removes the source's root, by its name in the folder above it.
    pub(super) fn remove_root(&self) {
        let part = self.run.site.part;
        let root = StepId::of_root(Side::Destination);
        let has_arrived = part.root.is_none() || self.run.ledger.is_done(root);
        let all_went = has_arrived && (part.folders.is_empty() || self.went(0));
        if part.root_source_removal.is_some() && all_went && !self.must_stop() {
            self.run.ledger.conclude(StepId::of_root(Side::Source), self.take_root_away());
        }
    }

    fn take_root_away(&self) -> StepResult {
        let (site, system) = (self.run.site, self.run.system());
        let (above, name) =
            sides::parent_of_root(system, &site.pair.source).during(Operation::RemoveSource)?;
        let here = HeldEntry::open(system, above.as_fd(), &name)?;
        if here.stat.identity != site.pair.source_stat.identity {
            return Err(StepError::stale_source(Operation::RemoveSource));
        }
        let was_there = site.part.root.is_none_or(|root| root.verb == Verb::Adjust);
        if !(site.is_undo() && was_there) {
            let there = HeldEntry::of_root(system, self.run.root)?;
            self.prove_attributes(site.root_drive(), (&here, &here.stat), &there)?;
        }
        self.remove_empty(above.as_fd(), &name)
    }
}
