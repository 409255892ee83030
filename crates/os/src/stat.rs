//! What an entry is, as the system describes it.

use serde::{Deserialize, Serialize};

/// Name of the extended attribute in which the system shows an entry's access list; see `acl(5)`.
pub const ACCESS_LIST: &[u8] = b"system.posix_acl_access";

/// Name of that which a folder gives to what is made in it.
pub const DEFAULT_LIST: &[u8] = b"system.posix_acl_default";

/// What an entry is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Symlink,
    /// A named pipe.
    Fifo,
    /// A socket bound to a name.
    Socket,
    /// A character device.
    CharDevice,
    /// A block device.
    BlockDevice,
}

impl Kind {
    /// True for a character or block device, whose number stands where others have a size.
    pub fn is_device(self) -> bool {
        matches!(self, Self::CharDevice | Self::BlockDevice)
    }
}

/// A point in time, counted from 1970-01-01T00:00:00Z; `nanos` always counts forward from `secs`.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize,
)]
pub struct Time {
    /// Whole seconds; negative before 1970.
    pub secs: i64,
    /// Nanoseconds within the second, 0 to 999 999 999.
    pub nanos: u32,
}

impl Time {
    /// What this machine's clock shows.
    pub fn now() -> Self {
        let since = std::time::UNIX_EPOCH.elapsed().unwrap_or_default();
        Self { secs: since.as_secs().cast_signed(), nanos: since.subsec_nanos() }
    }
}

/// Which file system object a name leads to: two names are the same object when both agree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Identity {
    /// Device number of the file system.
    pub drive: u64,
    /// Inode number within it.
    pub inode: u64,
}

/// Inode flags, by the bits that the kernel gives them in `FS_IOC_GETFLAGS`; see
/// `FS_IOC_SETFLAGS(2const)`.
#[derive(Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Flags(pub u32);

impl Flags {
    /// Whatever is written goes to the drive at once.
    pub const SYNC: Self = Self(0x08);
    /// Nobody changes, renames, links or removes the entry.
    pub const IMMUTABLE: Self = Self(0x10);
    /// The entry only grows, and nobody renames, links or removes it.
    pub const APPEND: Self = Self(0x20);
    /// Left out by programs that write dumps.
    pub const NODUMP: Self = Self(0x40);
    /// Reading leaves the access time as it is.
    pub const NOATIME: Self = Self(0x80);
    /// Written in place, on a drive that otherwise writes every change elsewhere.
    pub const NO_COPY_ON_WRITE: Self = Self(0x80_0000);
    /// Whatever comes into this folder counts for the account of the drive's room that the folder does.
    pub const ONE_ACCOUNT: Self = Self(0x2000_0000);
    /// Names in this folder differ by more than the case of their letters.
    pub const FOLDS_CASE: Self = Self(0x4000_0000);
    /// Those that keep an entry from being changed.
    pub const LOCKS: Self = Self(0x30);
    /// Those that a run carries: they mean the same on every drive that has them, and can be set
    /// and lifted on an entry that holds something. All of them fit into a byte.
    pub const CARRIED: Self = Self(0xf8);

    /// The flags that both sets hold.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// The flags of this set that the other lacks.
    #[must_use]
    pub fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// The flags of either set.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// True if there is none.
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// The carried ones, by the words for them.
    pub fn names(self) -> impl Iterator<Item = &'static str> {
        let words = [
            (Self::SYNC, "sync"),
            (Self::IMMUTABLE, "immutable"),
            (Self::APPEND, "append-only"),
            (Self::NODUMP, "no-dump"),
            (Self::NOATIME, "no-atime"),
        ];
        words.into_iter().filter(move |(flag, _)| !self.and(*flag).is_empty()).map(|(_, word)| word)
    }
}

impl std::fmt::Debug for Flags {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Flags({:#x})", self.0)
    }
}

/// What `statx` shows of an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stat {
    /// What it is.
    pub kind: Kind,
    /// Permission and special bits (07777).
    pub mode: u32,
    /// Owner number.
    pub uid: u32,
    /// Group number.
    pub gid: u32,
    /// Length in bytes; the device number for devices.
    pub size: u64,
    /// Bytes allocated on the drive.
    pub allocated: u64,
    /// Last change of the content.
    pub modified: Time,
    /// Last reading of the content.
    pub accessed: Time,
    /// Last change of content or attributes; set by the kernel, never by a program.
    pub changed: Time,
    /// Drive and inode.
    pub identity: Identity,
    /// Number of names (hard links) the object has.
    pub links: u32,
    /// The carried flags that `statx` shows: immutable, append-only, no-dump. Of the others only
    /// `System::flags` knows.
    pub flags: Flags,
    /// Which of those its file system shows at all.
    pub flags_told: Flags,
    /// A file system, or a part of one, is mounted here.
    pub mounted: bool,
}

/// Extended attributes as pairs of name and value.
pub type Xattrs = Vec<(Vec<u8>, Vec<u8>)>;
