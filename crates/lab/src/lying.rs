//! A drive that does not tell the truth, or not all of it: a folder seen through it can only be read.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::{self, File, Metadata};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileExt as _, FileTypeExt as _, MetadataExt as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use fuser::{
    BackgroundSession, Config, Errno, FileAttr, FileHandle, FileType, Filesystem, FopenFlags,
    Generation, INodeNo, IoctlFlags, LockOwner, MountOption, OpenFlags, ReplyAttr, ReplyData,
    ReplyDirectory, ReplyEntry, ReplyIoctl, ReplyLseek, ReplyOpen, ReplyXattr, Request,
};

/// How it answers. The usual is the truth.
#[derive(Clone, Debug)]
pub struct Lies {
    /// Bytes that one reading gives at most.
    pub at_a_time: usize,
    /// The system error of all that nobody needs: flags, extended attributes, holes.
    pub optional: i32,
    /// Each look at an entry shows another inode number.
    pub restless: bool,
    /// The size that files have, in bytes, instead of their own.
    pub size: Option<u64>,
    /// Every so many readings one fails, and would not at the next try.
    pub fails: Option<u64>,
    /// How long the first reading takes.
    pub first: Duration,
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
        }
    }
}

/// It is there as long as this lives.
#[derive(Debug)]
pub struct LyingDrive(#[allow(dead_code, reason = "it ends when it is dropped")] BackgroundSession);

impl LyingDrive {
    /// Shows what a folder holds at another.
    pub fn mount(lies: Lies, of: &Path, at: &Path) -> io::Result<Self> {
        let mut config = Config::default();
        config.mount_options = vec![MountOption::RO, MountOption::FSName("lying".into())];
        let paths = HashMap::from([(INodeNo::ROOT.0, of.to_path_buf())]);
        let (looks, reads) = (AtomicU64::new(1 << 32), AtomicU64::new(0));
        let drive = Drive { lies, paths: Mutex::new(paths), looks, reads };
        fuser::spawn_mount(drive, at, &config).map(Self)
    }
}

/// So that each question is asked anew.
const NEVER: Duration = Duration::ZERO;

struct Drive {
    lies: Lies,
    /// Where the entries lie that were met, by the numbers that they were given.
    paths: Mutex<HashMap<u64, PathBuf>>,
    looks: AtomicU64,
    reads: AtomicU64,
}

fn errno(error: &io::Error) -> Errno {
    Errno::from_i32(error.raw_os_error().unwrap_or(0))
}

fn time(secs: i64, nanos: i64) -> SystemTime {
    let secs = Duration::from_secs(secs.unsigned_abs());
    UNIX_EPOCH + secs + Duration::from_nanos(nanos.unsigned_abs())
}

fn kind(about: &Metadata) -> FileType {
    let kind = about.file_type();
    match () {
        () if kind.is_dir() => FileType::Directory,
        () if kind.is_symlink() => FileType::Symlink,
        () if kind.is_fifo() => FileType::NamedPipe,
        () => FileType::RegularFile,
    }
}

impl Drive {
    fn path(&self, INodeNo(number): INodeNo) -> io::Result<PathBuf> {
        let paths = self.paths.lock().unwrap_or_else(PoisonError::into_inner);
        paths.get(&number).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    /// What is at a path, by a number that all names of it share.
    fn meet(&self, path: PathBuf) -> io::Result<FileAttr> {
        let about = fs::symlink_metadata(&path)?;
        let mut hasher = DefaultHasher::new();
        (about.dev(), about.ino()).hash(&mut hasher);
        let number = hasher.finish() | 2;
        self.paths.lock().unwrap_or_else(PoisonError::into_inner).insert(number, path);
        Ok(self.told(number, &about))
    }

    fn told(&self, number: u64, about: &Metadata) -> FileAttr {
        let size = self.lies.size.filter(|_| about.is_file()).unwrap_or(about.size());
        FileAttr {
            ino: INodeNo(number),
            size,
            blocks: size.div_ceil(512),
            atime: time(about.atime(), about.atime_nsec()),
            mtime: time(about.mtime(), about.mtime_nsec()),
            ctime: time(about.ctime(), about.ctime_nsec()),
            crtime: UNIX_EPOCH,
            kind: kind(about),
            perm: u16::try_from(about.mode() & 0o7777).unwrap_or(0),
            nlink: u32::try_from(about.nlink()).unwrap_or(u32::MAX),
            uid: about.uid(),
            gid: about.gid(),
            rdev: 0,
            flags: 0,
            blksize: 4096,
        }
    }

    fn optional(&self) -> Errno {
        Errno::from_i32(self.lies.optional)
    }

    fn read_file(&self, ino: INodeNo, offset: u64, length: usize) -> io::Result<Vec<u8>> {
        let before = self.reads.fetch_add(1, Ordering::Relaxed);
        if before == 0 {
            std::thread::sleep(self.lies.first);
        }
        if self.lies.fails.is_some_and(|often| before % often == often - 1) {
            return Err(io::Error::from_raw_os_error(Errno::EIO.code()));
        }
        let mut bytes = vec![0; length.min(self.lies.at_a_time)];
        let read = File::open(self.path(ino)?)?.read_at(&mut bytes, offset)?;
        bytes.truncate(read);
        Ok(bytes)
    }

    fn list(&self, ino: INodeNo) -> io::Result<Vec<(FileType, Vec<u8>)>> {
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

impl Filesystem for Drive {
    fn lookup(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        match self.path(parent).and_then(|parent| self.meet(parent.join(name))) {
            Ok(about) => reply.entry(&NEVER, &about, Generation(0)),
            Err(error) => reply.error(errno(&error)),
        }
    }

    fn getattr(&self, _: &Request, ino: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        let about = self.path(ino).and_then(fs::symlink_metadata);
        match about.map(|about| self.told(ino.0, &about)) {
            Ok(about) if self.lies.restless && ino != INodeNo::ROOT => {
                let ino = INodeNo(self.looks.fetch_add(1, Ordering::Relaxed));
                reply.attr(&NEVER, &FileAttr { ino, ..about });
            }
            Ok(about) => reply.attr(&NEVER, &about),
            Err(error) => reply.error(errno(&error)),
        }
    }

    fn readlink(&self, _: &Request, ino: INodeNo, reply: ReplyData) {
        match self.path(ino).and_then(fs::read_link) {
            Ok(text) => reply.data(text.as_os_str().as_bytes()),
            Err(error) => reply.error(errno(&error)),
        }
    }

    fn open(&self, _: &Request, _: INodeNo, _: OpenFlags, reply: ReplyOpen) {
        // Else the kernel makes up what a short answer lacks.
        reply.opened(FileHandle(0), FopenFlags::FOPEN_DIRECT_IO);
    }

    fn read(
        &self,
        _: &Request,
        ino: INodeNo,
        _: FileHandle,
        offset: u64,
        size: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        match self.read_file(ino, offset, size as usize) {
            Ok(bytes) => reply.data(&bytes),
            Err(error) => reply.error(errno(&error)),
        }
    }

    fn readdir(
        &self,
        _: &Request,
        ino: INodeNo,
        _: FileHandle,
        offset: u64,
        mut reply: ReplyDirectory,
    ) {
        let entries = match self.list(ino) {
            Ok(entries) => entries,
            Err(error) => return reply.error(errno(&error)),
        };
        let dots = [b".", &b".."[..]].map(|name| (FileType::Directory, name.to_vec()));
        let all = dots.into_iter().chain(entries).enumerate();
        for (at, (kind, name)) in all.skip(usize::try_from(offset).unwrap_or(usize::MAX)) {
            // Which number it has is told when it is looked at.
            if reply.add(INodeNo(at as u64 + 2), at as u64 + 1, kind, OsStr::from_bytes(&name)) {
                break;
            }
        }
        reply.ok();
    }

    fn getxattr(&self, _: &Request, _: INodeNo, _: &OsStr, _: u32, reply: ReplyXattr) {
        reply.error(Errno::ENODATA);
    }

    fn listxattr(&self, _: &Request, _: INodeNo, size: u32, reply: ReplyXattr) {
        if size == 0 { reply.size(0) } else { reply.data(&[]) }
    }

    fn ioctl(
        &self,
        _: &Request,
        _: INodeNo,
        _: FileHandle,
        _: IoctlFlags,
        _: u32,
        _: &[u8],
        _: u32,
        reply: ReplyIoctl,
    ) {
        reply.error(self.optional());
    }

    fn lseek(&self, _: &Request, _: INodeNo, _: FileHandle, _: i64, _: i32, reply: ReplyLseek) {
        reply.error(self.optional());
    }
}
