//! What a root folder is recognised by.

use std::os::fd::{AsFd as _, BorrowedFd};

use serde::{Deserialize, Serialize};
use utter_echo_drives::{kinds, mounted};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_os::{Entry, System, Time};

use crate::sides::{Pair, RootPath};

/// A folder and its drive. What is not known of it is `None`.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct RootIdentity {
    /// The UUID of its drive.
    pub(crate) drive: Option<String>,
    /// Its inode number, if inode numbers last on its drive.
    pub(crate) inode: Option<u64>,
    /// When it was made, likewise.
    pub(crate) born: Option<Time>,
}

impl RootIdentity {
    /// Of an open folder.
    pub(crate) fn of(system: &dyn System, folder: BorrowedFd<'_>) -> Self {
        let real = system.real_path(folder).unwrap_or_default();
        let lasts = kinds::numbers(system, folder) == InodeNumbers::Stable;
        let stat = system.stat(Entry::Pinned(folder)).ok().filter(|_| lasts);
        Self {
            drive: mounted::uuid_of(system, &real),
            inode: stat.map(|stat| stat.identity.inode),
            born: system.born(folder).ok().flatten().filter(|_| lasts),
        }
    }

    /// True for the folder at `place`, or, if nothing is there, for the drive on which it would be.
    pub(crate) fn is_at(&self, system: &dyn System, place: &RootPath) -> bool {
        let now = Self::of(system, place.anchor.as_fd());
        let is_folder = fits(self.inode.as_ref(), now.inode.as_ref())
            && fits(self.born.as_ref(), now.born.as_ref());
        fits(self.drive.as_ref(), now.drive.as_ref()) && (is_folder || !place.exists())
    }
}

/// True for what is as it was known. What cannot be told now is not.
fn fits<T: PartialEq>(known: Option<&T>, now: Option<&T>) -> bool {
    known.is_none() || known == now
}

/// The time of the folder in which a root is created. The run changes it, although it belongs to neither side.
pub(crate) fn time_above(pair: &Pair) -> Option<Time> {
    let goes_inside = !pair.prefix.as_bytes().is_empty() && pair.destination.missing.len() == 1;
    goes_inside.then_some(pair.destination.anchor_stat.modified)
}
