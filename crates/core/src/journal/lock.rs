//! Locks of runs.

use std::io;
use std::os::fd::AsFd as _;
use std::time::{Duration, Instant};

use utter_echo_os::{Lock, LockMode};

use crate::journal::store::RunStore;

/// The result of locking a run.
pub(crate) enum RunLock {
    /// Nobody else uses it while this is held.
    Ours(Lock),
    /// It is running, being undone, or being removed.
    InUse,
    /// No lock: the drive cannot lock, or there is no folder.
    Unknown,
}

/// The longest wait for another process that starts a run or looks for runs to remove.
const PATIENCE: Duration = Duration::from_secs(10);

impl RunStore<'_> {
    /// Locks a run, without waiting.
    pub(crate) fn hold(&self, run: &str) -> RunLock {
        let own = self.system.open_folder(self.folder(), run.as_bytes());
        match own.map(|own| self.system.lock(own.as_fd(), LockMode::Alone)) {
            Ok(Ok(Some(lock))) => RunLock::Ours(lock),
            Ok(Ok(None)) => RunLock::InUse,
            _ => RunLock::Unknown,
        }
    }

    /// The same, waiting for a process that looks at the run or begins to undo it. Fails if it does not let go.
    pub(crate) fn hold_soon(&self, run: &str) -> io::Result<Option<Lock>> {
        let begun = Instant::now();
        loop {
            match self.hold(run) {
                RunLock::Ours(lock) => return Ok(Some(lock)),
                RunLock::Unknown => return Ok(None),
                RunLock::InUse if begun.elapsed() < PATIENCE => {
                    std::thread::sleep(Duration::from_millis(5));
                }
                RunLock::InUse => return Err(io::ErrorKind::ResourceBusy.into()),
            }
        }
    }

    /// Does something while no other process starts a run here or looks for runs to remove. Both are quick; a
    /// process that takes longer hangs, and is not waited for.
    pub(crate) fn alone<T>(&self, work: impl FnOnce() -> T) -> T {
        let begun = Instant::now();
        let lock = loop {
            match self.system.lock(self.folder(), LockMode::Alone) {
                Ok(None) if begun.elapsed() < PATIENCE => {
                    std::thread::sleep(Duration::from_millis(5));
                }
                other => break other,
            }
        };
        let done = work();
        drop(lock);
        done
    }
}
