//! Removal: the last thing a run does, of exactly what the plan saw.

use std::os::fd::{AsFd, BorrowedFd};

use crate::aside::clear_leftovers;
use crate::os::{Entry, Flags, Kind, Stat};
use crate::plan::{Reason, Step, Verb};
use crate::problem::{Cause, Operation};

use super::{Done, During, PartRun, Place, Trouble};

impl PartRun<'_> {
    pub(super) fn remove(&self, root: BorrowedFd<'_>) {
        let file = |step: &Step| step.verb == Verb::Remove && step.kind() != Kind::Folder;
        self.each_folder(file, |run, at, steps| {
            run.work_on(root, at, steps, &file, &|place, step| run.remove_entry(place, step));
        });
        // The deepest first: a folder must be empty by then.
        for at in (0..self.part.folders.len()).rev() {
            let folder = &self.part.folders[at];
            let wanted = |i: &usize| {
                let step = &folder.steps[*i];
                step.verb == Verb::Remove
                    && step.kind() == Kind::Folder
                    && !self.was_tried(folder, *i)
            };
            let mut todo = (0..folder.steps.len()).filter(wanted).peekable();
            if todo.peek().is_none() || self.shared.must_end() {
                continue;
            }
            match self.enter_to_change(root, at) {
                Ok(place) => {
                    todo.for_each(|i| {
                        self.try_step(&place, i, |step| self.remove_entry(&place, step));
                    });
                }
                Err(trouble) => self.report(&self.part.folder_path(at), trouble),
            }
        }
    }

    fn remove_entry(&self, place: &Place<'_>, step: &Step) -> Done {
        let name = place.folder.names.get(step.name);
        let now = match self.check_destination(place, name, step) {
            // What was left of a large file was gone on with, and has its name by now.
            Err(_) if step.reason == Reason::Leftover && self.is_gone(place, name) => return Ok(()),
            other => other?,
        };
        if !matches!(step.reason, Reason::Leftover | Reason::Unselected) {
            self.check_still_extra(place, name, step.kind())?;
        }
        let folder = place.destination.as_fd();
        let shown = now.map_or_else(Flags::default, |now| now.flags);
        let lives = self.shelf.is_some() && step.kind() != Kind::Folder;
        self.unlocked(folder, name, (step.kind(), shown), lives, || {
            if step.kind() == Kind::Folder {
                self.set_folder_aside(place, name, step)?;
                self.clear_interrupted(place, name)?;
                return self.shared.system.remove_folder(folder, name).during(Operation::Remove);
            }
            if step.reason != Reason::Leftover && !self.set_aside(place, name, false)? {
                return Ok(());
            }
            self.shared.system.remove_file(folder, name).during(Operation::Remove)
        })
    }

    /// A run that is undone may have been killed, and have left something in a folder it made.
    fn clear_interrupted(&self, place: &Place<'_>, name: &[u8]) -> Done {
        if self.part.memory.is_none() {
            return Ok(());
        }
        let system = self.shared.system;
        let folder = system.open_folder(place.destination.as_fd(), name);
        let cleared = folder.and_then(|folder| clear_leftovers(system, folder.as_fd()));
        cleared.during(Operation::Remove)
    }

    /// Fails if the source has by now what the plan saw it lack.
    fn check_still_extra(&self, place: &Place<'_>, name: &[u8], kind: Kind) -> Done {
        let Some(source) = &place.source else { return Ok(()) };
        match self.shared.system.stat(Entry::Named(source.as_fd(), name)) {
            Ok(now) if self.reach.has_appeared(now.kind, kind) => {
                Err(Trouble(Operation::LookAtSource, Cause::Overtaken("the source")))
            }
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                Err(e).during(Operation::LookAtSource)
            }
            _ => Ok(()),
        }
    }

    fn is_gone(&self, place: &Place<'_>, name: &[u8]) -> bool {
        let now = self.shared.system.stat(Entry::Named(place.destination.as_fd(), name));
        now.is_err_and(|error| error.kind() == std::io::ErrorKind::NotFound)
    }

    /// Fails unless the destination's entry still is what the plan saw; tells how it is now.
    pub(super) fn check_destination(
        &self,
        place: &Place<'_>,
        name: &[u8],
        step: &Step,
    ) -> Result<Option<Stat>, Trouble> {
        let Some(seen) = step.destination else {
            return Ok(None);
        };
        let now = self.shared.system.stat(Entry::Named(place.destination.as_fd(), name));
        let now = now.during(Operation::LookAtDestination);
        match now {
            Ok(now) if seen.still(&now) => Ok(Some(now)),
            Err(Trouble(operation, Cause::System(e)))
                if e.kind() != std::io::ErrorKind::NotFound =>
            {
                Err(Trouble(operation, Cause::System(e)))
            }
            _ => Err(Trouble(Operation::LookAtDestination, Cause::Overtaken("the destination"))),
        }
    }
}
