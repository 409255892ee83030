//! Whether somebody writes to a file: the system lets nobody have a lease for reading on it then.

use std::ffi::c_int;
use std::io;
use std::os::fd::{AsRawFd as _, BorrowedFd};

/// `F_RDLCK` and `F_UNLCK`, as `F_SETLEASE` takes them.
const FOR_READING: c_int = 0;
const NONE: c_int = 2;

/// True if a file that is open for reading alone is open for writing elsewhere. The lease is given back at once,
/// so that nobody waits for it. Fails for what the caller does not own, and where a drive has no leases.
#[allow(unsafe_code, reason = "the layer over the system's calls has none for leases")]
pub(super) fn is_open_for_writing(file: BorrowedFd<'_>) -> io::Result<bool> {
    let lease = |kind: c_int| {
        // SAFETY: the handle is open as long as it is borrowed, and the command takes a plain number.
        let done = unsafe { libc::fcntl(file.as_raw_fd(), libc::F_SETLEASE, kind) };
        if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
    };
    match lease(FOR_READING) {
        Ok(()) => lease(NONE).map(|()| false),
        Err(error) if error.kind() == io::ErrorKind::WouldBlock => Ok(true),
        Err(error) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::File;
    use std::os::fd::AsFd as _;

    #[test]
    fn a_writer_is_seen_as_long_as_it_writes() {
        let room = tempfile::tempdir().unwrap();
        let path = room.path().join("logbook");
        let writer = File::create(&path).unwrap();
        let reader = File::open(&path).unwrap();
        // Drives without leases tell nothing.
        let Ok(told) = is_open_for_writing(reader.as_fd()) else { return };
        assert!(told);
        drop(writer);
        assert!(!is_open_for_writing(reader.as_fd()).unwrap());
    }
}
