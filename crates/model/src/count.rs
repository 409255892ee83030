//! Counts of entries and bytes. Sums of bytes stop at the largest number: sparse files may be longer together than
//! any drive.

use serde::{Deserialize, Serialize};
use utter_echo_os::Kind;

/// Entries and bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Count {
    /// Entries of any kind.
    pub entries: u64,
    /// Bytes of content.
    pub bytes: u64,
}

impl Count {
    /// Adds an entry with this many bytes.
    pub fn add(&mut self, bytes: u64) {
        self.entries += 1;
        self.bytes = self.bytes.saturating_add(bytes);
    }

    /// Adds another count.
    pub fn merge(&mut self, other: Self) {
        self.entries += other.entries;
        self.bytes = self.bytes.saturating_add(other.bytes);
    }
}

/// The sum of bytes.
pub fn total(bytes: impl Iterator<Item = u64>) -> u64 {
    bytes.fold(0, u64::saturating_add)
}

/// The entries of one side, its root included.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Folders.
    pub folders: u64,
    /// Regular files by name, so that hard links count separately.
    pub files: u64,
    /// Symbolic links.
    pub links: u64,
    /// FIFOs, sockets and devices.
    pub others: u64,
    /// Sum of the files' sizes.
    pub bytes: u64,
}

impl Tally {
    /// Adds an entry of this kind and size in bytes.
    pub fn count(&mut self, kind: Kind, size: u64) {
        match kind {
            Kind::Folder => self.folders += 1,
            Kind::File => {
                self.files += 1;
                self.bytes = self.bytes.saturating_add(size);
            }
            Kind::Symlink => self.links += 1,
            _ => self.others += 1,
        }
    }

    /// All entries.
    pub fn entries(&self) -> u64 {
        self.folders + self.files + self.links + self.others
    }

    /// Adds another count.
    pub fn merge(&mut self, other: &Self) {
        self.folders += other.folders;
        self.files += other.files;
        self.links += other.links;
        self.others += other.others;
        self.bytes = self.bytes.saturating_add(other.bytes);
    }
}
