//! Whether somebody writes to a file: the system lets nobody have a lease for reading on it then.

use std::ffi::c_int;
use std::io;
use std::os::fd::{AsRawFd as _, BorrowedFd};

/// `F_SETSIG`, `F_RDLCK` and `F_UNLCK`, as the system numbers them.
const TELL_BY: c_int = 10;

const FOR_READING: c_int = 0;

const NONE: c_int = 2;

/// True if a file that is open for reading alone is open for writing elsewhere. The lease is given back at once,
/// so that nobody waits for it. Fails for what the caller does not own, and where a drive has no leases.
pub(super) fn is_open_for_writing(file: BorrowedFd<'_>) -> io::Result<bool> {
    // Whoever opens the file while the lease is held makes the system send a signal to this process. The usual one ends it,
    // unless it is caught; this one does nothing.
    ask(file, TELL_BY, libc::SIGURG)?;
    match ask(file, libc::F_SETLEASE, FOR_READING) {
        Ok(()) => ask(file, libc::F_SETLEASE, NONE).map(|()| false),
        Err(error) if error.kind() == io::ErrorKind::WouldBlock => Ok(true),
        Err(error) => Err(error),
    }
}

#[allow(unsafe_code, reason = "the layer over the system's calls has none for leases")]
fn ask(file: BorrowedFd<'_>, command: c_int, number: c_int) -> io::Result<()> {
    // SAFETY: the handle is open as long as it is borrowed, and both commands take a plain number.
    let done = unsafe { libc::fcntl(file.as_raw_fd(), command, number) };
    if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
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

    /// Without a signal of its own choice this ends the whole test.
    #[test]
    fn writers_that_come_while_it_is_asked_end_nothing() {
        let room = tempfile::tempdir().unwrap();
        let path = room.path().join("logbook");
        let reader = File::create(&path).and_then(|_| File::open(&path)).unwrap();
        if is_open_for_writing(reader.as_fd()).is_err() {
            return;
        }
        std::thread::scope(|scope| {
            let writing = scope.spawn(|| {
                (0..2_000).for_each(|_| drop(File::options().append(true).open(&path).unwrap()));
            });
            while !writing.is_finished() {
                is_open_for_writing(reader.as_fd()).unwrap();
            }
        });
    }
}
