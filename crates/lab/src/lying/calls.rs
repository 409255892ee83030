//! The requests of the kernel to such a drive.

use std::ffi::OsStr;
use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileExt as _, PermissionsExt as _};
use std::path::Path;
use std::sync::atomic::Ordering;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use fuser::{
    Errno, FileAttr, FileHandle, FileType, Filesystem, FopenFlags, Generation, INodeNo, InitFlags,
    IoctlFlags, KernelConfig, LockOwner, OpenAccMode, OpenFlags, RenameFlags, ReplyAttr,
    ReplyCreate, ReplyData, ReplyDirectory, ReplyEmpty, ReplyEntry, ReplyIoctl, ReplyLseek,
    ReplyOpen, ReplyStatfs, ReplyWrite, ReplyXattr, Request, TimeOrNow, WriteFlags,
};
use rustix::fs::{AtFlags, CWD, Mode, Timespec, Timestamps, UTIME_NOW, UTIME_OMIT};

use super::drive::{Drive, errno, is_there};

/// So that each request is made again.
const NEVER: Duration = Duration::ZERO;

/// Otherwise the kernel supplies what a short answer lacks.
const AS_IT_COMES: FopenFlags = FopenFlags::FOPEN_DIRECT_IO;

/// Answers when due, with the result or the error; the types of answers have no common trait.
macro_rules! answer {
    ($self:ident, $reply:ident, $found:expr, $told:pat => $with:expr) => {{
        let found = $found;
        $self.in_time(move || match found {
            Ok($told) => $with,
            Err(error) => $reply.error(errno(&error)),
        });
    }};
}

fn timespec(time: Option<TimeOrNow>) -> Timespec {
    match time {
        None => Timespec { tv_sec: 0, tv_nsec: UTIME_OMIT },
        Some(TimeOrNow::Now) => Timespec { tv_sec: 0, tv_nsec: UTIME_NOW },
        Some(TimeOrNow::SpecificTime(time)) => {
            let since = time.duration_since(UNIX_EPOCH).unwrap_or_default();
            let secs = i64::try_from(since.as_secs()).unwrap_or(i64::MAX);
            Timespec { tv_sec: secs, tv_nsec: since.subsec_nanos().into() }
        }
    }
}

/// Changes the reported attributes of an entry.
fn set_new_attributes(
    path: &Path,
    mode: Option<u32>,
    (owner, group): (Option<u32>, Option<u32>),
    times: Option<[Option<TimeOrNow>; 2]>,
) -> io::Result<()> {
    if owner.or(group).is_some() {
        std::os::unix::fs::lchown(path, owner, group)?;
    }
    if let Some(mode) = mode {
        fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o7777))?;
    }
    if let Some([accessed, modified]) = times.map(|times| times.map(timespec)) {
        let times = Timestamps { last_access: accessed, last_modification: modified };
        rustix::fs::utimensat(CWD, path, &times, AtFlags::SYMLINK_NOFOLLOW)?;
    }
    Ok(())
}

impl Drive {
    fn made(
        &self,
        parent: INodeNo,
        name: &OsStr,
        make: impl FnOnce(&Path) -> io::Result<()>,
    ) -> io::Result<FileAttr> {
        let path = self.named(parent, name)?;
        make(&path)?;
        self.meet(path)
    }

    fn rename_entry(
        &self,
        (parent, name): (INodeNo, &OsStr),
        (to_parent, to_name): (INodeNo, &OsStr),
        flags: RenameFlags,
    ) -> io::Result<()> {
        // No drive that folds names, and no share, can do more than replace.
        let folds = self.lies.taking.is_some_and(|taking| taking.folds);
        if (folds || self.lies.late.is_some()) && !flags.is_empty() {
            return Err(io::Error::from_raw_os_error(Errno::EINVAL.code()));
        }
        let from = self.named(parent, name)?;
        let spelled = self.path(to_parent)?.join(to_name);
        let to = match self.named(to_parent, to_name)? {
            // Renaming changes the spelling of a name.
            to if to == from => spelled,
            to => to,
        };
        let flags = rustix::fs::RenameFlags::from_bits_retain(flags.bits());
        rustix::fs::renameat_with(CWD, &from, CWD, &to, flags)?;
        self.moved(&from, &to);
        Ok(())
    }

    /// The value of an extended attribute, or the list of their names.
    fn xattr(reply: ReplyXattr, size: u32, value: &[u8]) {
        match u32::try_from(value.len()) {
            Ok(length) if size == 0 => reply.size(length),
            Ok(length) if length <= size => reply.data(value),
            _ => reply.error(Errno::ERANGE),
        }
    }

