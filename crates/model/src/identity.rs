//! How an entry and its drive are known again.

use serde::{Deserialize, Serialize};
use utter_echo_os::Stat;

/// Whether the inode numbers of a drive can be used to know an entry again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InodeNumbers {
    /// They stay the same as long as the entry is there.
    Stable,
    /// They may be others at the next look: whether it is the same shows in what it is.
    Volatile,
}

impl InodeNumbers {
    /// The number to know an entry again by; 0 where it does not last.
    pub fn of(self, stat: &Stat) -> u64 {
        if self == Self::Stable { stat.identity.inode } else { 0 }
    }
}

/// Which of a `DriveMap`; the root's own is the first.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
pub struct DriveId(pub u16);
