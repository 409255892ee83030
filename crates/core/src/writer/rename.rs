//! Renaming an entry of the destination to another name on its drive.

use std::io::ErrorKind;
use std::os::fd::AsFd;

use crate::os::{Entry, Stat};
use crate::problem::{Cause, Operation};
use crate::state::State;

use super::flags::After;
use super::{During, Place, Trouble, Writer};

impl Writer<'_> {
    /// Moves what is still what the plan saw to a name that is free; tells what it is.
    pub(crate) fn rename(
        &self,
        above: &Place,
        old: &[u8],
        place: &Place,
        name: &[u8],
        seen: &State,
    ) -> Result<Stat, Trouble> {
        let from = (above.destination.as_fd(), old);
        let now = match self.means.system.stat(Entry::Named(from.0, from.1)) {
            Ok(now) if seen.still(&now) => now,
            Err(e) if e.kind() != ErrorKind::NotFound => {
                return Err(Trouble(Operation::LookAtDestination, Cause::System(e)));
            }
            _ => return Err(Trouble::overtaken_there(Operation::LookAtDestination)),
        };
        let to = (place.destination.as_fd(), name);
        self.unlocked(from.0, from.1, (now.kind, now.flags), After::Kept, || {
            match self.rename_free(from, to) {
                Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                    Err(Trouble::overtaken_there(Operation::Write))
                }
                other => other.during(Operation::Write),
            }
        })?;
        Ok(now)
    }
}
