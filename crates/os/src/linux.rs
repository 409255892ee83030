//! Linux 5.8 or newer, by way of `rustix`.

use std::fmt::Write as _;
use std::io::{self, ErrorKind};
use std::num::NonZeroU64;
use std::os::fd::{AsFd as _, AsRawFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::{
    Access, AtFlags, CWD, FallocateFlags, FileType, Gid, IFlags, Mode, OFlags, RawDir, RenameFlags,
    ResolveFlags, SeekFrom, Statx, StatxAttributes, StatxFlags, StatxTimestamp, Timespec,
    Timestamps, UTIME_OMIT, Uid, XattrFlags,
};
use rustix::io::Errno;

use crate::caller::Caller;
use crate::errors::is_unsupported;
use crate::errors::retry_on_intr;
use crate::lease::Lease;
use crate::lock::{self, Lock, LockHolder, LockMode};
use crate::mount::{Mount, Space};
use crate::stat::{Flags, Identity, Kind, Stat, Time};
use crate::system::{Advice, EachName, Entry, IfExists, Name, System};
use crate::{block_device, cached, extent, proc, project, write_back};

/// Longest path that one call accepts, without its NUL.
const LONGEST_PATH: usize = 4095;

/// Buffer of one `getdents64`. A larger one gains nothing: most file systems fill 32 KiB at a time.
const LISTING_BUFFER: usize = 64 * 1024;

/// First size of the buffer for an attribute list or value. Most fit, so that one call is enough.
const XATTR_BUFFER: usize = 512;

/// The fields of `statx` that a scan needs.
const WANTED: StatxFlags = StatxFlags::BASIC_STATS;

/// The real system.
#[derive(Clone, Copy, Debug, Default)]
pub struct Linux;

impl System for Linux {
    fn open_root(&self, path: &Path) -> io::Result<OwnedFd> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        Ok(retry_on_intr(|| rustix::fs::open(path, flags, Mode::empty()))?)
    }

    fn open_folder(&self, root: BorrowedFd<'_>, path: &[u8]) -> io::Result<OwnedFd> {
        if path.is_empty() {
            return open_listed(root, b".");
        }
        let mut held: Option<OwnedFd> = None;
        let mut rest = path;
        loop {
            let (head, tail) = split_path(rest, LONGEST_PATH);
            let from = held.as_ref().map_or(root, std::os::fd::AsFd::as_fd);
            let opened = match open_listed(from, head) {
                // An old kernel or a sandbox has no `openat2`; opening one component at a time is as safe.
                Err(e) if lacks_openat2(&e) => open_by_component(from, head)?,
                other => other?,
            };
            if tail.is_empty() {
                return Ok(opened);
            }
            held = Some(opened);
            rest = tail;
        }
    }

    fn open_file(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<OwnedFd> {
        open_quietly(folder, name, OFlags::NOFOLLOW | OFlags::NONBLOCK)
    }

    fn pin(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<OwnedFd> {
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(retry_on_intr(|| rustix::fs::openat(folder, name, flags, Mode::empty()))?)
    }

    fn list(&self, folder: BorrowedFd<'_>, each: &mut EachName<'_>) -> io::Result<()> {
        let mut buffer = Vec::with_capacity(LISTING_BUFFER);
        let mut entries = RawDir::new(folder, buffer.spare_capacity_mut());
        while let Some(entry) = entries.next() {
            let entry = match entry {
                Err(Errno::INTR) => continue,
                other => other?,
            };
            let name = entry.file_name().to_bytes();
            if name != b"." && name != b".." {
                let (kind, inode) = (kind_of(entry.file_type()), entry.ino());
                each(Name { bytes: name, kind, inode })?;
            }
        }
        Ok(())
    }

    fn may_change(&self, folder: BorrowedFd<'_>) -> io::Result<()> {
        let (asked, as_now) = (Access::WRITE_OK | Access::EXEC_OK, AtFlags::EACCESS);
        Ok(retry_on_intr(|| rustix::fs::accessat(folder, ".", asked, as_now))?)
    }

    fn stat(&self, entry: Entry<'_>) -> io::Result<Stat> {
        let (folder, name, flags) = at(entry);
        // The system's own struct is large, so it is converted where it is.
        let stat = || rustix::fs::statx(folder, name, flags, WANTED).map(|raw| stat_of(&raw));
        retry_on_intr(stat)?
    }

    fn read_link(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<Vec<u8>> {
        Ok(rustix::fs::readlinkat(folder, name, Vec::new())?.into_bytes())
    }

    fn read_at(&self, file: BorrowedFd<'_>, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let mut filled = 0;
        while filled < buffer.len() {
            let rest = &mut buffer[filled..];
            let read =
                retry_on_intr(|| rustix::io::pread(file, &mut *rest, offset + filled as u64))?;
            // A short read is not the end of the file: some drivers return what they have at hand.
            if read == 0 {
                break;
            }
            filled += read;
        }
        Ok(filled)
    }

    fn next_data(&self, file: BorrowedFd<'_>, offset: u64) -> io::Result<Option<(u64, u64)>> {
        let start = match rustix::fs::seek(file, SeekFrom::Data(offset)) {
            Err(Errno::NXIO) => return Ok(None),
            other => other?,
        };
        let end = rustix::fs::seek(file, SeekFrom::Hole(start))?;
        Ok(Some((start, end)))
    }

    fn create_file(&self, folder: BorrowedFd<'_>, name: &[u8], mode: u32) -> io::Result<OwnedFd> {
        let flags =
            OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(retry_on_intr(|| rustix::fs::openat(folder, name, flags, Mode::from_raw_mode(mode)))?)
    }

    fn open_to_write(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<OwnedFd> {
        let flags = OFlags::RDWR | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        Ok(retry_on_intr(|| rustix::fs::openat(folder, name, flags, Mode::empty()))?)
    }

    fn create_nameless(&self, folder: BorrowedFd<'_>, mode: u32) -> io::Result<OwnedFd> {
        let flags = OFlags::RDWR | OFlags::TMPFILE | OFlags::CLOEXEC;
        Ok(retry_on_intr(|| rustix::fs::openat(folder, c".", flags, Mode::from_raw_mode(mode)))?)
    }

    fn give_name(
        &self,
        file: BorrowedFd<'_>,
        folder: BorrowedFd<'_>,
        name: &[u8],
    ) -> io::Result<()> {
        match rustix::fs::linkat(file, c"", folder, name, AtFlags::EMPTY_PATH) {
            // Older kernels allow this only to privileged callers; the name under /proc works for everybody.
            Err(Errno::NOENT) => {
                let path = proc_path(file, b"");
                let follow = AtFlags::SYMLINK_FOLLOW;
                Ok(retry_on_intr(|| {
                    rustix::fs::linkat(CWD, path.as_slice(), folder, name, follow)
                })?)
            }
            other => Ok(other?),
        }
    }

    fn write_at(&self, file: BorrowedFd<'_>, bytes: &[u8], offset: u64) -> io::Result<()> {
        let mut done = 0;
        while done < bytes.len() {
            let wrote =
                retry_on_intr(|| rustix::io::pwrite(file, &bytes[done..], offset + done as u64))?;
            if wrote == 0 {
                return Err(ErrorKind::WriteZero.into());
            }
            done += wrote;
        }
        Ok(())
    }

    fn copy_range(
        &self,
        source: BorrowedFd<'_>,
        destination: BorrowedFd<'_>,
        offset: u64,
        length: u64,
    ) -> io::Result<u64> {
        let length = usize::try_from(length).unwrap_or(usize::MAX);
        let copied = retry_on_intr(|| {
            let (mut from, mut to) = (offset, offset);
            rustix::fs::copy_file_range(source, Some(&mut from), destination, Some(&mut to), length)
        })?;
        Ok(copied as u64)
    }

    fn share_content(&self, source: BorrowedFd<'_>, destination: BorrowedFd<'_>) -> io::Result<()> {
        Ok(retry_on_intr(|| rustix::fs::ioctl_ficlone(destination, source))?)
    }

    fn may_reach(&self, file: BorrowedFd<'_>, length: u64) -> io::Result<bool> {
        // An offset is refused where the file system could not write.
        match rustix::fs::seek(file, SeekFrom::Start(length)) {
            Err(Errno::INVAL | Errno::OVERFLOW | Errno::FBIG) => Ok(false),
            other => Ok(other.map(|_| true)?),
        }
    }

    fn set_length(&self, file: BorrowedFd<'_>, length: u64) -> io::Result<()> {
        Ok(retry_on_intr(|| rustix::fs::ftruncate(file, length))?)
    }

    fn reserve(&self, file: BorrowedFd<'_>, length: u64) -> io::Result<()> {
        let flags = FallocateFlags::KEEP_SIZE;
        Ok(retry_on_intr(|| rustix::fs::fallocate(file, flags, 0, length))?)
    }

    fn advise(
        &self,
        file: BorrowedFd<'_>,
        advice: Advice,
        offset: u64,
        length: u64,
    ) -> io::Result<()> {
        let advice = match advice {
            Advice::ReadAhead => rustix::fs::Advice::Sequential,
            Advice::Drop => rustix::fs::Advice::DontNeed,
        };
        Ok(retry_on_intr(|| rustix::fs::fadvise(file, offset, NonZeroU64::new(length), advice))?)
    }

    fn create_folder(&self, folder: BorrowedFd<'_>, name: &[u8], mode: u32) -> io::Result<()> {
        Ok(retry_on_intr(|| rustix::fs::mkdirat(folder, name, Mode::from_raw_mode(mode)))?)
    }

    fn create_link(&self, folder: BorrowedFd<'_>, name: &[u8], text: &[u8]) -> io::Result<()> {
        Ok(retry_on_intr(|| rustix::fs::symlinkat(text, folder, name))?)
    }

    fn create_special(
        &self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        kind: Kind,
        mode: u32,
        device: u64,
    ) -> io::Result<()> {
        let file_type = match kind {
            Kind::Fifo => FileType::Fifo,
            Kind::Socket => FileType::Socket,
            Kind::CharDevice => FileType::CharacterDevice,
            Kind::BlockDevice => FileType::BlockDevice,
            Kind::File | Kind::Folder | Kind::Symlink => return Err(ErrorKind::InvalidInput.into()),
        };
        let device = if kind.is_device() { device } else { 0 };
        Ok(retry_on_intr(|| {
            rustix::fs::mknodat(folder, name, file_type, Mode::from_raw_mode(mode), device)
        })?)
    }

    fn add_name(
        &self,
        from_folder: BorrowedFd<'_>,
        from: &[u8],
        folder: BorrowedFd<'_>,
        name: &[u8],
    ) -> io::Result<()> {
        Ok(retry_on_intr(|| rustix::fs::linkat(from_folder, from, folder, name, AtFlags::empty()))?)
    }

    fn rename(
        &self,
        from: (BorrowedFd<'_>, &[u8]),
        to: (BorrowedFd<'_>, &[u8]),
        onto: IfExists,
    ) -> io::Result<()> {
        let flags = match onto {
            IfExists::Replace => RenameFlags::empty(),
            IfExists::Nothing => RenameFlags::NOREPLACE,
            IfExists::Exchange => RenameFlags::EXCHANGE,
        };
        Ok(retry_on_intr(|| rustix::fs::renameat_with(from.0, from.1, to.0, to.1, flags))?)
    }

    fn remove_file(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<()> {
        Ok(retry_on_intr(|| rustix::fs::unlinkat(folder, name, AtFlags::empty()))?)
    }

    fn remove_folder(&self, folder: BorrowedFd<'_>, name: &[u8]) -> io::Result<()> {
        Ok(retry_on_intr(|| rustix::fs::unlinkat(folder, name, AtFlags::REMOVEDIR))?)
    }

    fn set_owner(&self, entry: Entry<'_>, uid: u32, gid: u32) -> io::Result<()> {
        let (folder, name, flags) = at(entry);
        let (uid, gid) = (Some(Uid::from_raw(uid)), Some(Gid::from_raw(gid)));
        Ok(retry_on_intr(|| rustix::fs::chownat(folder, name, uid, gid, flags))?)
    }

    fn set_mode(&self, entry: Entry<'_>, mode: u32) -> io::Result<()> {
        let mode = Mode::from_raw_mode(mode);
        match entry {
            Entry::Open(fd) => retry_on_intr(|| rustix::fs::fchmod(fd, mode))?,
            // `fchmod` refuses such a handle; its name under /proc leads to the same entry.
            Entry::Pinned(fd) => {
                retry_on_intr(|| rustix::fs::chmod(proc_path(fd, b"").as_slice(), mode))?;
            }
            // There is no call for that which follows no link on every kernel.
            Entry::Named(folder, name) => {
                let pinned = self.pin(folder, name)?;
                rustix::fs::chmod(proc_path(pinned.as_fd(), b"").as_slice(), mode)?;
            }
        }
        Ok(())
    }

    fn set_times(
        &self,
        entry: Entry<'_>,
        modified: Time,
        accessed: Option<Time>,
    ) -> io::Result<()> {
        let given = |time: Time| Timespec { tv_sec: time.secs, tv_nsec: time.nanos.into() };
        let times = Timestamps {
            last_access: accessed.map_or(Timespec { tv_sec: 0, tv_nsec: UTIME_OMIT }, given),
            last_modification: given(modified),
        };
        if let Entry::Open(fd) = entry {
            return Ok(retry_on_intr(|| rustix::fs::futimens(fd, &times))?);
        }
        let (folder, name, flags) = at(entry);
        Ok(retry_on_intr(|| rustix::fs::utimensat(folder, name, &times, flags))?)
    }

    fn flags(&self, entry: BorrowedFd<'_>) -> io::Result<Flags> {
        Ok(Flags(rustix::fs::ioctl_getflags(entry)?.bits()))
    }

    fn set_flags(&self, entry: BorrowedFd<'_>, flags: Flags) -> io::Result<()> {
        let others = self.flags(entry)?.without(Flags::CARRIED);
        Ok(retry_on_intr(|| {
            rustix::fs::ioctl_setflags(entry, IFlags::from_bits_retain(others.or(flags).0))
        })?)
    }

    fn project(&self, entry: BorrowedFd<'_>) -> io::Result<u32> {
        project::of(entry)
    }

    fn list_xattrs(&self, entry: Entry<'_>) -> io::Result<Vec<Vec<u8>>> {
        let list = grown(|buffer| match entry {
            Entry::Open(fd) => rustix::fs::flistxattr(fd, buffer),
            Entry::Pinned(fd) => rustix::fs::listxattr(proc_path(fd, b"").as_slice(), buffer),
            Entry::Named(fd, name) => {
                rustix::fs::llistxattr(proc_path(fd, name).as_slice(), buffer)
            }
        })?;
        Ok(list.split(|b| *b == 0).filter(|name| !name.is_empty()).map(<[u8]>::to_vec).collect())
    }

    fn get_xattr(&self, entry: Entry<'_>, xattr: &[u8]) -> io::Result<Vec<u8>> {
        grown(|buffer| match entry {
            Entry::Open(fd) => rustix::fs::fgetxattr(fd, xattr, buffer),
            Entry::Pinned(fd) => rustix::fs::getxattr(proc_path(fd, b"").as_slice(), xattr, buffer),
            Entry::Named(fd, name) => {
                rustix::fs::lgetxattr(proc_path(fd, name).as_slice(), xattr, buffer)
            }
        })
    }

    fn set_xattr(&self, entry: Entry<'_>, xattr: &[u8], value: &[u8]) -> io::Result<()> {
        let flags = XattrFlags::empty();
        match entry {
            Entry::Open(fd) => rustix::fs::fsetxattr(fd, xattr, value, flags)?,
            Entry::Pinned(fd) => {
                rustix::fs::setxattr(proc_path(fd, b"").as_slice(), xattr, value, flags)?;
            }
            Entry::Named(fd, name) => {
                rustix::fs::lsetxattr(proc_path(fd, name).as_slice(), xattr, value, flags)?;
            }
        }
        Ok(())
    }

    fn remove_xattr(&self, entry: Entry<'_>, xattr: &[u8]) -> io::Result<()> {
        match entry {
            Entry::Open(fd) => retry_on_intr(|| rustix::fs::fremovexattr(fd, xattr))?,
            Entry::Pinned(fd) => {
                retry_on_intr(|| rustix::fs::removexattr(proc_path(fd, b"").as_slice(), xattr))?;
            }
            Entry::Named(fd, name) => {
                rustix::fs::lremovexattr(proc_path(fd, name).as_slice(), xattr)?;
            }
        }
        Ok(())
    }

    fn lock(&self, folder: BorrowedFd<'_>, mode: LockMode) -> io::Result<Option<Lock>> {
        Lock::take(self.open_folder(folder, b"")?, mode)
    }

    fn lock_file(&self, file: BorrowedFd<'_>) -> io::Result<Option<Lock>> {
        Lock::take(file.try_clone_to_owned()?, LockMode::Alone)
    }

    fn lock_holders(&self, folder: BorrowedFd<'_>) -> io::Result<Vec<LockHolder>> {
        lock::holders(&self.stat(Entry::Pinned(folder))?)
    }

    fn take_lease(&self, file: BorrowedFd<'_>) -> io::Result<Option<Lease>> {
        Lease::take(file.try_clone_to_owned()?)
    }

    fn flush_file(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        Ok(retry_on_intr(|| rustix::fs::fsync(file))?)
    }

    fn write_back(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        match write_back::write_back(file) {
            Err(e) if is_unsupported(&e) => self.flush_file(file),
            other => other,
        }
    }

    fn flush_drive(&self, folder: BorrowedFd<'_>) -> io::Result<()> {
        // By this very handle: a new one would not report an earlier error.
        match retry_on_intr(|| rustix::fs::syncfs(folder)) {
            // `syncfs` refuses a handle that was opened with `O_PATH`.
            Err(Errno::BADF) => return self.flush_drive(self.open_folder(folder, b"")?.as_fd()),
            other => other?,
        }
        if self.kind_of_drive(folder)? != FUSE {
            return Ok(());
        }
        match self.flush_file(folder) {
            // Not every driver can do that for a folder.
            Err(e) if is_unsupported(&e) || e.kind() == ErrorKind::InvalidInput => Ok(()),
            other => other,
        }
    }

    fn driver_device(&self, folder: BorrowedFd<'_>) -> io::Result<Option<OwnedFd>> {
        if self.kind_of_drive(folder)? != FUSE {
            return Ok(None);
        }
        let drive = self.stat(Entry::Pinned(folder))?.identity.drive;
        let mounts = self.mounts()?;
        let of_drive = |mount: &&Mount| mount.drive == drive && mount.device.starts_with("/dev");
        let Some(mount) = mounts.iter().find(of_drive) else { return Ok(None) };
        let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
        Ok(Some(retry_on_intr(|| rustix::fs::open(&mount.device, flags, Mode::empty()))?))
    }

    fn drop_device_cache(&self, device: BorrowedFd<'_>) -> io::Result<()> {
        block_device::forget(device)
    }

    fn kind_of_drive(&self, folder: BorrowedFd<'_>) -> io::Result<u64> {
        Ok(rustix::fs::fstatfs(folder)?.f_type.cast_unsigned())
    }

    fn space(&self, folder: BorrowedFd<'_>) -> io::Result<Space> {
        let raw = rustix::fs::fstatvfs(folder)?;
        let blocks = if rustix::process::geteuid().is_root() { raw.f_bfree } else { raw.f_bavail };
        Ok(Space {
            total: raw.f_blocks.saturating_mul(raw.f_frsize),
            block: raw.f_frsize.max(1),
            bytes: blocks.saturating_mul(raw.f_frsize),
            inodes: (raw.f_files > 0).then_some(raw.f_favail),
        })
    }

    fn mount_session(&self, folder: BorrowedFd<'_>) -> io::Result<Vec<u8>> {
        let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id")?;
        let flags = AtFlags::EMPTY_PATH;
        // Since Linux 6.8 no later mount gets the same number. Before that numbers are reused, and only a restart
        // of the machine is sure to show.
        let unique = StatxFlags::from_bits_retain(0x4000);
        let raw = rustix::fs::statx(folder, "", flags, StatxFlags::MNT_ID | unique)?;
        Ok(format!("started {} mounted {}", boot.trim(), raw.stx_mnt_id).into_bytes())
    }

    fn born(&self, entry: BorrowedFd<'_>) -> io::Result<Option<Time>> {
        let raw =
            retry_on_intr(|| rustix::fs::statx(entry, "", AtFlags::EMPTY_PATH, StatxFlags::BTIME))?;
        let is_known = raw.stx_mask & StatxFlags::BTIME.bits() != 0;
        Ok(is_known.then(|| time_of(raw.stx_btime)))
    }

    fn mounts(&self) -> io::Result<Vec<Mount>> {
        let list = proc::read("/proc/self/mountinfo")?;
        Ok(list.split(|b| *b == b'\n').filter_map(proc::mount_of).collect())
    }

    fn device_data(&self, device: &Path) -> io::Result<Vec<u8>> {
        let number = rustix::fs::stat(device)?.st_rdev;
        let (major, minor) = (rustix::fs::major(number), rustix::fs::minor(number));
        std::fs::read(format!("/run/udev/data/b{major}:{minor}"))
    }

    fn real_path(&self, folder: BorrowedFd<'_>) -> io::Result<PathBuf> {
        std::fs::read_link(format!("/proc/self/fd/{}", folder.as_raw_fd()))
    }

    fn mounts_meant(&self) -> io::Result<Vec<PathBuf>> {
        let list = std::fs::read("/etc/fstab")?;
        Ok(list.split(|b| *b == b'\n').filter_map(proc::mount_meant).collect())
    }

    fn rotational_disk_of(&self, drive: u64) -> io::Result<Option<u64>> {
        let Some(drive) = self.device_of(drive)? else { return Ok(None) };
        let (major, minor) = (rustix::fs::major(drive), rustix::fs::minor(drive));
        let device = PathBuf::from(format!("/sys/dev/block/{major}:{minor}"));
        // A partition has no queue of its own.
        let disk = if device.join("queue").exists() { device } else { device.join("..") };
        let read = |name: &str| std::fs::read_to_string(disk.join(name));
        let has_head = read("queue/rotational")?.trim() == "1";
        let number = |text: &str| {
            let (major, minor) = text.trim().split_once(':')?;
            Some(rustix::fs::makedev(major.parse().ok()?, minor.parse().ok()?))
        };
        Ok(if has_head { number(&read("dev")?) } else { None })
    }

    fn lies_at(&self, file: BorrowedFd<'_>) -> io::Result<Option<u64>> {
        extent::first_byte(file)
    }

    fn is_cached(&self, file: BorrowedFd<'_>, bytes: u64) -> io::Result<bool> {
        cached::is_cached(file, bytes)
    }

    fn read_device(&self, device: &Path, offset: u64, length: usize) -> io::Result<Vec<u8>> {
        let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
        let opened = rustix::fs::open(device, flags, Mode::empty())?;
        if FileType::from_raw_mode(rustix::fs::fstat(&opened)?.st_mode) != FileType::BlockDevice {
            return Err(ErrorKind::InvalidInput.into());
        }
        let mut bytes = vec![0; length];
        let read = self.read_at(std::os::fd::AsFd::as_fd(&opened), &mut bytes, offset)?;
        bytes.truncate(read);
        Ok(bytes)
    }

    fn caller(&self) -> io::Result<Caller> {
        let status = proc::read("/proc/self/status")?;
        proc::caller_of(&String::from_utf8_lossy(&status)).ok_or_else(|| {
            io::Error::new(ErrorKind::InvalidData, "/proc/self/status is not as expected")
        })
    }
}

/// The kernel's number for file systems with a driver in user space; see `statfs(2)`.
const FUSE: u64 = 0x6573_5546;

impl Linux {
    /// The number of the device below a drive whose own number is not that of a device, as with subvolumes; `None`
    /// if there is no device, or the driver runs in user space.
    fn device_of(self, drive: u64) -> io::Result<Option<u64>> {
        if rustix::fs::major(drive) != 0 {
            return Ok(Some(drive));
        }
        let has_device = |mount: &&Mount| mount.drive == drive && mount.device.starts_with("/dev");
        let all = self.mounts()?;
        let mount = all.iter().find(has_device).filter(|mount| !mount.kind.starts_with("fuse"));
        let device = mount.map(|mount| rustix::fs::stat(&mount.device)).transpose()?;
        Ok(device.map(|device| device.st_rdev))
    }
}

/// A container may answer unknown calls like this; for other calls it means that the call is forbidden.
fn lacks_openat2(error: &io::Error) -> bool {
    [Errno::NOSYS, Errno::PERM].iter().any(|it| error.raw_os_error() == Some(it.raw_os_error()))
}

/// Opens a folder for listing. No component leaves `from`, and no link is followed.
fn open_listed(from: BorrowedFd<'_>, path: &[u8]) -> io::Result<OwnedFd> {
    let how = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let open = |flags| {
        retry_on_intr(|| match rustix::fs::openat2(from, path, flags, Mode::empty(), how) {
            // Folders elsewhere were renamed at the same moment; the kernel asks for another try.
            Err(Errno::AGAIN) => Err(Errno::INTR),
            other => other,
        })
    };
    match open(flags | OFlags::NOATIME) {
        // Not the owner.
        Err(Errno::PERM) => Ok(open(flags)?),
        other => Ok(other?),
    }
}

/// As [`open_listed`], with one call a component.
fn open_by_component(from: BorrowedFd<'_>, path: &[u8]) -> io::Result<OwnedFd> {
    let mut held: Option<OwnedFd> = None;
    for name in path.split(|b| *b == b'/') {
        let folder = held.as_ref().map_or(from, std::os::fd::AsFd::as_fd);
        held = Some(open_quietly(folder, name, OFlags::NOFOLLOW | OFlags::DIRECTORY)?);
    }
    held.ok_or_else(|| ErrorKind::InvalidInput.into())
}

/// Opens for reading, without changing the access time where the caller may ask for that.
fn open_quietly(folder: BorrowedFd<'_>, name: &[u8], extra: OFlags) -> io::Result<OwnedFd> {
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | extra;
    let open = |flags| retry_on_intr(|| rustix::fs::openat(folder, name, flags, Mode::empty()));
    match open(flags | OFlags::NOATIME) {
        Err(Errno::PERM) => Ok(open(flags)?),
        other => Ok(other?),
    }
}

/// The longest run of whole components within `limit` bytes, and what follows it.
fn split_path(path: &[u8], limit: usize) -> (&[u8], &[u8]) {
    if path.len() <= limit {
        return (path, b"");
    }
    match path[..=limit].iter().rposition(|b| *b == b'/') {
        Some(slash) => (&path[..slash], &path[slash + 1..]),
        // The system refuses a component that is longer than any name.
        None => (path, b""),
    }
}

fn at(entry: Entry<'_>) -> (BorrowedFd<'_>, &[u8], AtFlags) {
    match entry {
        Entry::Open(fd) | Entry::Pinned(fd) => (fd, b"", AtFlags::EMPTY_PATH),
        Entry::Named(folder, name) => (folder, name, AtFlags::SYMLINK_NOFOLLOW),
    }
}

/// The name under /proc of a handle, or of `name` within it.
fn proc_path(fd: BorrowedFd<'_>, name: &[u8]) -> Vec<u8> {
    let mut path = String::from("/proc/self/fd/");
    // Writing to a String cannot fail.
    let _ = write!(path, "{}", fd.as_raw_fd());
    let mut path = path.into_bytes();
    if !name.is_empty() {
        path.push(b'/');
        path.extend_from_slice(name);
    }
    path
}

/// Calls `fill` with a buffer that grows until the answer fits.
fn grown(mut fill: impl FnMut(&mut [u8]) -> rustix::io::Result<usize>) -> io::Result<Vec<u8>> {
    let mut first = [0; XATTR_BUFFER];
    match fill(&mut first) {
        Err(Errno::RANGE) => {}
        other => return Ok(first[..other?].to_vec()),
    }
    let mut buffer = vec![0; XATTR_BUFFER * 8];
    loop {
        match fill(&mut buffer) {
            Err(Errno::RANGE) if buffer.len() < 1 << 20 => buffer = vec![0; buffer.len() * 8],
            other => {
                buffer.truncate(other?);
                return Ok(buffer);
            }
        }
    }
}

fn kind_of(file_type: FileType) -> Option<Kind> {
    Some(match file_type {
        FileType::RegularFile => Kind::File,
        FileType::Directory => Kind::Folder,
        FileType::Symlink => Kind::Symlink,
        FileType::Fifo => Kind::Fifo,
        FileType::Socket => Kind::Socket,
        FileType::CharacterDevice => Kind::CharDevice,
        FileType::BlockDevice => Kind::BlockDevice,
        FileType::Unknown => return None,
    })
}

fn stat_of(raw: &Statx) -> io::Result<Stat> {
    let mode = u32::from(raw.stx_mode);
    let kind = kind_of(FileType::from_raw_mode(mode))
        .ok_or_else(|| io::Error::new(ErrorKind::InvalidData, "an entry of unknown type"))?;
    let size = if kind.is_device() {
        rustix::fs::makedev(raw.stx_rdev_major, raw.stx_rdev_minor)
    } else {
        raw.stx_size
    };
    Ok(Stat {
        kind,
        mode: mode & 0o7777,
        uid: raw.stx_uid,
        gid: raw.stx_gid,
        size,
        allocated: raw.stx_blocks.saturating_mul(512),
        modified: time_of(raw.stx_mtime),
        accessed: time_of(raw.stx_atime),
        changed: time_of(raw.stx_ctime),
        identity: Identity {
            drive: rustix::fs::makedev(raw.stx_dev_major, raw.stx_dev_minor),
            inode: raw.stx_ino,
        },
        links: raw.stx_nlink,
        // Other kinds may inherit flags, but nobody can set or clear them there.
        flags: match kind {
            Kind::File | Kind::Folder => flags_in(raw.stx_attributes),
            _ => Flags::default(),
        },
        flags_told: flags_in(raw.stx_attributes_mask),
        mounted: raw.stx_attributes.contains(StatxAttributes::MOUNT_ROOT),
    })
}

/// The flags that `statx` shows have the same bits as in `FS_IOC_GETFLAGS`.
fn flags_in(attributes: StatxAttributes) -> Flags {
    let told = StatxAttributes::IMMUTABLE | StatxAttributes::APPEND | StatxAttributes::NODUMP;
    // All of them fit into 32 bits.
    Flags(u32::try_from(attributes.intersection(told).bits()).unwrap_or(0))
}

fn time_of(raw: StatxTimestamp) -> Time {
    Time { secs: raw.tv_sec, nanos: raw.tv_nsec }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_path_is_cut_between_components() {
        assert_eq!(split_path(b"lens/drawing", 20), (&b"lens/drawing"[..], &b""[..]));
        assert_eq!(split_path(b"lens/drawing", 4), (&b"lens"[..], &b"drawing"[..]));
        assert_eq!(split_path(b"lens/drawing/x", 11), (&b"lens"[..], &b"drawing/x"[..]));
    }

    #[test]
    fn opening_one_component_at_a_time_works_too() {
        let base = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(base.path().join("keeper/log")).unwrap();
        std::os::unix::fs::symlink("keeper", base.path().join("alias")).unwrap();
        let root = Linux.open_root(base.path()).unwrap();
        let root = std::os::fd::AsFd::as_fd(&root);
        assert!(open_by_component(root, b"keeper/log").is_ok());
        assert!(open_by_component(root, b"alias/log").is_err());
        assert!(Linux.open_folder(root, b"alias/log").is_err());
        assert!(Linux.open_folder(root, b"keeper/../..").is_err());
    }
}
