//! One run of a job at a time, and whether the last one ended: a locked file holds the process number of the run,
//! and is emptied when it ends.

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::{FlockOperation, flock};

use crate::signals::Signals;
use crate::user_folders::state_folder;

/// Attempts to lock before the job counts as running.
const TRIES: u32 = 10;

/// The time between attempts while waiting.
const MOMENT: Duration = Duration::from_millis(200);

/// The result of locking a job.
pub(crate) enum LockAttempt {
    /// No other process runs it while this is held.
    Ours(JobLock),
    /// This process runs it, according to the file.
    Of(Option<u32>),
}

/// The lock on a job; `None` where there is no state folder.
#[derive(Default)]
pub(crate) struct JobLock(Option<File>);

impl JobLock {
    /// Records that the job ended, with whatever result.
    pub(crate) fn release(self) {
        // On failure the job looks as if it had been killed, until its next run.
        let _ = self.0.map(|file| file.set_len(0));
    }
}

/// The state of a job's lock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LockState {
    Ended,
    GoingOn,
    CutShort,
}

/// Whether a job is running, or was killed.
pub(crate) fn look(jobs: &Path, name: &str) -> LockState {
    let Some(file) = path(jobs, name).and_then(|path| File::open(path).ok()) else {
        return LockState::Ended;
    };
    match flock(&file, FlockOperation::NonBlockingLockShared) {
        Err(rustix::io::Errno::WOULDBLOCK) => LockState::GoingOn,
        _ if file.metadata().is_ok_and(|meta| meta.len() > 0) => LockState::CutShort,
        _ => LockState::Ended,
    }
}

/// Locks a job of a file.
pub(crate) fn take(jobs: &Path, name: &str) -> LockAttempt {
    // A failed write does not stop the job.
    let Some(file) = path(jobs, name).and_then(|path| open(&path).ok().map(|file| (path, file)))
    else {
        return LockAttempt::Ours(JobLock::default());
    };
    let (path, mut file) = file;
    let mut tries = 0..TRIES;
    let locked = loop {
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            // Another process may be looking at the lock for a moment.
            Err(rustix::io::Errno::WOULDBLOCK) if tries.next().is_some() => {
                std::thread::sleep(Duration::from_millis(5));
            }
            other => break other,
        }
    };
    match locked {
        Ok(()) => {
            let _ = file.set_len(0);
            let _ = write!(file, "{}", std::process::id());
            LockAttempt::Ours(JobLock(Some(file)))
        }
        Err(rustix::io::Errno::WOULDBLOCK) => {
            let process = fs::read_to_string(path).ok();
            LockAttempt::Of(process.and_then(|process| process.trim().parse().ok()))
        }
        Err(_) => LockAttempt::Ours(JobLock::default()),
    }
}

/// Waits for a job, until a signal comes.
pub(crate) fn wait(jobs: &Path, name: &str, signals: &Signals) -> LockAttempt {
    loop {
        match take(jobs, name) {
            LockAttempt::Of(_) if signals.caught().is_none() => std::thread::sleep(MOMENT),
            turn => return turn,
        }
    }
}

/// Two files may have jobs of the same name.
fn path(jobs: &Path, name: &str) -> Option<PathBuf> {
    let mut hasher = DefaultHasher::new();
    (jobs.canonicalize().ok()?, name).hash(&mut hasher);
    Some(state_folder()?.join(format!("jobs/{:016x}", hasher.finish())))
}

fn open(path: &Path) -> io::Result<File> {
    if let Some(above) = path.parent() {
        DirBuilder::new().recursive(true).mode(0o700).create(above)?;
    }
    OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(path)
}
