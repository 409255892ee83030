//! Whether a file's content is in the system's cache.

use std::io;
use std::os::fd::{AsRawFd as _, BorrowedFd};

use rustix::io::{Errno, ReadWriteFlags};

/// `cachestat`, see the kernel's documentation; Linux 6.5 or newer.
const CACHESTAT: libc::c_long = 451;

#[repr(C)]
#[derive(Default)]
struct PageRange {
    start: u64,
    length: u64,
}

/// Counts of pages.
#[repr(C)]
#[derive(Default)]
struct PageCounts {
    cached: u64,
    dirty: u64,
    being_written: u64,
    evicted: u64,
    evicted_lately: u64,
}

/// True if any of the first `length` bytes of a file are there; 0 stands for all of it.
#[allow(unsafe_code, reason = "the layer over the system's calls does not have this one")]
pub(super) fn is_cached(file: BorrowedFd<'_>, length: u64) -> io::Result<bool> {
    let range = PageRange { start: 0, length };
    let mut counts = PageCounts::default();
    // SAFETY: the handle is open as long as it is borrowed, and both structs are as the kernel defines them and
    // outlive the call.
    let done =
        unsafe { libc::syscall(CACHESTAT, file.as_raw_fd(), &raw const range, &raw mut counts, 0) };
    if done == 0 {
        return Ok(counts.cached > 0);
    }
    match io::Error::last_os_error() {
        // A container answers unknown calls like this.
        error if [libc::ENOSYS, libc::EPERM].map(Some).contains(&error.raw_os_error()) => {
            comes_at_once(file)
        }
        error => Err(error),
    }
}

/// The same for the first byte, by a read that does not wait. An old kernel reads what is missing.
fn comes_at_once(file: BorrowedFd<'_>) -> io::Result<bool> {
    let mut byte = [0];
    let mut into = [io::IoSliceMut::new(&mut byte)];
    match rustix::io::preadv2(file, &mut into, 0, ReadWriteFlags::NOWAIT) {
        Ok(_) => Ok(true),
        Err(Errno::AGAIN) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::File;
    use std::io::Write as _;
    use std::os::fd::AsFd as _;

    #[test]
    fn what_was_just_written_is_cached_and_what_was_dropped_is_not() {
        let room = tempfile::tempdir().unwrap();
        let path = room.path().join("logbook");
        let mut file = File::options().read(true).write(true).create_new(true).open(path).unwrap();
        file.write_all(&[7; 8192]).and_then(|()| file.sync_all()).unwrap();
        let ask = || {
            let file = file.as_fd();
            [is_cached(file, 0), is_cached(file, 1), comes_at_once(file)].map(Result::unwrap)
        };
        assert_eq!(ask(), [true; 3]);
        rustix::fs::fadvise(&file, 0, None, rustix::fs::Advice::DontNeed).unwrap();
        // A file system in memory drops nothing.
        let is_in_memory = rustix::fs::fstatfs(&file).unwrap().f_type == 0x0102_1994;
        assert_eq!(ask()[..2], [is_in_memory; 2]);
    }
}
