//! Reading back from the drive what a run wrote, and comparing it with the source.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};

use crate::alike;
use crate::head::{self, Ahead};
use crate::os::{Advice, Entry, Kind, Time};
use crate::policy::{Step, Verb};
use crate::problem::{Cause, Operation};
use crate::writer::{Done, During, Place, Trouble, was_interrupted};

use super::outcome::StepOutcome;
use super::sweep::{Placed, Places};
use super::{OnDrive, Run, name_of};

/// What is taken out of the cache before it is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Forget {
    Both,
    /// The destination's was read anew just now.
    Source,
}

impl Run<'_> {
    pub(super) fn rechecks(&self) -> bool {
        self.means.running.recheck
    }

    /// Every file that was added or replaced is read again, on a drive with a head in the order in which it lies.
    /// What differs has failed after all.
    pub(super) fn recheck(&self, root: BorrowedFd<'_>) {
        if let Some(order) = self.order_to_recheck(root) {
            let places = Places::default();
            let bring = |at| self.bring_back(root, &places, at);
            return self.each_in_order(order, bring, |at| self.recheck_one(root, &places, at));
        }
        let folders = self.part.folders.iter().enumerate();
        let written = folders.filter(|(_, folder)| folder.steps.iter().any(writes_file));
        let work: Vec<usize> = written.map(|(at, _)| at).collect();
        self.means.crew.each(work, |at| self.recheck_folder(root, at));
    }

    fn recheck_folder(&self, root: BorrowedFd<'_>, at: usize) {
        let folder = &self.part.folders[at];
        let on = self.drive_of(at);
        let place = match self.enter(root, at) {
            Ok(place) => place,
            Err(trouble) => return self.report(on, &self.part.folder_path(at), trouble),
        };
        for slot in (0..folder.steps.len()).filter(|slot| writes_file(&folder.steps[*slot])) {
            self.recheck_step(&place, at, slot, Forget::Both);
        }
    }

    fn recheck_one(&self, root: BorrowedFd<'_>, places: &Places, (at, slot): (usize, usize)) {
        match places.take(at).map_or_else(|| self.enter(root, at), Ok) {
            Ok(place) => {
                self.recheck_step(&place, at, slot, Forget::Source);
                places.give_back(at, place);
            }
            Err(trouble) => self.report(self.drive_of(at), &self.part.folder_path(at), trouble),
        }
    }

    fn recheck_step(&self, place: &Place, at: usize, slot: usize, forget: Forget) {
        let (folder, on) = (&self.part.folders[at], self.drive_of(at));
        let (step, number) = (&folder.steps[slot], folder.first + slot);
        if self.ledger.get(number) != StepOutcome::Done || self.means.must_end() {
            return;
        }
        let name = name_of(folder, step);
        let read_back = self.try_hard(|| self.read_back(on, (place, name), step, forget));
        self.means.crew.did(1);
        // What was not read to its end has shown nothing.
        if let Err(trouble) = read_back
            && !was_interrupted(&trouble.1)
        {
            self.ledger.set(number, StepOutcome::Failed);
            if matches!(trouble.1, Cause::ReadBack(_)) {
                self.disown(on, place, name, step);
            }
            self.report(on, &place.path.join(name), trouble);
        }
    }

    fn order_to_recheck(&self, root: BorrowedFd<'_>) -> Option<Vec<Placed>> {
        let head = self.heads.destination.as_deref()?;
        let mut order = Vec::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            let wanted = |slot: &usize| writes_file(&folder.steps[*slot]);
            let mut slots = (0..folder.steps.len()).filter(wanted).peekable();
            if slots.peek().is_none() {
                continue;
            }
            // Told once of all that is in the folder.
            let place = match self.enter(root, at) {
                Ok(place) => place,
                Err(trouble) => {
                    self.report(self.drive_of(at), &self.part.folder_path(at), trouble);
                    continue;
                }
            };
            for slot in slots {
                let name = name_of(folder, &folder.steps[slot]);
                let file = self.system().open_file(place.destination.as_fd(), name).ok();
                let place = file.map_or(0, |file| head.place_of(self.system(), file.as_fd(), 0));
                order.push(Placed::new(place, at, slot)?);
            }
        }
        order.sort_by_key(|placed| placed.place);
        Some(order)
    }

    /// Brings the destination's file into memory as the drive holds it.
    fn bring_back(
        &self,
        root: BorrowedFd<'_>,
        places: &Places,
        (at, slot): (usize, usize),
    ) -> Ahead {
        let folder = &self.part.folders[at];
        let Some(place) = places.take(at).or_else(|| self.enter(root, at).ok()) else {
            return Ahead::Read;
        };
        let step = &folder.steps[slot];
        let file = self.system().open_file(place.destination.as_fd(), name_of(folder, step));
        let ahead = file.map_or(Ahead::Read, |file| {
            // What fails shows once more when it is compared.
            let _ = self.forget(file.as_fd());
            head::bring(self.system(), file.as_fd(), step.bytes()).unwrap_or(Ahead::Read)
        });
        places.give_back(at, place);
        ahead
    }

    /// What is on the drive already can go from the cache, and is then read from the drive.
    fn forget(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        self.system().write_back(file)?;
        let _ = self.system().advise(file, Advice::Drop, 0, 0);
        Ok(())
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

    fn read_back(
        &self,
        on: &OnDrive<'_>,
        (place, name): (&Place, &[u8]),
        step: &Step,
        forget: Forget,
    ) -> Done {
        let system = self.system();
        let source = system.open_file(place.source()?, on.writer.source_name(place, name));
        let source = source.during(Operation::Read)?;
        let copy = system.open_file(place.destination.as_fd(), name).during(Operation::Recheck)?;
        let now = system.stat(Entry::Open(source.as_fd())).during(Operation::Read)?;
        if step.source.is_some_and(|planned| !planned.still(&now)) {
            // Changed since it was copied, it is no measure any more.
            return Err(Trouble(Operation::Recheck, Cause::Overtaken("the source")));
        }
        if forget == Forget::Both {
            self.forget(copy.as_fd()).during(Operation::Recheck)?;
        }
        // A drive that is read from alone has nothing to write out.
        let _ = self.forget(source.as_fd());
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
