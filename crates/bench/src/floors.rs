//! Bare programs that make only the unavoidable calls: no plan, no checks, no hidden names, and a panic for any
//! error.

use std::ffi::{CStr, CString};
use std::os::fd::{AsFd, OwnedFd};
use std::sync::{Condvar, Mutex};

use anyhow::{Result, ensure};
use rustix::fs::{
    AtFlags, CWD, FallocateFlags, FileType, Gid, Mode, OFlags, RawDir, Statx, StatxFlags, Timespec,
    Timestamps, Uid,
};

use crate::options::Sides;

const WANTED: StatxFlags = StatxFlags::BASIC_STATS;
const BLOCK: usize = 256 * 1024;
const STRETCH: usize = 8 << 20;

/// A folder that is open on both sides, or one large file in it.
struct Pair {
    source: OwnedFd,
    destination: OwnedFd,
    large: Option<CString>,
}

/// A file of this size or more is a task of its own.
const LARGE: u64 = 8 << 20;

/// Folders to work on, and the number in work.
struct Queue {
    state: Mutex<(Vec<Pair>, usize)>,
    changed: Condvar,
}

impl Queue {
    fn next(&self, ended: bool) -> Option<Pair> {
        let mut state = self.state.lock().expect("no floor panics");
        state.1 -= usize::from(ended);
        loop {
            if let Some(pair) = state.0.pop() {
                state.1 += 1;
                return Some(pair);
            }
            if state.1 == 0 {
                self.changed.notify_all();
                return None;
            }
            state = self.changed.wait(state).expect("no floor panics");
        }
    }

    fn push(&self, pair: Pair) {
        self.state.lock().expect("no floor panics").0.push(pair);
        self.changed.notify_one();
    }
}

/// Calls `work` for each folder pair, from `threads` threads.
fn each_folder(sides: &Sides, work: impl Fn(&Pair, &Queue) + Sync) -> Result<()> {
    // If one thread panicked, the others would wait for it for ever.
    std::panic::set_hook(Box::new(|info| {
        anstream::eprintln!("floor: {info}");
        std::process::abort();
    }));
    let open = |path| rustix::fs::open(path, OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty());
    let root =
        Pair { source: open(&sides.source)?, destination: open(&sides.destination)?, large: None };
    let queue = Queue { state: Mutex::new((vec![root], 0)), changed: Condvar::new() };
    let labour = || {
        let mut pair = queue.next(false);
        while let Some(current) = pair {
            work(&current, &queue);
            pair = queue.next(true);
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..sides.threads {
            scope.spawn(labour);
        }
        labour();
    });
    Ok(())
}

fn each_name(folder: &OwnedFd, mut work: impl FnMut(&CStr, FileType)) {
    let mut buffer = Vec::with_capacity(64 * 1024);
    let mut entries = RawDir::new(folder, buffer.spare_capacity_mut());
    while let Some(entry) = entries.next() {
        let entry = entry.expect("a folder can be listed");
        if entry.file_name() != c"." && entry.file_name() != c".." {
            work(entry.file_name(), entry.file_type());
        }
    }
}

fn look(folder: &OwnedFd, name: &CStr) -> Statx {
    rustix::fs::statx(folder, name, AtFlags::SYMLINK_NOFOLLOW, WANTED)
        .expect("an entry can be looked at")
}

fn open(folder: &OwnedFd, name: &CStr, flags: OFlags, mode: u32) -> OwnedFd {
    rustix::fs::openat(folder, name, flags, Mode::from_raw_mode(mode)).expect("an entry opens")
}

const LISTED: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW);

fn visit_below(pair: &Pair, name: &CStr, queue: &Queue) {
    let source = open(&pair.source, name, LISTED, 0);
    queue.push(Pair { source, destination: open(&pair.destination, name, LISTED, 0), large: None });
}

