//! The only code that calls the system.
//!
//! Every layer accesses files through the [`System`] trait alone, so that a test can put another implementation in
//! between: one that counts calls, fails one of them, or stops the run there. `Linux` is the real one.

use std::io;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use crate::caller::Caller;
use crate::lease::Lease;
use crate::lock::{Lock, LockHolder, LockMode};
use crate::mount::{Mount, Space};
use crate::stat::{Flags, Kind, Stat, Time};

/// How a call names an entry. No form follows a symbolic link.
#[derive(Clone, Copy, Debug)]
pub enum Entry<'a> {
    /// A file or folder opened for reading or writing.
    Open(BorrowedFd<'a>),
    /// Any entry that [`System::pin`] returned.
    Pinned(BorrowedFd<'a>),
    /// A name in an open folder.
    Named(BorrowedFd<'a>, &'a [u8]),
}

/// What a rename does when the new name exists already.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum IfExists {
    /// Take its place.
    Replace,
    /// Fail with `EEXIST`.
    Nothing,
    /// Swap the two.
    Exchange,
}

/// A file of this size, in bytes, or more counts as large: it is read ahead, its space is reserved, and on request
/// it is dropped from the cache.
pub const LARGE: u64 = 8 * 1024 * 1024;

/// Advice about a part of a file's content in the system's cache.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Advice {
    /// It will be read from beginning to end.
    ReadAhead,
    /// It will not be needed again.
    Drop,
}

/// The callback of [`System::list`].
pub type EachName<'a> = dyn FnMut(Name<'_>) -> io::Result<()> + 'a;

/// A name in a folder, with what its listing shows of the entry.
#[derive(Clone, Copy, Debug)]
pub struct Name<'a> {
    /// Its bytes.
    pub bytes: &'a [u8],
    /// Its kind, where the file system shows it.
    pub kind: Option<Kind>,
    /// Its inode number, which means nothing on drives in user space and network shares.
    pub inode: u64,
}

