//! Writing the changed content of one file to its drive, without its metadata.

use std::io;
use std::os::fd::{AsRawFd as _, BorrowedFd};

/// Waits for writes under way, starts the others, and waits for those.
const ALL: u32 = libc::SYNC_FILE_RANGE_WAIT_BEFORE
    | libc::SYNC_FILE_RANGE_WRITE
    | libc::SYNC_FILE_RANGE_WAIT_AFTER;

#[allow(unsafe_code, reason = "the layer over the system's calls does not have this one")]
pub(super) fn write_back(file: BorrowedFd<'_>) -> io::Result<()> {
    loop {
        // SAFETY: the handle is open as long as it is borrowed, and the other arguments are plain numbers.
        let done = unsafe { libc::sync_file_range(file.as_raw_fd(), 0, 0, ALL) };
        if done == 0 {
            return Ok(());
        }
        let error = io::Error::last_os_error();
        if error.kind() != io::ErrorKind::Interrupted {
            return Err(error);
        }
    }
}
