//! Shared parts of the removal from the source.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_drives::{kinds, trial};
use utter_echo_files::{exit_folder, free_name};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::verb::{Reason, Side};
use utter_echo_os::{Entry, Identity, Kind, Lease, Stat, Time};

use crate::execute::stages::run::PartRun;
use crate::execute::writer::{ErrorContext as _, FolderPair, StepError, StepResult};
use crate::policy::{Step, StepId};

/// The removal of entries from the source of one part.
pub(super) struct SourceRemoval<'r, 'a> {
    pub(super) run: &'r PartRun<'a>,
}

impl SourceRemoval<'_, '_> {
    /// True if nothing more may be removed. A full drive ends only the copying.
    pub(super) fn must_stop(&self) -> bool {
        let observer = self.run.site.context.observer;
        observer.stop_requested() || !self.run.ledger.may_go_on_removing()
    }

    /// True for an entry of an undo that never left its place or is back already. It has its final attributes,
    /// while those of the other copy may never have been complete.
    pub(super) fn is_home(&self, step: &Step) -> bool {
        self.run.site.is_undo() && step.reason == Reason::Arrived
    }

    /// True if the copy of a step has arrived, and no error of it is known.
    pub(super) fn has_arrived(&self, id: StepId) -> bool {
        let Some((step, name)) = self.run.site.step(id) else { return false };
        match self.run.site.part.find(id.folder(), name) {
            Some(own) => self.run.ledger.is_done(own),
            None => step.reason == Reason::Arrived || step.destination.is_some(),
        }
    }

    /// The source's entry, if it is still as in the plan.
    pub(super) fn look(
        &self,
        place: &FolderPair,
        name: &[u8],
        step: &Step,
    ) -> Result<Stat, StepError> {
        let entry = Entry::Named(place.source()?, place.source_name(name));
        let now = self.run.system().stat(entry).during(Operation::RemoveSource)?;
        if step.source.is_some_and(|planned| planned.still(&now)) {
            Ok(now)
        } else {
            Err(StepError::stale_source(Operation::RemoveSource))
        }
    }

    /// Removes a name if it is still that of the proven, unchanged entry. The entry leaves by its exit folder, so
    /// that a new entry under its name is not removed instead.
    pub(super) fn take_away(
        &self,
        place: &FolderPair,
        name: &[u8],
        seen: &Stat,
        lease: Option<&Lease>,
    ) -> StepResult {
        let (system, name) = (self.run.system(), place.source_name(name));
        let here = place.source()?;
        let now = system.stat(Entry::Named(here, name)).during(Operation::RemoveSource)?;
        if !is_unchanged(seen, &now) {
            return Err(StepError::stale_source(Operation::RemoveSource));
        }
        let Some((exit, numbers)) = self.exit_of(place, here) else {
            // The exit folder cannot be made.
            return system.remove_file(here, name).during(Operation::RemoveSource);
        };
        free_name::rename_free(system, (here, name), (exit, name))
            .during(Operation::RemoveSource)?;
        let is_same = system
            .stat(Entry::Named(exit, name))
            .is_ok_and(|now| is_same_after_rename(seen, &now, numbers));
        let why_not = if !is_same {
            StepError::stale_source(Operation::RemoveSource)
        } else if !lease.is_none_or(Lease::is_whole) {
            StepError(Operation::RemoveSource, Cause::BeingWritten)
        } else {
            match system.remove_file(exit, name).during(Operation::RemoveSource) {
                Ok(()) => return Ok(()),
                Err(error) => error,
            }
        };
        match exit_folder::put_back(system, (exit, here), name).during(Operation::RemoveSource)? {
            None => Err(why_not),
            Some(beside) => Err(StepError(Operation::RemoveSource, Cause::KeptBeside(beside))),
        }
    }

    /// The exit folder of a source folder. A single entry has none: left in it after a kill, it would be missing.
    fn exit_of<'p>(
        &self,
        place: &'p FolderPair,
        here: BorrowedFd<'_>,
    ) -> Option<(BorrowedFd<'p>, InodeNumbers)> {
        let system = self.run.system();
        let uid = self.run.site.root_drive().writer.capabilities.caller.uid;
        let is_tree = self.run.site.pair.single.is_none();
        let open = || {
            let exit = exit_folder::open(system, here, uid).ok()?;
            let numbers = kinds::numbers(system, here);
            let tells = numbers == InodeNumbers::Stable || self.keeps_times(&exit).unwrap_or(false);
            tells.then_some((exit, numbers))
        };
        let exit = place.aside.exit.get_or_init(|| is_tree.then(open).flatten()).as_ref();
        exit.map(|(exit, numbers)| (exit.as_fd(), *numbers))
    }

    /// True if renames keep the times of entries, which is needed where inode numbers do not last.
    fn keeps_times(&self, exit: &OwnedFd) -> io::Result<bool> {
        let (system, exit) = (self.run.system(), exit.as_fd());
        let [one, other] = exit_folder::spare_names();
        drop(system.create_file(exit, &one, 0o600)?);
        let keeps = trial::keeps_renamed_time(system, exit, (&one, &other));
        system.remove_file(exit, if keeps.is_ok() { &other } else { &one })?;
        keeps
    }

    /// Removes the empty exit folders.
    pub(super) fn close_exits(&self) {
        let (site, system) = (self.run.site, self.run.system());
        let folders = site.part.folders.iter().enumerate();
        let left =
            folders.filter(|(_, folder)| !folder.source_removals.is_empty()).map(|(at, _)| at);
        site.context.pool.each(left.collect(), |at| {
            let path = site.part.source_path(at);
            if let Ok(folder) = system.open_folder(site.pair.source.as_fd(), path.as_bytes()) {
                // An entry is left in it after an error that is reported; the next run restores it.
                let _ = exit_folder::close(system, folder.as_fd());
                self.run.last_changes.note(system, (Side::Source, at), &folder);
            }
        });
    }
}

/// True for the same entry after a rename, which changes only its change time, and its inode number on some drives.
fn is_same_after_rename(seen: &Stat, now: &Stat, numbers: InodeNumbers) -> bool {
    let of = |stat: &Stat| (stat.kind, stat.size, stat.modified);
    let same_number = numbers != InodeNumbers::Stable || seen.identity == now.identity;
    same_number && of(seen) == of(now)
}

/// True for the same, unchanged entry.
pub(super) fn is_unchanged(seen: &Stat, now: &Stat) -> bool {
    let of = |stat: &Stat| -> (Identity, Kind, u64, Time, Time) {
        (stat.identity, stat.kind, stat.size, stat.modified, stat.changed)
    };
    of(seen) == of(now)
}
