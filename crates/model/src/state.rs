//! The state of an entry, as comparisons, steps and journals remember it.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use utter_echo_os::{Flags, Kind, Stat, Time, Xattrs};

use crate::identity::{DriveId, InodeNumbers};

/// The state of an entry: enough to explain a step and to recognise the entry later.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct State {
    /// Length in bytes; the device number for devices.
    pub size: u64,
    /// Bytes allocated on the drive.
    pub allocated: u64,
    /// Inode number; 0 where the drive's numbers do not last.
    pub inode: u64,
    /// Modification time, in two parts to keep steps small.
    secs: i64,
    nanos: u32,
    /// Owner number.
    pub uid: u32,
    /// Group number.
    pub gid: u32,
    /// The lowest twelve bits, and [`WRITTEN_HERE`].
    mode: u16,
    flags: u8,
    /// What it is.
    pub kind: Kind,
}

/// The mark `WRITTEN_HERE` does not count.
impl PartialEq for State {
    fn eq(&self, other: &Self) -> bool {
        let of = |state: &Self| {
            let Self { size, allocated, inode, secs, nanos, uid, gid, flags, kind, .. } = *state;
            (size, allocated, inode, (secs, nanos), (uid, gid), state.mode(), flags, kind)
        };
        of(self) == of(other)
    }
}

impl Eq for State {}

impl State {
    /// The carried flags that `statx` shows.
    pub fn flags(&self) -> Flags {
        Flags(self.flags.into())
    }

    /// It was written in place. A copy, in contrast, is changed once more when it gets the time of its source.
    pub fn written_here(&self) -> bool {
        self.mode & WRITTEN_HERE != 0
    }

    /// The same state without the mark that it was written in place.
    #[must_use]
    pub fn of_unknown_origin(self) -> Self {
        Self { mode: self.mode & MODE, ..self }
    }

    /// The state of an entry on a drive with such inode numbers.
    pub fn seen(stat: &Stat, numbers: InodeNumbers) -> Self {
        Self { inode: numbers.of(stat), ..Self::from(stat) }
    }

    /// Modification time.
    pub fn modified(&self) -> Time {
        Time { secs: self.secs, nanos: self.nanos }
    }

    /// Permission and special bits.
    pub fn mode(&self) -> u32 {
        u32::from(self.mode & MODE)
    }

    /// Numbers that differ between states of an entry: size, inode and time.
    pub fn fingerprint(&self) -> [u64; 4] {
        [self.size, self.inode, self.secs.cast_unsigned(), self.nanos.into()]
    }

    /// Bytes of content: the size of a file, 0 for other kinds.
    pub fn bytes(&self) -> u64 {
        if self.kind == Kind::File { self.size } else { 0 }
    }

    /// True if `stat` shows the same inode with the same kind, size and time. The size and times of a folder change
    /// with its entries and do not count.
    pub fn still(&self, stat: &Stat) -> bool {
        let same = self.kind == stat.kind && is_number(self.inode, stat);
        same && (self.kind == Kind::Folder
            || (self.size == stat.size && self.modified() == stat.modified))
    }

    /// The same, with the same owner and mode.
    pub fn is_alike(&self, stat: &Stat) -> bool {
        self.still(stat) && self.looks_like(stat)
    }

    /// True if `stat` shows the same kind, size, time, mode and owner, maybe of another inode.
    pub fn looks_like(&self, stat: &Stat) -> bool {
        let of = |state: &Self| {
            (state.kind, state.size, state.modified(), state.mode(), state.uid, state.gid)
        };
        of(self) == of(&Self::from(stat))
    }
}

impl From<&Stat> for State {
    fn from(stat: &Stat) -> Self {
        Self {
            size: stat.size,
            allocated: stat.allocated,
            inode: stat.identity.inode,
            secs: stat.modified.secs,
            nanos: stat.modified.nanos,
            uid: stat.uid,
            gid: stat.gid,
            // Only the twelve lowest bits are ever set.
            mode: (stat.mode & 0o7777) as u16
                | if was_written_here(stat) { WRITTEN_HERE } else { 0 },
            // All carried flags fit into a byte.
            flags: u8::try_from(stat.flags.and(Flags::CARRIED).0).unwrap_or(0),
            kind: stat.kind,
        }
    }
}

