//! Reading back from the drive what a run wrote, and comparing it with the source.

use crate::execute::writer::ErrorContext as _;
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_drives::disk_order::RotationalDisks;
use utter_echo_files::same_content::{self, ReadLength};
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Kind, Time};

use crate::execute::stages::read_back::{self, ReadBack};
use crate::execute::stages::run::{OnDrive, PartRun, name_of};
use crate::execute::writer::{FolderPair, StepError, StepResult, was_interrupted};
use crate::policy::{PlannedFolder, Step};

/// What is taken out of the cache before it is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Forget {
    Both,
    Source,
    Destination,
    /// Each was read anew just now.
    Nothing,
}

impl PartRun<'_> {
    pub(super) fn rechecks(&self) -> bool {
        self.context.running.recheck
    }

    /// Every file that was added or replaced is read again. What differs has failed after all.
    pub(super) fn recheck(&self, root: BorrowedFd<'_>) {
        let written = self.part.all_steps().filter(|step| writes_file(step));
        self.context.observer.comparing(written.map(|step| 2 * step.bytes()).sum());
        let back = ReadBack::new(self, root, true);
        let wanted = |folder: &PlannedFolder, slot| folder.step(slot).is_some_and(writes_file);
        if back.in_order(wanted, |which| self.recheck_one(root, &back, which)) {
            return;
        }
        let folders = self.part.folders.iter().enumerate();
        let written = folders.filter(|(_, folder)| folder.steps.iter().any(writes_file));
        let work: Vec<usize> = written.map(|(at, _)| at).collect();
        self.context.pool.each(work, |at| self.recheck_folder(root, at));
    }

    fn recheck_folder(&self, root: BorrowedFd<'_>, at: usize) {
        let folder = &self.part.folders[at];
        let Some(place) = self.enter_to_recheck(root, at) else { return };
        for slot in (0..folder.steps.len()).filter(|slot| writes_file(&folder.steps[*slot])) {
            self.recheck_step(&place, at, slot, Forget::Both);
        }
    }

    fn enter_to_recheck(&self, root: BorrowedFd<'_>, at: usize) -> Option<FolderPair> {
        let entered = self.enter(root, at);
        let told = |error| self.report(self.drive_of(at), &self.part.folder_path(at), error);
        entered.map_err(told).ok()
    }

    fn recheck_one(&self, root: BorrowedFd<'_>, back: &ReadBack<'_, '_>, which: (usize, usize)) {
        let (at, slot) = which;
        let is_fresh = back.was_brought(which);
        let forget = match &self.disks {
            RotationalDisks { source: Some(_), .. } if is_fresh => Forget::Nothing,
            RotationalDisks { source: Some(_), .. } => Forget::Destination,
            RotationalDisks { .. } if is_fresh => Forget::Source,
            RotationalDisks { .. } => Forget::Both,
        };
        if let Some(place) = back.places.take(at).or_else(|| self.enter_to_recheck(root, at)) {
            self.recheck_step(&place, at, slot, forget);
            back.places.give_back(at, place);
        }
    }

    fn recheck_step(&self, place: &FolderPair, at: usize, slot: usize, forget: Forget) {
        let (folder, on) = (&self.part.folders[at], self.drive_of(at));
        let (step, number) = (&folder.steps[slot], folder.first + slot);
        if self.ledger.get(number) != StepOutcome::Done || self.context.must_end() {
            return;
        }
        let name = name_of(folder, step);
        let read_back = self.retry(|| self.read_back(on, (place, name), step, forget));
        self.context.pool.did(1);
        // What was not read to its end has shown nothing.
        if let Err(error) = read_back
            && !was_interrupted(&error.1)
        {
            self.ledger.set(number, StepOutcome::Failed);
            if matches!(error.1, Cause::ReadBack(_)) {
                self.disown(on, place, name, step);
            }
            self.report(on, &place.path.join(name), error);
        }
    }

    /// What differs must not look unchanged to the next run.
    fn disown(&self, on: &OnDrive<'_>, place: &FolderPair, name: &[u8], step: &Step) {
        let Some(source) = step.source else { return };
        let drive = &on.writer.capabilities.drive;
        let other = |secs| drive.nearest(Time { secs, nanos: 0 });
        let unlike = |time: &Time| !on.writer.capabilities.agree(source.modified(), *time);
        // Some time that the drive keeps, and that is far from the source's.
        let times = [other(0), other(source.modified().secs - 86_400 * 400), other(1_000_000_000)];
        if let Some(time) = times.into_iter().find(unlike) {
            let entry = Entry::Named(place.destination.as_fd(), name);
            // The problem that led here is told in any case.
            let _ = self.system().set_times(entry, time, None);
        }
    }

    fn read_back(
        &self,
        on: &OnDrive<'_>,
        (place, name): (&FolderPair, &[u8]),
        step: &Step,
        forget: Forget,
    ) -> StepResult {
        let system = self.system();
        let source = system.open_file(place.source()?, on.writer.source_name(place, name));
        let source = source.during(Operation::Read)?;
        let copy = system.open_file(place.destination.as_fd(), name).during(Operation::Recheck)?;
        let now = system.stat(Entry::Open(source.as_fd())).during(Operation::Read)?;
        if step.source.is_some_and(|planned| !planned.still(&now)) {
            // Changed since it was copied, it is no measure any more.
            return Err(StepError(Operation::Recheck, Cause::Stale("the source")));
        }
        if matches!(forget, Forget::Both | Forget::Destination) {
            read_back::forget(self, copy.as_fd()).during(Operation::Recheck)?;
        }
        if matches!(forget, Forget::Both | Forget::Source) {
            // A drive that is read from alone has nothing to write out.
            let _ = read_back::forget(self, source.as_fd());
        }
        let (here, there) = (source.as_fd(), copy.as_fd());
        let size = ReadLength { size: now.size, block: self.disks.block() };
        let differs = same_content::first_difference(system, here, there, size, |bytes, _| {
            self.context.observer.compared(bytes as u64);
            self.context.go_on()
        });
        match differs.during(Operation::Recheck)? {
            Some(offset) => Err(StepError(Operation::Recheck, Cause::ReadBack(offset))),
            None => Ok(()),
        }
    }
}

fn writes_file(step: &Step) -> bool {
    matches!(step.verb, Verb::Add | Verb::Replace)
        && step.kind() == Kind::File
        && step.relation.is_none()
}