    fn xattr_names(&self, ino: INodeNo) -> io::Result<Vec<u8>> {
        let mut names = Vec::new();
        for name in xattr::list(self.path(ino)?)? {
            names.extend_from_slice(name.as_bytes());
            names.push(0);
        }
        Ok(names)
    }
}

impl Filesystem for Drive {
    fn init(&mut self, _: &Request, config: &mut KernelConfig) -> io::Result<()> {
        // Otherwise the kernel requests the names of a folder one by one.
        let _ = config.add_capabilities(InitFlags::FUSE_PARALLEL_DIROPS);
        Ok(())
    }

    fn lookup(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        let found = self.named(parent, name).and_then(|path| self.meet(path));
        answer!(self, reply, found, about => reply.entry(&NEVER, &about, Generation(0)));
    }

    fn getattr(&self, _: &Request, ino: INodeNo, open: Option<FileHandle>, reply: ReplyAttr) {
        let about = match open.map(|open| self.handle(open)) {
            Some(Ok(file)) => file.metadata(),
            _ => self.path(ino).and_then(fs::symlink_metadata),
        };
        let about = about.map(|about| {
            let told = self.told(ino.0, &about);
            if self.lies.restless && ino != INodeNo::ROOT {
                FileAttr { ino: INodeNo(self.looks.fetch_add(1, Ordering::Relaxed)), ..told }
            } else {
                told
            }
        });
        answer!(self, reply, about, about => reply.attr(&NEVER, &about));
    }

    fn setattr(
        &self,
        _: &Request,
        ino: INodeNo,
        mode: Option<u32>,
        uid: Option<u32>,
        gid: Option<u32>,
        size: Option<u64>,
        accessed: Option<TimeOrNow>,
        modified: Option<TimeOrNow>,
        _: Option<SystemTime>,
        _: Option<FileHandle>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<fuser::BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        let changed = self.path(ino).and_then(|path| {
            if let Some(size) = size {
                OpenOptions::new().write(true).open(&path)?.set_len(size)?;
            }
            let times = (accessed.is_some() || modified.is_some()).then_some([accessed, modified]);
            set_new_attributes(&path, mode, (uid, gid), times)?;
            Ok(self.told(ino.0, &fs::symlink_metadata(&path)?))
        });
        answer!(self, reply, changed, about => reply.attr(&NEVER, &about));
    }

    fn readlink(&self, _: &Request, ino: INodeNo, reply: ReplyData) {
        let text = self.path(ino).and_then(fs::read_link);
        answer!(self, reply, text, text => reply.data(text.as_os_str().as_bytes()));
    }

    fn mknod(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        _: u32,
        device: u32,
        reply: ReplyEntry,
    ) {
        let made = self.made(parent, name, |path| {
            let kind = rustix::fs::FileType::from_raw_mode(mode);
            let mode = Mode::from_raw_mode(mode & 0o7777);
            Ok(rustix::fs::mknodat(CWD, path, kind, mode, device.into())?)
        });
        answer!(self, reply, made, about => reply.entry(&NEVER, &about, Generation(0)));
    }

    fn mkdir(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        _: u32,
        reply: ReplyEntry,
    ) {
        let made = self.made(parent, name, |path| {
            fs::create_dir(path)?;
            set_new_attributes(path, Some(mode), (None, None), None)
        });
        answer!(self, reply, made, about => reply.entry(&NEVER, &about, Generation(0)));
    }

    fn unlink(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        answer!(self, reply, self.named(parent, name).and_then(fs::remove_file), () => reply.ok());
    }

    fn rmdir(&self, _: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        answer!(self, reply, self.named(parent, name).and_then(fs::remove_dir), () => reply.ok());
    }

    fn symlink(&self, _: &Request, parent: INodeNo, name: &OsStr, text: &Path, reply: ReplyEntry) {
        let made = self.made(parent, name, |path| std::os::unix::fs::symlink(text, path));
        answer!(self, reply, made, about => reply.entry(&NEVER, &about, Generation(0)));
    }

    fn rename(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        to_parent: INodeNo,
        to_name: &OsStr,
        flags: RenameFlags,
        reply: ReplyEmpty,
    ) {
        let renamed = self.rename_entry((parent, name), (to_parent, to_name), flags);
        answer!(self, reply, renamed, () => reply.ok());
    }

    fn link(&self, _: &Request, ino: INodeNo, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        let from = self.path(ino);
        let made = from.and_then(|from| self.made(parent, name, |to| fs::hard_link(from, to)));
        answer!(self, reply, made, about => reply.entry(&NEVER, &about, Generation(0)));
    }

