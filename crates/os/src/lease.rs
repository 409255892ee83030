//! Leases of files: the system gives nobody one for reading while somebody writes, and makes who would write wait.

use std::ffi::c_int;
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, BorrowedFd, OwnedFd};

/// `F_SETSIG`, `F_RDLCK` and `F_UNLCK`, as the system numbers them.
const TELL_BY: c_int = 10;

const FOR_READING: c_int = 0;

const NONE: c_int = 2;

/// Keeps others from opening a file for writing, until it is given back or they have waited for as long as the system
/// lets them.
#[derive(Debug)]
pub struct Lease(OwnedFd);

impl Lease {
    /// `None` if somebody else has the file, which is open for reading alone, open for writing. Fails for what the
    /// caller does not own, and where a drive has no leases.
    pub(super) fn take(file: OwnedFd) -> io::Result<Option<Self>> {
        // Whoever opens the file while the lease is held makes the system send a signal to this process. The usual one
        // ends it, unless it is caught; this one does nothing.
        ask(file.as_fd(), TELL_BY, libc::SIGURG)?;
        match ask(file.as_fd(), libc::F_SETLEASE, FOR_READING) {
            Ok(_) => Ok(Some(Self(file))),
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// True as long as nobody waits to write.
    pub fn is_whole(&self) -> bool {
        ask(self.0.as_fd(), libc::F_GETLEASE, 0).is_ok_and(|kind| kind == FOR_READING)
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        // The handle may be shared, so closing it is not enough.
        let _ = ask(self.0.as_fd(), libc::F_SETLEASE, NONE);
    }
}

#[allow(unsafe_code, reason = "the layer over the system's calls has none for leases")]
fn ask(file: BorrowedFd<'_>, command: c_int, number: c_int) -> io::Result<c_int> {
    // SAFETY: the handle is open as long as it is borrowed, and all commands take a plain number.
    let said = unsafe { libc::fcntl(file.as_raw_fd(), command, number) };
    if said >= 0 { Ok(said) } else { Err(io::Error::last_os_error()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::File;

    fn take(file: &File) -> io::Result<Option<Lease>> {
        Lease::take(file.try_clone().unwrap().into())
    }

    #[test]
    fn a_writer_is_seen_before_and_while_a_lease_is_held() {
        let room = tempfile::tempdir().unwrap();
        let path = room.path().join("logbook");
        let writer = File::create(&path).unwrap();
        let reader = File::open(&path).unwrap();
        // Drives without leases tell nothing.
        let Ok(taken) = take(&reader) else { return };
        assert!(taken.is_none());
        drop(writer);
        let lease = take(&reader).unwrap().unwrap();
        assert!(lease.is_whole());
        std::thread::scope(|scope| {
            let writing = scope.spawn(|| File::options().append(true).open(&path).unwrap());
            while lease.is_whole() {
                std::thread::yield_now();
            }
            drop(lease);
            writing.join().unwrap();
        });
        assert!(take(&reader).unwrap().unwrap().is_whole());
    }

    /// Without a signal of its own choice this ends the whole test.
    #[test]
    fn writers_that_arrive_during_the_question_end_nothing() {
        let room = tempfile::tempdir().unwrap();
        let path = room.path().join("logbook");
        let reader = File::create(&path).and_then(|_| File::open(&path)).unwrap();
        if take(&reader).is_err() {
            return;
        }
        std::thread::scope(|scope| {
            let writing = scope.spawn(|| {
                (0..2_000).for_each(|_| drop(File::options().append(true).open(&path).unwrap()));
            });
            while !writing.is_finished() {
                take(&reader).unwrap();
            }
        });
    }
}