/// Both sides listed; a `statx` of every entry on both; optionally the names of its attributes.
pub(crate) fn scan(sides: &Sides, closely: bool) -> Result<()> {
    each_folder(sides, |pair, queue| {
        let mut names: Vec<CString> = Vec::new();
        each_name(&pair.source, |name, kind| {
            look(&pair.source, name);
            if closely {
                list_attributes(&pair.source, name);
            }
            if kind == FileType::Directory {
                names.push(name.to_owned());
            }
        });
        each_name(&pair.destination, |name, _| {
            look(&pair.destination, name);
            if closely {
                list_attributes(&pair.destination, name);
            }
        });
        for name in &names {
            visit_below(pair, name, queue);
        }
    })
}

fn list_attributes(folder: &OwnedFd, name: &CStr) {
    use std::os::fd::AsRawFd as _;
    let path =
        format!("/proc/self/fd/{}/{}", folder.as_raw_fd(), name.to_str().expect("plain names"));
    let mut buffer = [0_u8; 1024];
    rustix::fs::llistxattr(path, &mut buffer).expect("attributes can be listed");
}

/// Folders made; files made under their final name with content, owner, mode and time.
pub(crate) fn copy(sides: &Sides) -> Result<()> {
    rustix::fs::mkdirat(CWD, &sides.destination, Mode::from_raw_mode(0o755))?;
    each_folder(sides, |pair, queue| {
        let mut buffer = vec![0; BLOCK];
        if let Some(name) = &pair.large {
            copy_file(pair, name, &look(&pair.source, name), &mut buffer);
            return;
        }
        each_name(&pair.source, |name, kind| match kind {
            FileType::Directory => {
                rustix::fs::mkdirat(&pair.destination, name, Mode::from_raw_mode(0o755))
                    .expect("made");
                visit_below(pair, name, queue);
            }
            FileType::RegularFile => {
                let stat = look(&pair.source, name);
                if stat.stx_size < LARGE {
                    copy_file(pair, name, &stat, &mut buffer);
                    return;
                }
                let again = |folder: &OwnedFd| folder.try_clone().expect("a handle can be doubled");
                let (source, destination) = (again(&pair.source), again(&pair.destination));
                queue.push(Pair { source, destination, large: Some(name.to_owned()) });
            }
            _ => {
                let text = rustix::fs::readlinkat(&pair.source, name, Vec::new()).expect("a link");
                rustix::fs::symlinkat(text.as_c_str(), &pair.destination, name).expect("made");
            }
        });
    })
}

/// As [`copy`]; then all is flushed, each file read as the drive holds it, and the source's removed.
pub(crate) fn move_all(sides: &Sides) -> Result<()> {
    copy(sides)?;
    let made = rustix::fs::open(&sides.destination, OFlags::RDONLY, Mode::empty())?;
    rustix::fs::syncfs(made)?;
    each_folder(sides, |pair, queue| {
        let mut buffer = vec![0; BLOCK];
        let mut files: Vec<CString> = Vec::new();
        each_name(&pair.source, |name, kind| match kind {
            FileType::Directory => visit_below(pair, name, queue),
            FileType::RegularFile => files.push(name.to_owned()),
            _ => {}
        });
        for name in files {
            read_anew(&open(&pair.destination, &name, OFlags::NOFOLLOW, 0), &mut buffer);
            rustix::fs::unlinkat(&pair.source, &name, AtFlags::empty()).expect("a file goes");
        }
    })?;
    Ok(std::fs::remove_dir_all(&sides.source)?)
}

fn read_anew(file: &OwnedFd, buffer: &mut [u8]) {
    rustix::fs::fadvise(file, 0, None, rustix::fs::Advice::DontNeed).expect("it can be dropped");
    let mut offset = 0;
    loop {
        match rustix::io::pread(file, &mut *buffer, offset).expect("a file can be read") {
            0 => return,
            read => offset += read as u64,
        }
    }
}

