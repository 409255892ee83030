//! A drive that does not tell the truth, or not all of it: files in one folder that can only be read.

use std::ffi::OsStr;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, UNIX_EPOCH};

use fuser::{
    BackgroundSession, Config, Errno, FileAttr, FileHandle, FileType, Filesystem, FopenFlags,
    Generation, INodeNo, IoctlFlags, LockOwner, MountOption, OpenFlags, ReplyAttr, ReplyData,
    ReplyDirectory, ReplyEntry, ReplyIoctl, ReplyLseek, ReplyOpen, ReplyXattr, Request,
};

/// A file, and what is told of it.
#[derive(Clone, Debug)]
pub struct Told {
    /// Its name.
    pub name: &'static str,
    /// What it holds.
    pub content: Vec<u8>,
    /// What its size is said to be, in bytes.
    pub size: u64,
}

impl Told {
    /// A file of which the truth is told.
    pub fn truly(name: &'static str, content: Vec<u8>) -> Self {
        let size = content.len() as u64;
        Self { name, content, size }
    }
}

/// What a drive holds, and how it answers.
#[derive(Clone, Debug)]
pub struct Lies {
    /// What is there.
    pub files: Vec<Told>,
    /// Bytes that one reading gives at most.
    pub at_a_time: usize,
    /// The system error of all that nobody needs: flags, extended attributes, holes.
    pub optional: i32,
    /// Each look at a file shows another inode number.
    pub restless: bool,
}

/// It is there as long as this lives.
#[derive(Debug)]
pub struct LyingDrive(#[allow(dead_code, reason = "it ends when it is dropped")] BackgroundSession);

impl LyingDrive {
    /// Mounts it in a folder.
    pub fn mount(lies: Lies, folder: &Path) -> io::Result<Self> {
        let mut config = Config::default();
        config.mount_options = vec![MountOption::RO, MountOption::FSName("lying".into())];
        let drive = Drive { lies, looks: AtomicU64::new(1000) };
        fuser::spawn_mount(drive, folder, &config).map(Self)
    }
}

/// So that each question is asked anew.
const NEVER: Duration = Duration::ZERO;

struct Drive {
    lies: Lies,
    looks: AtomicU64,
}

impl Drive {
    fn file(&self, INodeNo(number): INodeNo) -> Option<&Told> {
        self.lies.files.get(usize::try_from(number.checked_sub(2)?).ok()?)
    }

    fn about(&self, ino: INodeNo) -> Option<FileAttr> {
        let file = if ino == INodeNo::ROOT { None } else { Some(self.file(ino)?) };
        let shown = match file {
            Some(_) if self.lies.restless => INodeNo(self.looks.fetch_add(1, Ordering::Relaxed)),
            _ => ino,
        };
        let size = file.map_or(0, |file| file.size);
        Some(FileAttr {
            ino: shown,
            size,
            blocks: size.div_ceil(512),
            atime: UNIX_EPOCH,
            mtime: UNIX_EPOCH + Duration::from_secs(1_000_000_000),
            ctime: UNIX_EPOCH,
            crtime: UNIX_EPOCH,
            kind: if file.is_some() { FileType::RegularFile } else { FileType::Directory },
            perm: if file.is_some() { 0o644 } else { 0o755 },
            nlink: 1,
            uid: 0,
            gid: 0,
            rdev: 0,
            flags: 0,
            blksize: 4096,
        })
    }

    fn optional(&self) -> Errno {
        Errno::from_i32(self.lies.optional)
    }
}

impl Filesystem for Drive {
    fn lookup(&self, _: &Request, _: INodeNo, name: &OsStr, reply: ReplyEntry) {
        let at = self.lies.files.iter().position(|file| name == file.name);
        match at.and_then(|at| self.about(INodeNo(at as u64 + 2)).map(|about| (at, about))) {
            Some((at, about)) => {
                let about = FileAttr { ino: INodeNo(at as u64 + 2), ..about };
                reply.entry(&NEVER, &about, Generation(0));
            }
            None => reply.error(Errno::ENOENT),
        }
    }

    fn getattr(&self, _: &Request, ino: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        match self.about(ino) {
            Some(about) => reply.attr(&NEVER, &about),
            None => reply.error(Errno::ENOENT),
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
        let Some(file) = self.file(ino) else { return reply.error(Errno::EISDIR) };
        let from = usize::try_from(offset).unwrap_or(usize::MAX).min(file.content.len());
        let most = self.lies.at_a_time.min(size as usize);
        let end = from.saturating_add(most).min(file.content.len());
        reply.data(&file.content[from..end]);
    }

    fn readdir(
        &self,
        _: &Request,
        _: INodeNo,
        _: FileHandle,
        offset: u64,
        mut reply: ReplyDirectory,
    ) {
        let dots =
            [(INodeNo::ROOT, FileType::Directory, "."), (INodeNo::ROOT, FileType::Directory, "..")];
        let files = self.lies.files.iter().enumerate();
        let files =
            files.map(|(at, file)| (INodeNo(at as u64 + 2), FileType::RegularFile, file.name));
        let all = dots.into_iter().chain(files).enumerate();
        for (at, (ino, kind, name)) in all.skip(usize::try_from(offset).unwrap_or(usize::MAX)) {
            if reply.add(ino, at as u64 + 1, kind, name) {
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
