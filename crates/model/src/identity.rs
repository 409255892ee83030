//! How an entry and its drive are recognised.

use serde::{Deserialize, Serialize};
use utter_echo_os::Stat;

/// Whether the inode numbers of a drive identify its entries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InodeNumbers {
    /// They stay the same as long as the entry is there.
    Stable,
    /// An entry may have another number at the next look, so it is recognised by its attributes.
    Volatile,
}

impl InodeNumbers {
    /// The number that identifies an entry; 0 if numbers do not last.
    pub fn of(self, stat: &Stat) -> u64 {
        if self == Self::Stable { stat.identity.inode } else { 0 }
    }
}

/// Which of a `DriveMap`; the root's own is the first.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
pub struct DriveId(pub u16);