/// True if this is the inode number of an entry, or none is known.
pub fn is_number(known: u64, stat: &Stat) -> bool {
    known == 0 || known == stat.identity.inode
}

const MODE: u16 = 0o7777;

/// A bit next to the mode, so that a state stays small.
const WRITTEN_HERE: u16 = 1 << 15;

/// True if the last change of an entry was that of its content.
fn was_written_here(stat: &Stat) -> bool {
    let (modified, changed) = (stat.modified, stat.changed);
    changed.secs.saturating_sub(modified.secs).unsigned_abs() <= CLOSE
}

/// In seconds: saving takes a moment, and a program may set the mode after that.
const CLOSE: u64 = 2;

/// The identity of a planned folder, checked before anything happens in it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FolderIdentity {
    /// The inode number in the source; `None` if it has no such folder.
    pub source: Option<u64>,
    /// The same of the destination.
    pub destination: Option<u64>,
    /// The destination's drive that it lies on, or will lie on.
    pub drive: DriveId,
}

/// An entry before a run changed its attributes, in full.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct AttributesBefore {
    /// Kind, size, times, owner and mode.
    pub state: State,
    /// Access time.
    pub accessed: Time,
    /// `None` where they could not be read.
    pub flags: Option<Flags>,
    /// Extended attributes, access lists among them.
    #[serde(with = "xattrs")]
    pub xattrs: Xattrs,
}

/// An entry as a step left it.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct StateAfter {
    /// Kind, size, times, owner and mode.
    pub state: State,
    /// When anything of it was changed for the last time.
    changed: Time,
    /// It has one name, so nobody touches it by another.
    alone: bool,
}

impl StateAfter {
    /// What is seen on a drive, whose numbers may last or not.
    pub fn seen(stat: &Stat, numbers: InodeNumbers) -> Self {
        let alone = stat.links == 1 && stat.kind != Kind::Folder && numbers == InodeNumbers::Stable;
        Self { state: State::seen(stat, numbers), changed: stat.changed, alone }
    }

    /// True for what is known to have had one name.
    pub fn is_alone(&self) -> bool {
        self.alone
    }

    /// True for the same inode, if nothing of it was changed in between.
    pub fn is_just(&self, now: &Self) -> bool {
        self.state == now.state && self.changed == now.changed
    }

    /// True if somebody changed the attributes of the entry since. If an undo was begun before, the last change may
    /// be `ours`: an undo clears the flags that lock an entry, and sets them again if it cannot go on.
    pub fn has_other_attributes(&self, stat: &Stat, ours: bool) -> bool {
        let now = State::from(stat);
        let of = |state: &State| (state.kind, state.uid, state.gid, state.mode());
        if of(&self.state) != of(&now) {
            return true;
        }
        // Changes of access lists show only in the change time, which means nothing for a folder, or for a file
        // that was changed by another of its names.
        !ours && self.alone && stat.links == 1 && self.changed != stat.changed
    }
}

/// What entries were like before a run changed them, by their paths.
pub type StatesBefore = HashMap<Vec<u8>, AttributesBefore>;

/// Extended attributes as pairs of name and value, as text if they are UTF-8.
mod xattrs {
    use serde::{Deserialize as _, Deserializer, Serialize as _, Serializer};

    use crate::bytes::Bytes;
    use utter_echo_os::Xattrs;

    pub(super) fn serialize<S: Serializer>(xattrs: &Xattrs, to: S) -> Result<S::Ok, S::Error> {
        let pairs =
            xattrs.iter().map(|(name, value)| (Bytes::from(&**name), Bytes::from(&**value)));
        pairs.collect::<Vec<_>>().serialize(to)
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(from: D) -> Result<Xattrs, D::Error> {
        let pairs = Vec::<(Bytes, Bytes)>::deserialize(from)?;
        Ok(pairs.into_iter().map(|(name, value)| (name.into_vec(), value.into_vec())).collect())
    }
}
