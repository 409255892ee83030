//! Taking entries over from the source, where both sides are on one drive.

use std::os::fd::{AsFd, BorrowedFd};

use crate::os::Entry;
use crate::problem::{Cause, Operation};
use crate::sides::{self, Pair};
use crate::state::State;

use super::aside::is_elsewhere;
use super::{Done, During, Place, Trouble, Writer};

impl Writer<'_> {
    /// To a name that the plan saw free.
    pub(crate) fn take_over(&self, place: &Place, name: &[u8], planned: &State) -> Done {
        let from = (place.source()?, self.source_name(place, name));
        self.source_now(Entry::Named(from.0, from.1), planned)?;
        told_apart(self.rename_to_new(place, from, name))
    }

    /// The same for the root of the source.
    pub(crate) fn take_root_over(&self, pair: &Pair, to: (BorrowedFd<'_>, &[u8])) -> Done {
        let root = sides::parent_of_root(self.system(), &pair.source);
        let (above, name) = root.during(Operation::LookAtSource)?;
        let from = (above.as_fd(), &*name);
        self.source_now(Entry::Named(from.0, from.1), &State::from(&pair.source_stat))?;
        told_apart(self.rename_free(from, to).during(Operation::Write))
    }
}

/// Where the system does not rename it there, the user can have it copied.
fn told_apart(renamed: Done) -> Done {
    match renamed {
        Err(Trouble(_, Cause::System(e))) if is_elsewhere(&e) => {
            Err(Trouble(Operation::Vacate, Cause::NotRenamed))
        }
        other => other,
    }
}
