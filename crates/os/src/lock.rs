//! Locks of folders: many may share one, or one has it alone.

use std::io;
use std::os::fd::OwnedFd;

use crate::caller::Caller;
use crate::proc;
use crate::stat::Stat;

use rustix::fs::{FlockOperation, flock};
use rustix::io::Errno;

/// Keeps others from a folder's lock as long as it is held; however the process that took it ends, it goes
/// with it.
#[derive(Debug)]
pub struct Lock(OwnedFd);

/// Who else may have a lock at the same time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum LockMode {
    /// Others who share it.
    Shared,
    /// Nobody.
    Alone,
}

impl Lock {
    /// `None` if another keeps it from being taken like this.
    pub(super) fn take(folder: OwnedFd, mode: LockMode) -> io::Result<Option<Self>> {
        let operation = match mode {
            LockMode::Shared => FlockOperation::NonBlockingLockShared,
            LockMode::Alone => FlockOperation::NonBlockingLockExclusive,
        };
        match flock(&folder, operation) {
            Err(Errno::WOULDBLOCK) => Ok(None),
            other => Ok(other.map(|()| Some(Self(folder)))?),
        }
    }
}

/// A process that has a lock.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LockHolder {
    /// Its number.
    pub process: u32,
    /// What it may do; `None` where the system does not tell.
    pub caller: Option<Caller>,
}

/// Who has a lock of this folder, as `/proc/locks` shows; see `proc_locks(5)`.
pub(super) fn holders(folder: &Stat) -> io::Result<Vec<LockHolder>> {
    let locks = std::fs::read_to_string("/proc/locks")?;
    let processes = locks.lines().filter_map(|line| proc::lock_of(line, folder.identity));
    Ok(processes
        .map(|process| {
            let status = std::fs::read_to_string(format!("/proc/{process}/status"));
            let caller = status.ok().and_then(|status| proc::caller_of(&status));
            LockHolder { process, caller }
        })
        .collect())
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
        let take = || Lock::take(File::open(room.path()).unwrap().into(), LockMode::Alone).unwrap();
        let lock = take().unwrap();
        let inherited = lock.0.try_clone().unwrap();
        assert!(take().is_none());
        drop(lock);
        assert!(take().is_some());
        drop(inherited);
    }
}