/// The system calls the core makes.
///
/// # Contract
///
/// - `folder` and `root` are handles of folders. `name` is a single component, `path` any number
///   of components relative to `root`, of any length; both are raw bytes without NUL.
/// - No call follows a symbolic link, in any component, except [`System::open_root`]. No call
///   leaves `root` upwards.
/// - A call does what its name says once or fails with the system's own error, unchanged. Only
///   `EINTR` is retried. A call that failed has changed nothing, except that
///   [`System::write_at`] and [`System::copy_range`] may have written part.
/// - Nothing is cached between calls, and no call prints.
/// - An implementation that wraps another may fail any call instead of passing it on.
pub trait System: Sync {
    /// Opens a folder by a path as a user typed it, following links. The handle serves as a
    /// starting point only; it cannot be listed.
    fn open_root(&self, path: &Path) -> io::Result<OwnedFd>;
    /// Opens the folder at `path` below `root` for listing; the empty path is `root` itself.
    fn open_folder(&self, root: BorrowedFd<'_>, path: &[u8]) -> io::Result<OwnedFd>;
    /// Opens a file for reading without waiting and, where allowed, without changing its access time.
    fn open_file(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<OwnedFd>;
    /// A handle of an entry of any kind, which is not opened by it.
    fn pin(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<OwnedFd>;
    /// Calls `each` for every name in the folder but `.` and `..`, in the system's order. Stops when
    /// `each` fails.
    fn list(&self, folder: BorrowedFd<'_>, each: &mut EachName<'_>) -> io::Result<()>;
    /// Fails if the caller cannot add or remove names in a folder.
    fn may_change(&self, folder: BorrowedFd<'_>) -> io::Result<()>;
    /// Describes an entry.
    fn stat(&self, entry: Entry<'_>) -> io::Result<Stat>;
    /// The text of a symbolic link.
    fn read_link(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<Vec<u8>>;
    /// Reads up to `buffer.len()` bytes at `offset`; fewer only at the end of the file, whatever size it reports.
    fn read_at(&self, file: BorrowedFd<'_>, buffer: &mut [u8], offset: u64) -> io::Result<usize>;
    /// The next range of data at or after `offset`, as start and end; `None` if only a hole or nothing is left.
    fn next_data(&self, file: BorrowedFd<'_>, offset: u64) -> io::Result<Option<(u64, u64)>>;

    /// Creates a file that must not exist yet and opens it for reading and writing.
    fn create_file(&self, folder: BorrowedFd<'_>, name: &[u8], mode: u32) -> io::Result<OwnedFd>;
    /// Opens an existing file for reading and writing, without waiting.
    fn open_to_write(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<OwnedFd>;
    /// Creates a file without a name in the drive of `folder` and opens it for reading and writing. It is gone once
    /// its handle is closed, unless [`System::give_name`] gave it a name.
    fn create_nameless(&self, folder: BorrowedFd<'_>, mode: u32) -> io::Result<OwnedFd>;
    /// Gives a nameless file a name, which must not exist yet.
    fn give_name(
        &self,
        file: BorrowedFd<'_>,
        folder: BorrowedFd<'_>,
        name: &[u8],
    ) -> io::Result<()>;
    /// Writes all of `bytes` at `offset`.
    fn write_at(&self, file: BorrowedFd<'_>, bytes: &[u8], offset: u64) -> io::Result<()>;
    /// Copies up to `length` bytes within the kernel, from and to the same `offset`; returns how
    /// many, 0 at the end of the source.
    fn copy_range(
        &self,
        source: BorrowedFd<'_>,
        destination: BorrowedFd<'_>,
        offset: u64,
        length: u64,
    ) -> io::Result<u64>;
    /// Makes `destination` share all of `source`'s content.
    fn share_content(&self, source: BorrowedFd<'_>, destination: BorrowedFd<'_>) -> io::Result<()>;
    /// Whether a file may have this length, as far as the system knows without writing.
    fn may_reach(&self, file: BorrowedFd<'_>, length: u64) -> io::Result<bool>;
    /// Sets the length of a file. What is added reads as zeros and takes no space.
    fn set_length(&self, file: BorrowedFd<'_>, length: u64) -> io::Result<()>;
    /// Reserves space for a file of this length without changing its size.
    fn reserve(&self, file: BorrowedFd<'_>, length: u64) -> io::Result<()>;
    /// Gives advice on `length` bytes of a file from `offset` on; 0 stands for all of it.
    fn advise(
        &self,
        file: BorrowedFd<'_>,
        advice: Advice,
        offset: u64,
        length: u64,
    ) -> io::Result<()>;
    /// Creates a folder.
    fn create_folder(&self, folder: BorrowedFd<'_>, name: &[u8], mode: u32) -> io::Result<()>;
    /// Creates a symbolic link with the text `text`.
    fn create_link(&self, folder: BorrowedFd<'_>, name: &[u8], text: &[u8]) -> io::Result<()>;
    /// Creates a FIFO, socket or device; `device` is used for devices only.
    fn create_special(
        &self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        kind: Kind,
        mode: u32,
        device: u64,
    ) -> io::Result<()>;
    /// Gives the entry `from` one more name, which must not exist yet.
    fn add_name(
        &self,
        from_folder: BorrowedFd<'_>,
        from: &[u8],
        folder: BorrowedFd<'_>,
        name: &[u8],
    ) -> io::Result<()>;
    /// Renames within one drive, atomically; both names are given with their folders.
    fn rename(
        &self,
        from: (BorrowedFd<'_>, &[u8]),
        to: (BorrowedFd<'_>, &[u8]),
        onto: IfExists,
    ) -> io::Result<()>;
    /// Removes a name that is not a folder.
    fn remove_file(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<()>;
    /// Removes an empty folder.
    fn remove_folder(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<()>;

    /// Sets owner and group by number.
    fn set_owner(&self, entry: Entry<'_>, uid: u32, gid: u32) -> io::Result<()>;
    /// Sets permission and special bits.
    fn set_mode(&self, entry: Entry<'_>, mode: u32) -> io::Result<()>;
    /// Sets the modification time, and the access time if one is given.
    fn set_times(&self, entry: Entry<'_>, modified: Time, accessed: Option<Time>)
    -> io::Result<()>;
    /// The inode flags of an open file or folder, whether carried or not.
    fn flags(&self, entry: BorrowedFd<'_>) -> io::Result<Flags>;
    /// Sets the carried flags of an open file or folder to these; other flags stay.
    fn set_flags(&self, entry: BorrowedFd<'_>, flags: Flags) -> io::Result<()>;
    /// The number of the quota project that an open file or folder counts for; 0 for none.
    fn project(&self, entry: BorrowedFd<'_>) -> io::Result<u32>;
    /// Names of the extended attributes, access control lists among them.
    fn list_xattrs(&self, entry: Entry<'_>) -> io::Result<Vec<Vec<u8>>>;
    /// Value of one extended attribute.
    fn get_xattr(&self, entry: Entry<'_>, name: &[u8]) -> io::Result<Vec<u8>>;
    /// Sets one extended attribute, new or not.
    fn set_xattr(&self, entry: Entry<'_>, name: &[u8], value: &[u8]) -> io::Result<()>;
    /// Removes one extended attribute.
    fn remove_xattr(&self, entry: Entry<'_>, name: &[u8]) -> io::Result<()>;

    /// Takes the lock of a folder; `None` if a lock of another process is in the way. Whoever may read a folder can
    /// lock it; see `flock(2)`.
    fn lock(&self, folder: BorrowedFd<'_>, mode: LockMode) -> io::Result<Option<Lock>>;
    /// Has an open file alone; `None` if another does.
    fn lock_file(&self, file: BorrowedFd<'_>) -> io::Result<Option<Lock>>;
    /// Who has the lock of a folder, as far as the system shows it.
    fn lock_holders(&self, folder: BorrowedFd<'_>) -> io::Result<Vec<LockHolder>>;
    /// Keeps others from opening a file for writing, which is open here for reading alone; `None` if somebody has it open
    /// so already. See `F_SETLEASE` in `fcntl(2)`. Fails where that cannot be known.
    fn take_lease(&self, file: BorrowedFd<'_>) -> io::Result<Option<Lease>>;
    /// Brings a file's content and attributes onto its drive.
    fn flush_file(&self, file: BorrowedFd<'_>) -> io::Result<()>;
    /// Brings what was changed of a file's content onto its drive. Unlike [`flush_file`](Self::flush_file) this
    /// costs next to nothing where all of it is there already, and does not make sure that a power cut leaves
    /// the file there; see `sync_file_range(2)`.
    fn write_back(&self, file: BorrowedFd<'_>) -> io::Result<()>;
    /// Brings everything written to the drive that holds `folder` onto it. The system reports a write that failed
    /// once by each handle that was open before, so this goes by the handle that it is given.
    fn flush_drive(&self, folder: BorrowedFd<'_>) -> io::Result<()>;
    /// The device below a driver in user space, which `flush_drive` does not reach; `None` where there is none. Fails
    /// for users who may not read it. [`flush_file`](Self::flush_file) flushes it.
    fn driver_device(&self, folder: BorrowedFd<'_>) -> io::Result<Option<OwnedFd>>;
    /// What the system keeps in memory of a device goes, so that the next reading is from the device.
    fn drop_device_cache(&self, device: BorrowedFd<'_>) -> io::Result<()>;
    /// The kernel's number for the kind of file system that holds `folder`; see `statfs(2)`.
    fn kind_of_drive(&self, folder: BorrowedFd<'_>) -> io::Result<u64>;
    /// Room on the drive that holds `folder`.
    fn space(&self, folder: BorrowedFd<'_>) -> io::Result<Space>;
    /// A text that stays the same as long as the machine runs and the drive of `folder` is mounted:
    /// so long what was written is remembered, even if it is not on the drive.
    fn mount_session(&self, folder: BorrowedFd<'_>) -> io::Result<Vec<u8>>;
    /// When an entry was made; `None` where its file system does not say.
    fn born(&self, entry: BorrowedFd<'_>) -> io::Result<Option<Time>>;
    /// What is mounted, in the order of mounting.
    fn mounts(&self) -> io::Result<Vec<Mount>>;
    /// What the device manager knows of a block device: lines like `E:ID_FS_LABEL_ENC=LANTERN`.
    fn device_data(&self, device: &Path) -> io::Result<Vec<u8>>;
    /// The path of an open folder, without links in it.
    fn real_path(&self, folder: BorrowedFd<'_>) -> io::Result<PathBuf>;
    /// Where something is to be mounted, as the system's own list of that says.
    fn mounts_meant(&self) -> io::Result<Vec<PathBuf>>;
    /// The number of the disk that the drive with this number is, or is a part of, if the kernel says that it has a
    /// head, which has to be moved.
    fn rotational_disk_of(&self, drive: u64) -> io::Result<Option<u64>>;
    /// Bytes from the beginning of its drive to where a file's content begins; `None` if it lies nowhere.
    fn lies_at(&self, file: BorrowedFd<'_>) -> io::Result<Option<u64>>;
    /// True if any of the first `bytes` of a file's content can be had without asking its drive; 0 stands for all of it.
    /// Before Linux 6.5 only the first byte is asked for.
    fn is_cached(&self, file: BorrowedFd<'_>, bytes: u64) -> io::Result<bool>;
    /// Reads up to `length` bytes of a device, from `offset` on.
    fn read_device(&self, device: &Path, offset: u64, length: usize) -> io::Result<Vec<u8>>;
    /// Who this process is.
    fn caller(&self) -> io::Result<Caller>;
}
