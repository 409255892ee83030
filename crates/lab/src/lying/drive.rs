//! A drive that shows a folder, and lies about some of it.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::{self, File, Metadata};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileExt as _, FileTypeExt as _, MetadataExt as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use crate::late::Late;
use fuser::{
    BackgroundSession, Config, Errno, FileAttr, FileHandle, FileType, INodeNo, MountOption,
};

/// How it answers; by default with the truth.
#[derive(Clone, Debug)]
pub struct Lies {
    /// The largest number of bytes for one read.
    pub at_a_time: usize,
    /// The system error of optional calls: flags, extended attributes, holes.
    pub optional: i32,
    /// Each `stat` of an entry shows another inode number.
    pub restless: bool,
    /// The size in bytes that files report instead of their own.
    pub size: Option<u64>,
    /// One of every so many reads fails, and would succeed when tried again.
    pub fails: Option<u64>,
    /// How long the first read takes.
    pub first: Duration,
    /// How long each answer takes, however many requests are made at a time: a network share, which cannot exchange
    /// names either.
    pub late: Option<Duration>,
    /// What it accepts, if it can be written to.
    pub taking: Option<Taking>,
    /// How far its clock is behind, as change times show.
    pub behind: Duration,
}

/// What a drive accepts. By default whatever the folder behind it accepts.
#[derive(Clone, Copy, Debug)]
pub struct Taking {
    /// Bytes of the longest value of an extended attribute. For a longer one it reports a lack of space.
    pub longest: usize,
    /// Names that differ only in the case of ASCII letters are one name.
    pub folds: bool,
}

impl Default for Taking {
    fn default() -> Self {
        Self { longest: usize::MAX, folds: false }
    }
}

impl Lies {
    /// A share with this latency that can be written to.
    pub fn share(late: Duration) -> Self {
        Self {
            late: Some(late),
            restless: true,
            taking: Some(Taking::default()),
            ..Self::default()
        }
    }
}

impl Default for Lies {
    fn default() -> Self {
        Self {
            at_a_time: usize::MAX,
            optional: Errno::EOPNOTSUPP.code(),
            restless: false,
            size: None,
            fails: None,
            first: Duration::ZERO,
            late: None,
            taking: None,
            behind: Duration::ZERO,
        }
    }
}

/// It exists as long as this value.
#[derive(Debug)]
pub struct LyingDrive {
    _session: BackgroundSession,
    at: PathBuf,
    asked: Arc<Asked>,
}

/// The requests so far.
#[derive(Debug, Default)]
pub(super) struct Asked {
    times: AtomicU64,
    /// The number of unanswered requests, and its maximum.
    now: AtomicU64,
    at_once: AtomicU64,
}

impl LyingDrive {
    /// Shows the content of a folder at another.
    pub fn mount(lies: Lies, of: &Path, at: &Path) -> io::Result<Self> {
        let mut config = Config::default();
        config.mount_options = vec![MountOption::FSName("lying".into())];
        if lies.taking.is_none() {
            config.mount_options.push(MountOption::RO);
        }
        let paths = HashMap::from([(INodeNo::ROOT.0, of.to_path_buf())]);
        let (looks, reads) = (AtomicU64::new(1 << 32), AtomicU64::new(0));
        let asked = Arc::new(Asked::default());
        let late = lies.late.map(|_| Late::new());
        let drive = Drive {
            lies,
            paths: Mutex::new(paths),
            open: Mutex::default(),
            looks,
            reads,
            asked: Arc::clone(&asked),
            late,
        };
        let session = fuser::spawn_mount(drive, at, &config)?;
        Ok(Self { _session: session, at: at.to_owned(), asked })
    }

    /// The number of requests so far.
    pub fn asked(&self) -> u64 {
        self.asked.times.load(Ordering::Relaxed)
    }

    /// The maximum of simultaneous requests since the last call.
    pub fn at_once(&self) -> u64 {
        self.asked.at_once.swap(0, Ordering::Relaxed)
    }
}

impl Drop for LyingDrive {
    fn drop(&mut self) {
        // Another test may be starting a process, which holds all that is open for a moment.
        let mut unmount = Command::new("fusermount3");
        unmount.args(["-u", "-z"]).arg(&self.at).stderr(Stdio::null());
        // It may no longer exist.
        let _ = unmount.status();
    }
}

pub(super) struct Drive {
    pub(super) lies: Lies,
    /// The paths of known entries by their numbers.
    pub(super) paths: Mutex<HashMap<u64, PathBuf>>,
    /// Open files by the number of their handle.
    pub(super) open: Mutex<HashMap<u64, Arc<File>>>,
    pub(super) looks: AtomicU64,
    pub(super) reads: AtomicU64,
    pub(super) asked: Arc<Asked>,
    pub(super) late: Option<Late>,
}

pub(super) fn errno(error: &io::Error) -> Errno {
    Errno::from_i32(error.raw_os_error().unwrap_or(0))
}

pub(super) fn time(secs: i64, nanos: i64) -> SystemTime {
    let secs = Duration::from_secs(secs.unsigned_abs());
    UNIX_EPOCH + secs + Duration::from_nanos(nanos.unsigned_abs())
}

pub(super) fn kind(about: &Metadata) -> FileType {
    let kind = about.file_type();
    match () {
        () if kind.is_dir() => FileType::Directory,
        () if kind.is_symlink() => FileType::Symlink,
        () if kind.is_fifo() => FileType::NamedPipe,
        () if kind.is_socket() => FileType::Socket,
        () if kind.is_char_device() => FileType::CharDevice,
        () if kind.is_block_device() => FileType::BlockDevice,
        () => FileType::RegularFile,
    }
}

