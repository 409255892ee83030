//! Reading back from the drive what a run wrote, and comparing it with the source.

use std::os::fd::{AsFd, BorrowedFd};

use crate::alike;
use crate::os::{Advice, Entry, Kind, Time};
use crate::policy::{Step, Verb};
use crate::pool;
use crate::problem::{Cause, Operation};
use crate::writer::{Done, During, Place, Trouble, was_interrupted};

use super::outcome::StepOutcome;
use super::{OnDrive, Run, name_of};

impl Run<'_> {
    pub(super) fn rechecks(&self) -> bool {
        self.means.running.recheck
    }

    /// Every file that was added or replaced is read again. What differs has failed after all.
    pub(super) fn recheck(&self, root: BorrowedFd<'_>) {
        let folders = self.part.folders.iter().enumerate();
        let written = folders.filter(|(_, folder)| folder.steps.iter().any(writes_file));
        let work: Vec<usize> = written.map(|(at, _)| at).collect();
        pool::each(self.means.running.workers, work, |at| self.recheck_folder(root, at));
    }

    fn recheck_folder(&self, root: BorrowedFd<'_>, at: usize) {
        let folder = &self.part.folders[at];
        let on = self.drive_of(at);
        let place = match self.enter(root, at) {
            Ok(place) => place,
            Err(trouble) => return self.report(on, &self.part.folder_path(at), trouble),
        };
        for (i, step) in folder.steps.iter().enumerate().filter(|(_, step)| writes_file(step)) {
            let done = self.ledger.get(folder.first + i) == StepOutcome::Done;
            if !done || self.means.must_end() {
                continue;
            }
            let name = name_of(folder, step);
            let read_back = self.try_hard(|| self.read_back(on, &place, name, step));
            // What was not read to its end has shown nothing.
            if let Err(trouble) = read_back
                && !was_interrupted(&trouble.1)
            {
                self.ledger.set(folder.first + i, StepOutcome::Failed);
                if matches!(trouble.1, Cause::ReadBack(_)) {
                    self.disown(on, &place, name, step);
                }
                self.report(on, &place.path.join(name), trouble);
            }
        }
    }

    /// What differs must not look unchanged to the next run.
    fn disown(&self, on: &OnDrive<'_>, place: &Place, name: &[u8], step: &Step) {
        let Some(source) = step.source else { return };
        let drive = &on.writer.reach.drive;
        let other = |secs| drive.nearest(Time { secs, nanos: 0 });
        let unlike = |time: &Time| !on.writer.reach.agree(source.modified(), *time);
        // Some time that the drive keeps, and that is far from the source's.
        let times = [other(0), other(source.modified().secs - 86_400 * 400), other(1_000_000_000)];
        if let Some(time) = times.into_iter().find(unlike) {
            let entry = Entry::Named(place.destination.as_fd(), name);
            // The problem that led here is told in any case.
            let _ = self.system().set_times(entry, time, None);
        }
    }

    fn read_back(&self, on: &OnDrive<'_>, place: &Place, name: &[u8], step: &Step) -> Done {
        let system = self.system();
        let source = system.open_file(place.source()?, on.writer.source_name(place, name));
        let source = source.during(Operation::Read)?;
        let copy = system.open_file(place.destination.as_fd(), name).during(Operation::Recheck)?;
        let now = system.stat(Entry::Open(source.as_fd())).during(Operation::Read)?;
        if step.source.is_some_and(|planned| !planned.still(&now)) {
            // Changed since it was copied, it is no measure any more.
            return Err(Trouble(Operation::Recheck, Cause::Overtaken("the source")));
        }
        // What is on the drive already can go from the cache, and is then read from the drive.
        system.write_back(copy.as_fd()).during(Operation::Recheck)?;
        let _ = system.advise(copy.as_fd(), Advice::Drop, 0, 0);
        let (here, there) = (source.as_fd(), copy.as_fd());
        let differs =
            alike::first_difference(system, here, there, now.size, |_, _| self.means.go_on());
        match differs.during(Operation::Recheck)? {
            Some(offset) => Err(Trouble(Operation::Recheck, Cause::ReadBack(offset))),
            None => Ok(()),
        }
    }
}

fn writes_file(step: &Step) -> bool {
    matches!(step.verb, Verb::Add | Verb::Replace)
        && step.kind() == Kind::File
        && step.relation.is_none()
}
