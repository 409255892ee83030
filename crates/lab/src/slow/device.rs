//! One file that is as slow as a drive.

use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, UNIX_EPOCH};

use fuser::{
    BackgroundSession, Config, Errno, FileAttr, FileHandle, FileType, Filesystem, FopenFlags,
    Generation, INodeNo, InitFlags, KernelConfig, LockOwner, MountOption, OpenFlags, ReplyAttr,
    ReplyData, ReplyEmpty, ReplyEntry, ReplyOpen, ReplyWrite, Request, WriteFlags,
};

use super::model::{Asked, Done, Head, Model};
use crate::late::Late;

const NAME: &str = "device";
const NUMBER: INodeNo = INodeNo(2);
const LONG: Duration = Duration::from_secs(3600);

/// A slow file below a folder that is mounted for it.
#[derive(Debug)]
pub(super) struct Device {
    _session: BackgroundSession,
    at: PathBuf,
    head: Arc<Mutex<Head>>,
    /// Every write fails.
    fails: Arc<AtomicBool>,
}

impl Device {
    /// Shows a file at `at`, as slow as the model.
    pub(super) fn mount(model: Model, of: &Path, at: &Path) -> io::Result<Self> {
        let file = File::options().read(true).write(true).open(of)?;
        let size = file.metadata()?.len();
        let head = Arc::new(Mutex::new(Head::new(model, size)));
        let mut config = Config::default();
        config.mount_options = vec![MountOption::FSName("slow".into())];
        let fails = Arc::new(AtomicBool::new(false));
        let late = Late::new();
        let drive = Slow { file, size, head: Arc::clone(&head), late, fails: Arc::clone(&fails) };
        let session = fuser::spawn_mount(drive, at, &config)?;
        Ok(Self { _session: session, at: at.to_owned(), head, fails })
    }

    pub(super) fn path(&self) -> PathBuf {
        self.at.join(NAME)
    }

    pub(super) fn done(&self) -> Done {
        lock(&self.head).done
    }

    pub(super) fn fail_writes(&self, fails: bool) {
        self.fails.store(fails, Ordering::Relaxed);
    }

    pub(super) fn hang(&self, time: Duration) {
        lock(&self.head).hang(time);
    }
}

fn lock(head: &Mutex<Head>) -> MutexGuard<'_, Head> {
    head.lock().unwrap_or_else(PoisonError::into_inner)
}

struct Slow {
    file: File,
    size: u64,
    head: Arc<Mutex<Head>>,
    late: Late,
    fails: Arc<AtomicBool>,
}

impl Slow {
    fn serve(&self, offset: u64, bytes: usize, writes: bool) -> Instant {
        lock(&self.head).serve(Asked { offset, bytes: bytes as u64, writes })
    }

    fn told(&self, ino: INodeNo) -> FileAttr {
        let is_device = ino == NUMBER;
        FileAttr {
            ino,
            size: if is_device { self.size } else { 0 },
            blocks: self.size.div_ceil(512),
            atime: UNIX_EPOCH,
            mtime: UNIX_EPOCH,
            ctime: UNIX_EPOCH,
            crtime: UNIX_EPOCH,
            kind: if is_device { FileType::RegularFile } else { FileType::Directory },
            perm: 0o700,
            nlink: 1,
            uid: rustix::process::geteuid().as_raw(),
            gid: rustix::process::getegid().as_raw(),
            rdev: 0,
            flags: 0,
            blksize: 4096,
        }
    }
}

impl Filesystem for Slow {
    fn init(&mut self, _: &Request, config: &mut KernelConfig) -> io::Result<()> {
        // Requests as they come, several at a time; unsupported features are left out.
        let _ = config.add_capabilities(InitFlags::FUSE_ASYNC_DIO | InitFlags::FUSE_MAX_PAGES);
        let _ = config.set_max_write(1 << 20);
        Ok(())
    }

    fn lookup(&self, _: &Request, _: INodeNo, name: &OsStr, reply: ReplyEntry) {
        if name == NAME {
            reply.entry(&LONG, &self.told(NUMBER), Generation(0));
        } else {
            reply.error(Errno::ENOENT);
        }
    }

    fn getattr(&self, _: &Request, ino: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        reply.attr(&LONG, &self.told(ino));
    }

    fn open(&self, _: &Request, _: INodeNo, _: OpenFlags, reply: ReplyOpen) {
        // Nothing is cached that the drive would have to deliver.
        reply.opened(FileHandle(0), FopenFlags::FOPEN_DIRECT_IO);
    }

    fn read(
        &self,
        _: &Request,
        _: INodeNo,
        _: FileHandle,
        offset: u64,
        size: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        let mut bytes = vec![0; size as usize];
        match self.file.read_at(&mut bytes, offset) {
            Ok(read) => {
                bytes.truncate(read);
                self.late.at(self.serve(offset, read, false), move || reply.data(&bytes));
            }
            Err(_) => reply.error(Errno::EIO),
        }
    }

    fn write(
        &self,
        _: &Request,
        _: INodeNo,
        _: FileHandle,
        offset: u64,
        bytes: &[u8],
        _: WriteFlags,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        if self.fails.load(Ordering::Relaxed) {
            return reply.error(Errno::EIO);
        }
        let count = u32::try_from(bytes.len()).unwrap_or(0);
        match self.file.write_all_at(bytes, offset) {
            Ok(()) => {
                let due = self.serve(offset, bytes.len(), true);
                self.late.at(due, move || reply.written(count));
            }
            Err(_) => reply.error(Errno::EIO),
        }
    }

    fn flush(&self, _: &Request, _: INodeNo, _: FileHandle, _: LockOwner, reply: ReplyEmpty) {
        reply.ok();
    }

    fn fsync(&self, _: &Request, _: INodeNo, _: FileHandle, _: bool, reply: ReplyEmpty) {
        let idle = lock(&self.head).idle();
        self.late.at(idle, move || reply.ok());
    }
}