    fn open(&self, _: &Request, ino: INodeNo, flags: OpenFlags, reply: ReplyOpen) {
        let writes = flags.acc_mode() != OpenAccMode::O_RDONLY;
        let opened = self.path(ino).and_then(|path| {
            if writes {
                OpenOptions::new().read(true).write(true).open(path)
            } else {
                File::open(path)
            }
        });
        let opened = opened.map(|file| self.opened(file));
        answer!(self, reply, opened, handle => reply.opened(handle, AS_IT_COMES));
    }

    fn create(
        &self,
        _: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        _: u32,
        _: i32,
        reply: ReplyCreate,
    ) {
        let made = self.named(parent, name).and_then(|path| {
            let new = !is_there(&path);
            let file =
                File::options().read(true).write(true).create(true).truncate(false).open(&path)?;
            if new {
                set_new_attributes(&path, Some(mode), (None, None), None)?;
            }
            Ok((self.meet(path)?, self.opened(file)))
        });
        answer!(self, reply, made, (about, handle) => {
            reply.created(&NEVER, &about, Generation(0), handle, AS_IT_COMES);
        });
    }

    fn read(
        &self,
        _: &Request,
        _: INodeNo,
        open: FileHandle,
        offset: u64,
        size: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        let read = self.read_file(open, offset, size as usize);
        answer!(self, reply, read, bytes => reply.data(&bytes));
    }

    fn write(
        &self,
        _: &Request,
        _: INodeNo,
        open: FileHandle,
        offset: u64,
        bytes: &[u8],
        _: WriteFlags,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        let written = self.handle(open).and_then(|file| file.write_at(bytes, offset));
        answer!(self, reply, written, count => reply.written(u32::try_from(count).unwrap_or(0)));
    }

    fn release(
        &self,
        _: &Request,
        _: INodeNo,
        open: FileHandle,
        _: OpenFlags,
        _: Option<LockOwner>,
        _: bool,
        reply: ReplyEmpty,
    ) {
        self.close(open);
        self.in_time(move || reply.ok());
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
            // Its number is reported when it is looked up.
            if reply.add(INodeNo(at as u64 + 2), at as u64 + 1, kind, OsStr::from_bytes(&name)) {
                break;
            }
        }
        self.in_time(move || reply.ok());
    }

    fn statfs(&self, _: &Request, ino: INodeNo, reply: ReplyStatfs) {
        let room = self.path(ino).and_then(|path| Ok(rustix::fs::statvfs(&path)?));
        answer!(self, reply, room, room => {
            let block = u32::try_from(room.f_frsize).unwrap_or(4096);
            let (blocks, files) = (room.f_blocks, room.f_files);
            reply.statfs(blocks, room.f_bfree, room.f_bavail, files, room.f_ffree, block, 255, block);
        });
    }

    fn setxattr(
        &self,
        _: &Request,
        ino: INodeNo,
        name: &OsStr,
        value: &[u8],
        _: i32,
        _: u32,
        reply: ReplyEmpty,
    ) {
        if self.lies.taking.is_some_and(|taking| value.len() > taking.longest) {
            return reply.error(Errno::ENOSPC);
        }
        let set = self.path(ino).and_then(|path| xattr::set(path, name, value));
        answer!(self, reply, set, () => reply.ok());
    }

    fn getxattr(&self, _: &Request, ino: INodeNo, name: &OsStr, size: u32, reply: ReplyXattr) {
        if self.lies.taking.is_none() {
            return reply.error(Errno::ENODATA);
        }
        let value = self.path(ino).and_then(|path| xattr::get(path, name));
        answer!(self, reply, value, value => match value {
            Some(value) => Self::xattr(reply, size, &value),
            None => reply.error(Errno::ENODATA),
        });
    }

    fn listxattr(&self, _: &Request, ino: INodeNo, size: u32, reply: ReplyXattr) {
        if self.lies.taking.is_none() {
            return Self::xattr(reply, size, &[]);
        }
        answer!(self, reply, self.xattr_names(ino), names => Self::xattr(reply, size, &names));
    }

    fn removexattr(&self, _: &Request, ino: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        let removed = self.path(ino).and_then(|path| xattr::remove(path, name));
        answer!(self, reply, removed, () => reply.ok());
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
        reply.error(Errno::from_i32(self.lies.optional));
    }

    fn lseek(&self, _: &Request, _: INodeNo, _: FileHandle, _: i64, _: i32, reply: ReplyLseek) {
        reply.error(Errno::from_i32(self.lies.optional));
    }
}
