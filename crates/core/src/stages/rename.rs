//! Renaming what only moved.

use std::io::ErrorKind;
use std::os::fd::{AsFd, BorrowedFd};

use crate::os::{Entry, Kind};
use crate::plan::{State, Step, Verb};
use crate::problem::{Cause, Operation};

use super::{Done, During, PartRun, Place, Trouble};

impl PartRun<'_> {
    /// Moves an entry of the destination to the name and folder that the source has it in.
    pub(super) fn rename(&self, root: BorrowedFd<'_>, place: &Place<'_>, step: &Step) -> Done {
        let name = place.folder.names.get(step.name);
        let (Some(leader), Some(seen)) = (step.leader, step.destination) else { return Ok(()) };
        let leader = &self.part.leaders[leader.0 as usize];
        if let Some(planned) = step.source.filter(|_| self.part.memory.is_none()) {
            let from = Entry::Named(place.source()?, name);
            self.source_now(from, &planned)?;
        }
        let above = self.enter_to_change(root, leader.folder as usize)?;
        let from = (above.destination.as_fd(), &*leader.name);
        let now = self.shared.system.stat(Entry::Named(from.0, from.1));
        let now = match now {
            Ok(now) if seen.still(&now) => now,
            Err(e) if e.kind() != ErrorKind::NotFound => {
                return Err(e).during(Operation::LookAtDestination);
            }
            _ => {
                let drift = Cause::Overtaken("the destination");
                return Err(Trouble(Operation::LookAtDestination, drift));
            }
        };
        if !step.aspects.is_empty() {
            self.note_before(&above.path.join(&leader.name), Entry::Named(from.0, from.1))?;
        }
        let to = (place.destination.as_fd(), name);
        self.unlocked(from.0, from.1, (now.kind, now.flags), true, || {
            match self.rename_free(from, to) {
                Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                    Err(Trouble(Operation::Write, Cause::Overtaken("the destination")))
                }
                other => other.during(Operation::Write),
            }
        })?;
        self.adjust_renamed(place, step, &State::from(&now))
    }

    /// Gives an entry in its new place the attributes in which it differs.
    fn adjust_renamed(&self, place: &Place<'_>, step: &Step, now: &State) -> Done {
        if step.aspects.is_empty() {
            return Ok(());
        }
        let name = place.folder.names.get(step.name);
        let adjust = Step { verb: Verb::Adjust, destination: Some(*now), ..*step };
        if now.kind == Kind::Folder {
            return self.finish_folder(place, name, &adjust);
        }
        self.adjust(place, name, &adjust)
    }
}
