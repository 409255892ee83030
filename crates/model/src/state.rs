//! An entry as it was seen: what facts, steps and notes remember of it.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use utter_echo_os::{Flags, Kind, Stat, Time, Xattrs};

use crate::identity::{DriveId, InodeNumbers};

/// What is remembered of an entry: enough to explain a step and to recognise it again.
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

/// How it came to be what it is makes no difference.
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

    /// It was changed where it is: an entry that was carried there is changed once more when it gets
    /// the time of the one it echoes.
    pub fn written_here(&self) -> bool {
        self.mode & WRITTEN_HERE != 0
    }

    /// The same where nothing shows how it came to be.
    #[must_use]
    pub fn of_unknown_origin(self) -> Self {
        Self { mode: self.mode & MODE, ..self }
    }

    /// The same as seen on a drive, whose numbers may last or not.
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

    /// What distinguishes one state of an entry from another: size, object and time.
    pub fn fingerprint(&self) -> [u64; 4] {
        [self.size, self.inode, self.secs.cast_unsigned(), self.nanos.into()]
    }

    /// Bytes of content: a file's size, nothing for all other kinds.
    pub fn bytes(&self) -> u64 {
        if self.kind == Kind::File { self.size } else { 0 }
    }

    /// True if `stat` shows the same object with the same content as far as its stamp tells. A
    /// folder's own size and times change with what it holds, so they do not count.
    pub fn still(&self, stat: &Stat) -> bool {
        let same = self.kind == stat.kind && is_number(self.inode, stat);
        same && (self.kind == Kind::Folder
            || (self.size == stat.size && self.modified() == stat.modified))
    }

    /// The same, with the same owner and mode.
    pub fn is_alike(&self, stat: &Stat) -> bool {
        self.still(stat) && self.looks_like(stat)
    }

    /// True if `stat` shows what may be another object, and nothing that differs in what comes along with one.
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

/// True if a number that was remembered is that of an entry, as far as its drive's numbers last.
pub fn is_number(known: u64, stat: &Stat) -> bool {
    known == 0 || known == stat.identity.inode
}

const MODE: u16 = 0o7777;

/// A bit beside the mode: steps have no byte to spare.
const WRITTEN_HERE: u16 = 1 << 15;

/// What an entry's times tell of how it came to be: the change of its content is its last change.
fn was_written_here(stat: &Stat) -> bool {
    let (modified, changed) = (stat.modified, stat.changed);
    changed.secs.saturating_sub(modified.secs).unsigned_abs() <= CLOSE
}

/// In seconds: saving a file may take a moment, and a program may set its mode after that.
const CLOSE: u64 = 2;

/// What a folder of the plan was, to know it again before anything happens in it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FolderIdentity {
    /// Inode numbers on either side; `None` where there was none.
    pub source: Option<u64>,
    /// The same of the destination.
    pub destination: Option<u64>,
    /// The drive of the destination that it lies on, or will.
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

    /// True for the very entry of which nothing at all was changed in between.
    pub fn is_just(&self, now: &Self) -> bool {
        self.state == now.state && self.changed == now.changed
    }

    /// True if somebody gave the entry other attributes since. Where an undo was begun before, the last change
    /// may be `ours`: it lifts what locks an entry, and locks it again if it cannot go on.
    pub fn has_other_attributes(&self, stat: &Stat, ours: bool) -> bool {
        let now = State::from(stat);
        let of = |state: &State| (state.kind, state.uid, state.gid, state.mode());
        if of(&self.state) != of(&now) {
            return true;
        }
        // Access lists and the like show in nothing but the time of the last change, which does not tell
        // anything of a folder, or of a file that has changed by another of its names.
        !ours && self.alone && stat.links == 1 && self.changed != stat.changed
    }
}

/// What entries were like before a run changed them, by their paths.
pub type StatesBefore = HashMap<Vec<u8>, AttributesBefore>;

/// Extended attributes as pairs of name and value, each text where it is such.
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
