//! Reading back from the drive what a run wrote, and comparing it with the source.

use std::os::fd::{AsFd, BorrowedFd};

use crate::alike;
use crate::os::{Advice, Entry, Kind};
use crate::plan::{Step, Verb};
use crate::pool;
use crate::problem::{Cause, Operation};

use super::{Done, During, PartRun, Place, StepOutcome, Trouble, was_interrupted};

impl PartRun<'_> {
    /// Every file that was added or replaced is read again. What differs has failed after all.
    pub(super) fn recheck(&self, root: BorrowedFd<'_>) {
        let folders = self.part.folders.iter().enumerate();
        let written = folders.filter(|(_, folder)| folder.steps.iter().any(writes_file));
        let work: Vec<usize> = written.map(|(at, _)| at).collect();
        pool::run(self.shared.running.workers, work, |at, _| self.recheck_folder(root, at));
    }

    fn recheck_folder(&self, root: BorrowedFd<'_>, at: usize) {
        let folder = &self.part.folders[at];
        let place = match self.enter(root, at) {
            Ok(place) => place,
            Err(trouble) => return self.report(&self.part.folder_path(at), trouble),
        };
        for (i, step) in folder.steps.iter().enumerate().filter(|(_, step)| writes_file(step)) {
            let done = self.outcome_of(folder.first + i) == StepOutcome::Done;
            if !done || self.shared.must_end() {
                continue;
            }
            let name = folder.names.get(step.name);
            let read_back = self.read_back(&place, name, step);
            // What was not read to its end has shown nothing.
            if let Err(trouble) = read_back
                && !was_interrupted(&trouble.1)
            {
                self.set_outcome(folder.first + i, StepOutcome::Failed);
                self.report(&place.path.join(name), trouble);
            }
        }
    }

    fn read_back(&self, place: &Place<'_>, name: &[u8], step: &Step) -> Done {
        let system = self.shared.system;
        let source = system.open_file(place.source()?, self.source_name(name));
        let source = source.during(Operation::Read)?;
        let copy = system.open_file(place.destination.as_fd(), name).during(Operation::Recheck)?;
        let now = system.stat(Entry::Open(source.as_fd())).during(Operation::Read)?;
        if step.source.is_some_and(|planned| !planned.still(&now)) {
            // Changed since it was copied, it is no measure any more.
            return Err(Trouble(Operation::Recheck, Cause::Overtaken("the source")));
        }
        // What is on the drive already can go from the cache, and is then read from the drive.
        system.flush_file(copy.as_fd()).during(Operation::Recheck)?;
        let _ = system.advise(copy.as_fd(), Advice::Drop, 0, 0);
        let (here, there) = (source.as_fd(), copy.as_fd());
        let differs = alike::first_difference(system, here, there, |_, _| self.go_on());
        match differs.during(Operation::Recheck)? {
            Some(offset) => Err(Trouble(Operation::Recheck, Cause::ReadBack(offset))),
            None => Ok(()),
        }
    }
}

fn writes_file(step: &Step) -> bool {
    matches!(step.verb, Verb::Add | Verb::Replace)
        && step.kind() == Kind::File
        && step.leader.is_none()
}
