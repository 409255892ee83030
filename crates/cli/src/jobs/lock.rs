//! One run of a job at a time.

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::{FlockOperation, flock};

use crate::context::state_folder;
use crate::signals::Signals;

/// How often somebody who waits looks again.
const MOMENT: Duration = Duration::from_millis(200);

/// What came of asking for a job.
pub(crate) enum Turn {
    /// Nobody else runs it as long as this is held; nothing where there is no place for a lock.
    Ours(Option<File>),
    /// This process runs it, as far as that can be told.
    Of(Option<u32>),
}

/// Asks for a job of a file.
pub(crate) fn take(jobs: &Path, name: &str) -> Turn {
    // Whoever cannot write it down runs the job all the same.
    let Some(file) = path(jobs, name).and_then(|path| open(&path).ok().map(|file| (path, file)))
    else {
        return Turn::Ours(None);
    };
    let (path, mut file) = file;
    match flock(&file, FlockOperation::NonBlockingLockExclusive) {
        Ok(()) => {
            let _ = file.set_len(0);
            let _ = write!(file, "{}", std::process::id());
            Turn::Ours(Some(file))
        }
        Err(rustix::io::Errno::WOULDBLOCK) => {
            let process = fs::read_to_string(path).ok();
            Turn::Of(process.and_then(|process| process.trim().parse().ok()))
        }
        Err(_) => Turn::Ours(None),
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
    Some(state_folder()?.join(format!("utter-echo/jobs/{:016x}", hasher.finish())))
}

fn open(path: &Path) -> io::Result<File> {
    if let Some(above) = path.parent() {
        DirBuilder::new().recursive(true).mode(0o700).create(above)?;
    }
    OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(path)
}