fn copy_file(pair: &Pair, name: &CStr, stat: &Statx, buffer: &mut [u8]) {
    let source = open(&pair.source, name, OFlags::RDONLY | OFlags::NOFOLLOW, 0);
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW;
    let made = open(&pair.destination, name, flags, 0o600);
    if stat.stx_size > BLOCK as u64 {
        copy_large(&source, &made, stat, buffer);
    } else if stat.stx_size > 0 {
        let read = rustix::io::pread(&source, &mut *buffer, 0).expect("a file can be read");
        rustix::io::pwrite(&made, &buffer[..read], 0).expect("a file can be written");
    }
    let owner = (Some(Uid::from_raw(stat.stx_uid)), Some(Gid::from_raw(stat.stx_gid)));
    rustix::fs::fchown(&made, owner.0, owner.1).expect("an owner is given");
    rustix::fs::fchmod(&made, Mode::from_raw_mode(u32::from(stat.stx_mode) & 0o7777))
        .expect("a mode");
    let time = Timespec { tv_sec: stat.stx_mtime.tv_sec, tv_nsec: stat.stx_mtime.tv_nsec.into() };
    let times = Timestamps { last_access: time, last_modification: time };
    rustix::fs::futimens(&made, &times).expect("a time");
}

/// By the best available way: sharing, copying in the kernel, or through a buffer; of a sparse file only its data.
fn copy_large(source: &OwnedFd, made: &OwnedFd, stat: &Statx, buffer: &mut [u8]) {
    if rustix::fs::ioctl_ficlone(made, source).is_ok() {
        return;
    }
    let sparse = stat.stx_blocks * 512 < stat.stx_size;
    if sparse {
        rustix::fs::ftruncate(made, stat.stx_size).expect("a length");
    } else {
        let _ = rustix::fs::fallocate(made, FallocateFlags::KEEP_SIZE, 0, stat.stx_size);
    }
    let mut at = 0;
    while at < stat.stx_size {
        let end = if sparse {
            match rustix::fs::seek(source, rustix::fs::SeekFrom::Data(at)) {
                Ok(start) => at = start,
                Err(_) => break,
            }
            rustix::fs::seek(source, rustix::fs::SeekFrom::Hole(at)).expect("an end")
        } else {
            stat.stx_size
        };
        while at < end {
            let length = usize::try_from(end - at).unwrap_or(STRETCH).min(STRETCH);
            let (mut from, mut to) = (at, at);
            let in_kernel =
                rustix::fs::copy_file_range(source, Some(&mut from), made, Some(&mut to), length);
            at += in_kernel.unwrap_or_else(|_| {
                let length = length.min(buffer.len());
                let read = rustix::io::pread(source, &mut buffer[..length], at).expect("readable");
                rustix::io::pwrite(made, &buffer[..read], at).expect("writable")
            }) as u64;
        }
    }
}

/// A bare copy, flushed to its drive.
pub(crate) fn copy_flushed(sides: &Sides) -> Result<()> {
    copy(sides)?;
    let made = rustix::fs::open(&sides.destination, LISTED, Mode::empty())?;
    Ok(rustix::fs::syncfs(&made)?)
}

/// Reads the source once, in disk order.
pub(crate) fn sweep(sides: &Sides) -> Result<()> {
    utter_echo_lab::read_in_order(&sides.source)?;
    Ok(())
}

/// Reads the files of both sides in one thread and compares them.
pub(crate) fn compare(sides: &Sides) -> Result<()> {
    let different = Mutex::new(0_u64);
    each_folder(sides, |pair, queue| {
        let (mut left, mut right) = (vec![0; BLOCK], vec![0; BLOCK]);
        each_name(&pair.source, |name, kind| match kind {
            FileType::Directory => visit_below(pair, name, queue),
            FileType::RegularFile => {
                let flags = OFlags::RDONLY | OFlags::NOFOLLOW;
                let (a, b) =
                    (open(&pair.source, name, flags, 0), open(&pair.destination, name, flags, 0));
                if !equal(&a, &b, &mut left, &mut right) {
                    *different.lock().expect("no floor panics") += 1;
                }
            }
            _ => {}
        });
    })?;
    ensure!(*different.lock().expect("no floor panics") == 0, "the trees differ");
    Ok(())
}

fn equal(a: &OwnedFd, b: &OwnedFd, left: &mut [u8], right: &mut [u8]) -> bool {
    let mut offset = 0;
    loop {
        let read = rustix::io::pread(a.as_fd(), &mut *left, offset).expect("a file can be read");
        let other = rustix::io::pread(b.as_fd(), &mut *right, offset).expect("a file can be read");
        if left[..read] != right[..other] {
            return false;
        }
        if read < left.len() {
            return true;
        }
        offset += read as u64;
    }
}
