//! The system's cache of a block device.

use std::io;
use std::os::fd::{AsRawFd as _, BorrowedFd};

/// `BLKFLSBUF`, see `linux/fs.h`.
const FORGET: libc::Ioctl = 0x1261;

/// Drops the cache, so that the next read comes from the device. Only an administrator may do that.
#[allow(unsafe_code, reason = "the layer over the system's calls does not have this one")]
pub(super) fn forget(device: BorrowedFd<'_>) -> io::Result<()> {
    // SAFETY: the handle is open as long as it is borrowed, and the command takes a plain number.
    let done = unsafe { libc::ioctl(device.as_raw_fd(), FORGET, 0) };
    if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}
