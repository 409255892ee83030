//! What is worth knowing and is neither a step nor a problem.

use std::time::Duration;

use utter_echo_os::Flags;

use crate::attribute::{Attribute, Attributes};
use crate::path::TreePath;

/// Something worth knowing that is neither a step nor a problem.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Note {
    /// A folder in the source where another drive is mounted.
    Mount(TreePath),
    /// The same, left out as was asked for.
    MountLeftOut(TreePath),
    /// The folder of the source in which whoever asked keeps what changes meanwhile was left out.
    OwnLeftOut(TreePath),
    /// A folder of the source with the marker of a run that wrote there and did not come to its end.
    UnfinishedSource(TreePath),
    /// A folder in the destination where another drive is mounted, and that the run goes onto.
    DriveWrittenTo(TreePath),
    /// A folder in the destination where another drive is mounted, and that the source has nothing in
    /// the place of: it is left alone.
    DriveLeftAlone(TreePath),
    /// What a file system keeps for itself, on either side: it is part of the drive, and left alone.
    OfTheDrive(TreePath),
    /// Bits and attributes of so many entries that lend rights are left out, since the owner that they
    /// were given for is not carried.
    PrivilegesLeftOut(u64),
    /// What the source holds turned up beside the destination instead of in it.
    Nested(Nested),
    /// Missing folders above the destination are made.
    MissingFolders(String),
    /// The caller may not give files away, and the source holds some of another owner.
    OwnerNotCarried,
    /// Files of the destination that differ from the source's, or that only it has, were changed
    /// in the future: so many, the newest so far ahead of this machine's clock.
    Ahead(u64, Duration),
    /// What the destination's drive cannot hold.
    NotHeld(NotHeld),
    /// So many files were to be compared as their drives hold them, and could be read only as they are in memory.
    ReadFromMemory(u64),
    /// Of so many files that are moved other names stay, or go with another source: what arrives is a second file, and
    /// names that stay keep the first.
    SecondFiles(u64),
    /// The source, as the user named it, stays though all that is in it goes.
    RootStays(String, WhyRootStays),
    /// A source, as the user named it, that is gone because an interrupted move took it.
    TakenBefore(String),
    /// This source is empty. A drive that is not mounted looks like that.
    EmptySource(String),
    /// Why the run cannot be undone: there is no place for its notes.
    NotUndoable(String),
    /// So many entries that are replaced are kept nowhere, so an undo of the move cannot bring them back.
    GoneForGood(u64),
    /// The undo journal of the run is of an older version, which did not record what its folders are.
    OldJournal,
    /// A folder at or above this place, as the user named it, is locked by a process that may change nothing in it,
    /// so that this stops nobody.
    LockPassedOver {
        /// As the user named it.
        path: String,
        /// Its number.
        process: u32,
    },
    /// A pattern, as it was given, decided about no entry.
    IdlePattern(String),
}

/// Why the root of a source stays.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhyRootStays {
    /// A drive is mounted on it.
    Mounted,
    /// The run was started in it.
    WorkedIn,
    /// Nothing can be taken from the folder that it is in, or not by this user.
    Held,
}

/// Where the source's names turned up instead of in the destination.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Nested {
    /// As the user named it.
    pub source_path: String,
    /// As the user named it.
    pub destination_path: String,
    /// The folder that looks like the source.
    pub folder: String,
}

/// What was asked for and the destination's drive, or this caller on it, cannot hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NotHeld {
    /// Attributes it holds for no entry.
    pub attributes: Attributes,
    /// Unit of its times, in nanoseconds.
    pub grain: u64,
    /// Symbolic links that are left out.
    pub links: u64,
    /// FIFOs and sockets that are left out.
    pub fifos: u64,
    /// Devices that are left out.
    pub devices: u64,
    /// Entries with times outside of what it keeps.
    pub times: u64,
    /// Flags that some entry has and that cannot be set.
    pub flags: Flags,
}

impl Note {
    /// The same with its path seen from further up.
    #[must_use]
    pub fn below(self, prefix: &TreePath) -> Self {
        let moved = |path: TreePath| prefix.join(path.as_bytes());
        match self {
            Self::Mount(path) => Self::Mount(moved(path)),
            Self::MountLeftOut(path) => Self::MountLeftOut(moved(path)),
            Self::OwnLeftOut(path) => Self::OwnLeftOut(moved(path)),
            Self::UnfinishedSource(path) => Self::UnfinishedSource(moved(path)),
            Self::DriveWrittenTo(path) => Self::DriveWrittenTo(moved(path)),
            Self::DriveLeftAlone(path) => Self::DriveLeftAlone(moved(path)),
            Self::OfTheDrive(path) => Self::OfTheDrive(moved(path)),
            other => other,
        }
    }

    /// In words, what was to be carried and is not; `None` for a note on something else.
    pub fn not_carried(&self) -> Option<String> {
        match self {
            Self::OwnerNotCarried => Some("owner".to_owned()),
            Self::NotHeld(not_held) => not_held.not_carried(),
            _ => None,
        }
    }
}

impl NotHeld {
    fn not_carried(&self) -> Option<String> {
        let mut missed: Vec<&str> = self.attributes.iter().map(Attribute::name).collect();
        if self.grain > 1 || self.times > 0 {
            missed.push("times as they are");
        }
        if !self.flags.is_empty() {
            missed.push("some flags");
        }
        (!missed.is_empty()).then(|| missed.join(", "))
    }

    /// Takes in what another drive cannot hold.
    pub fn merge(&mut self, other: &Self) {
        self.attributes = self.attributes.iter().chain(other.attributes.iter()).collect();
        self.grain = self.grain.max(other.grain);
        self.links += other.links;
        self.fifos += other.fifos;
        self.devices += other.devices;
        self.times += other.times;
        self.flags = self.flags.or(other.flags);
    }

    /// True if all can be held. Times to less than a tenth of a microsecond are not missed.
    pub fn is_empty(&self) -> bool {
        self.attributes.is_empty()
            && self.grain <= 100
            && self.links + self.fifos + self.devices + self.times == 0
            && self.flags.is_empty()
    }
}
