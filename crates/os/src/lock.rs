//! Locks of folders, shared or exclusive.

use std::io;
use std::os::fd::OwnedFd;

use crate::caller::Caller;
use crate::proc;
use crate::stat::Stat;

use rustix::fs::{FlockOperation, flock};
use rustix::io::Errno;

/// A lock of a folder, held as long as this value lives. It ends with its process, however that ends.
#[derive(Debug)]
pub struct Lock(OwnedFd);

/// Whether others may hold the lock at the same time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum LockMode {
    /// Others who share it.
    Shared,
    /// Nobody.
    Alone,
}

impl Lock {
    /// `None` if a lock of another process is in the way.
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
    /// Its rights; `None` where the system does not show them.
    pub caller: Option<Caller>,
}

/// The process that holds a lock of this folder, from `/proc/locks`; see `proc_locks(5)`.
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
        // Closing the handle is not enough: a child process that is just being started holds a copy until it runs
        // its program.
        let _ = flock(&self.0, FlockOperation::Unlock);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::File;

    #[test]
    fn a_released_lock_is_free_though_a_started_program_has_its_handle() {
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
