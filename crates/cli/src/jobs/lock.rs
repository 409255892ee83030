//! One run of a job at a time, and whether the last one came to its end: a file holds the number of the process that
//! runs the job, which locks it, and is empty once that has ended.

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::{FlockOperation, flock};

use crate::signals::Signals;
use crate::user_folders::state_folder;

/// How often a lock is asked for before somebody is taken to run the job.
const TRIES: u32 = 10;

/// How often somebody who waits looks again.
const MOMENT: Duration = Duration::from_millis(200);

/// What came of asking for a job.
pub(crate) enum Turn {
    /// Nobody else runs it as long as this is held.
    Ours(JobLock),
    /// This process runs it, as far as that can be told.
    Of(Option<u32>),
}

/// Keeps others from a job; nothing where there is no place for a lock.
#[derive(Default)]
pub(crate) struct JobLock(Option<File>);

impl JobLock {
    /// The job came to its end, however that was.
    pub(crate) fn release(self) {
        // Else the job looks as if it had been cut short, which the next run mends.
        let _ = self.0.map(|file| file.set_len(0));
    }
}

/// What a job's lock tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Look {
    Ended,
    GoingOn,
    CutShort,
}

/// Whether a job is being run, or was cut short.
pub(crate) fn look(jobs: &Path, name: &str) -> Look {
    let Some(file) = path(jobs, name).and_then(|path| File::open(path).ok()) else {
        return Look::Ended;
    };
    match flock(&file, FlockOperation::NonBlockingLockShared) {
        Err(rustix::io::Errno::WOULDBLOCK) => Look::GoingOn,
        _ if file.metadata().is_ok_and(|meta| meta.len() > 0) => Look::CutShort,
        _ => Look::Ended,
    }
}

/// Asks for a job of a file.
pub(crate) fn take(jobs: &Path, name: &str) -> Turn {
    // Whoever cannot write it down runs the job all the same.
    let Some(file) = path(jobs, name).and_then(|path| open(&path).ok().map(|file| (path, file)))
    else {
        return Turn::Ours(JobLock::default());
    };
    let (path, mut file) = file;
    let mut tries = 0..TRIES;
    let locked = loop {
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            // Somebody may just be looking.
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
            Turn::Ours(JobLock(Some(file)))
        }
        Err(rustix::io::Errno::WOULDBLOCK) => {
            let process = fs::read_to_string(path).ok();
            Turn::Of(process.and_then(|process| process.trim().parse().ok()))
        }
        Err(_) => Turn::Ours(JobLock::default()),
    }
}

/// Waits for a job, until a signal comes.
pub(crate) fn wait(jobs: &Path, name: &str, signals: &Signals) -> Turn {
    loop {
        match take(jobs, name) {
            Turn::Of(_) if signals.caught().is_none() => std::thread::sleep(MOMENT),
            turn => return turn,
        }
    }
}

/// Two files may each have a job of one name.
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