pub(super) fn is_there(path: &Path) -> bool {
    fs::symlink_metadata(path).is_ok()
}

impl Drive {
    /// Gives an answer when it is due.
    pub(super) fn in_time(&self, answer: impl FnOnce() + Send + 'static) {
        self.asked.times.fetch_add(1, Ordering::Relaxed);
        let (Some(late), Some(wait)) = (&self.late, self.lies.late) else { return answer() };
        let now = self.asked.now.fetch_add(1, Ordering::Relaxed) + 1;
        self.asked.at_once.fetch_max(now, Ordering::Relaxed);
        let asked = Arc::clone(&self.asked);
        late.after(wait, move || {
            asked.now.fetch_sub(1, Ordering::Relaxed);
            answer();
        });
    }

    pub(super) fn path(&self, INodeNo(number): INodeNo) -> io::Result<PathBuf> {
        let paths = self.paths.lock().unwrap_or_else(PoisonError::into_inner);
        paths.get(&number).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    /// The number of the entry at a path, which all its names share.
    pub(super) fn meet(&self, path: PathBuf) -> io::Result<FileAttr> {
        let about = fs::symlink_metadata(&path)?;
        let mut hasher = DefaultHasher::new();
        // A number may be used again for another entry, and the kernel remembers it.
        (about.dev(), about.ino(), about.created().ok()).hash(&mut hasher);
        let number = hasher.finish() | 2;
        self.paths.lock().unwrap_or_else(PoisonError::into_inner).insert(number, path);
        Ok(self.told(number, &about))
    }

    pub(super) fn told(&self, number: u64, about: &Metadata) -> FileAttr {
        let size = self.lies.size.filter(|_| about.is_file()).unwrap_or(about.size());
        FileAttr {
            ino: INodeNo(number),
            size,
            blocks: size.div_ceil(512),
            atime: time(about.atime(), about.atime_nsec()),
            mtime: time(about.mtime(), about.mtime_nsec()),
            ctime: time(about.ctime(), about.ctime_nsec()) - self.lies.behind,
            crtime: UNIX_EPOCH,
            kind: kind(about),
            perm: u16::try_from(about.mode() & 0o7777).unwrap_or(0),
            nlink: u32::try_from(about.nlink()).unwrap_or(u32::MAX),
            uid: about.uid(),
            gid: about.gid(),
            rdev: u32::try_from(about.rdev()).unwrap_or(0),
            flags: 0,
            blksize: 4096,
        }
    }

    /// The path of a name in a folder, as it is spelled there.
    pub(super) fn named(&self, parent: INodeNo, name: &OsStr) -> io::Result<PathBuf> {
        let folder = self.path(parent)?;
        let path = folder.join(name);
        if self.lies.taking.is_some_and(|taking| taking.folds) && !is_there(&path) {
            for entry in fs::read_dir(&folder)? {
                let other = entry?.file_name();
                if other.eq_ignore_ascii_case(name) {
                    return Ok(folder.join(other));
                }
            }
        }
        Ok(path)
    }

    /// A moved entry is found under its new path, with its content.
    pub(super) fn moved(&self, from: &Path, to: &Path) {
        let mut paths = self.paths.lock().unwrap_or_else(PoisonError::into_inner);
        for path in paths.values_mut() {
            if let Ok(below) = path.strip_prefix(from) {
                *path = if below.as_os_str().is_empty() { to.into() } else { to.join(below) };
            }
        }
    }

    pub(super) fn opened(&self, file: File) -> FileHandle {
        let handle = self.looks.fetch_add(1, Ordering::Relaxed);
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.insert(handle, Arc::new(file));
        FileHandle(handle)
    }

    pub(super) fn handle(&self, FileHandle(handle): FileHandle) -> io::Result<Arc<File>> {
        let open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        open.get(&handle).cloned().ok_or_else(|| io::Error::from_raw_os_error(Errno::EBADF.code()))
    }

    pub(super) fn close(&self, FileHandle(handle): FileHandle) {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).remove(&handle);
    }

    pub(super) fn read_file(
        &self,
        handle: FileHandle,
        offset: u64,
        length: usize,
    ) -> io::Result<Vec<u8>> {
        let before = self.reads.fetch_add(1, Ordering::Relaxed);
        if before == 0 {
            std::thread::sleep(self.lies.first);
        }
        if self.lies.fails.is_some_and(|often| before % often == often - 1) {
            return Err(io::Error::from_raw_os_error(Errno::EIO.code()));
        }
        let mut bytes = vec![0; length.min(self.lies.at_a_time)];
        let read = self.handle(handle)?.read_at(&mut bytes, offset)?;
        bytes.truncate(read);
        Ok(bytes)
    }

    pub(super) fn list(&self, ino: INodeNo) -> io::Result<Vec<(FileType, Vec<u8>)>> {
        let mut entries: Vec<(FileType, Vec<u8>)> = Vec::new();
        for entry in fs::read_dir(self.path(ino)?)? {
            let entry = entry?;
            let name = entry.file_name().as_bytes().to_vec();
            entries.push((kind(&fs::symlink_metadata(entry.path())?), name));
        }
        entries.sort_by(|a, b| a.1.cmp(&b.1));
        Ok(entries)
    }
}
