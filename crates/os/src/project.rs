//! The number of the quota project that a file or folder counts for.

use std::io;
use std::os::fd::{AsRawFd as _, BorrowedFd};

/// `FS_IOC_FSGETXATTR`, see `linux/fs.h`.
const GET: libc::Ioctl = 0x801C_581F_u32 as libc::Ioctl;

/// `struct fsxattr`.
#[repr(C)]
#[derive(Default)]
struct Extended {
    flags: u32,
    extent_size: u32,
    extents: u32,
    project: u32,
    shared_extent_size: u32,
    padding: [u8; 8],
}

/// The number of an open file or folder; 0 for none.
#[allow(unsafe_code, reason = "the layer over the system's calls does not have this one")]
pub(super) fn of(entry: BorrowedFd<'_>) -> io::Result<u32> {
    let mut answer = Extended::default();
    // SAFETY: the handle is open as long as it is borrowed, and the kernel fills this structure alone.
    let done = unsafe { libc::ioctl(entry.as_raw_fd(), GET, &raw mut answer) };
    if done == 0 { Ok(answer.project) } else { Err(io::Error::last_os_error()) }
}
