//! Who uses a run.

use std::os::fd::AsFd as _;
use std::time::{Duration, Instant};

use utter_echo_os::{Lock, LockMode};

use crate::journal::store::RunStore;

/// What came of asking for a run.
pub(crate) enum Hold {
    /// Nobody else has it as long as this is held.
    Ours(Lock),
    /// It is going on, being undone, or about to be removed.
    InUse,
    /// Nothing keeps others from it: the drive cannot lock, or there is no folder.
    Unknown,
}

/// For how long another may be making a run, or looking for some to remove.
const PATIENCE: Duration = Duration::from_secs(10);

impl RunStore<'_> {
    /// Asks for a run, without waiting.
    pub(crate) fn hold(&self, run: &str) -> Hold {
        let own = self.system.open_folder(self.folder(), run.as_bytes());
        match own.map(|own| self.system.lock(own.as_fd(), LockMode::Alone)) {
            Ok(Ok(Some(lock))) => Hold::Ours(lock),
            Ok(Ok(None)) => Hold::InUse,
            _ => Hold::Unknown,
        }
    }

    /// Does something while nobody else makes a run here or looks for some to remove. Both take a moment
    /// only; somebody who takes longer hangs, and is not waited for.
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
