//! The one lock that a folder has.

use std::io;
use std::os::fd::OwnedFd;

use rustix::fs::{FlockOperation, flock};
use rustix::io::Errno;

/// Keeps others from a folder's lock as long as it is held; however the process that took it ends, it goes
/// with it.
#[derive(Debug)]
pub struct Lock(OwnedFd);

impl Lock {
    /// `None` if another holds it.
    pub(super) fn take(folder: OwnedFd) -> io::Result<Option<Self>> {
        match flock(&folder, FlockOperation::NonBlockingLockExclusive) {
            Err(Errno::WOULDBLOCK) => Ok(None),
            other => Ok(other.map(|()| Some(Self(folder)))?),
        }
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        // Closing the handle is not enough: a program that is just being started has one, too, until it runs.
        let _ = flock(&self.0, FlockOperation::Unlock);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::File;

    #[test]
    fn a_lock_that_was_given_back_is_free_though_a_started_program_has_its_handle() {
        let room = tempfile::tempdir().unwrap();
        let take = || Lock::take(File::open(room.path()).unwrap().into()).unwrap();
        let lock = take().unwrap();
        let inherited = lock.0.try_clone().unwrap();
        assert!(take().is_none());
        drop(lock);
        assert!(take().is_some());
        drop(inherited);
    }
}
