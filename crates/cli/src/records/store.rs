//! The folder of records, in this user's state folder, readable by the owner only.
//!
//! A record is `NUMBER-TIME.jsonl.zst`, locked by its run while that is going on. Numbers increase whatever the
//! clock does, so that names sort in the order of runs.

use std::fs::{self, DirBuilder, File, OpenOptions, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _, chown};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::fs::{FlockOperation, flock};

use crate::user_folders::state_folder;

/// The longest wait for another run that is adding to the index.
const PATIENCE: Duration = Duration::from_secs(5);

/// Suffix of the name of a record.
const ENDING: &str = ".jsonl.zst";

#[derive(Clone, Debug)]
pub(crate) struct Store {
    folder: PathBuf,
}

/// A record, by its number and name.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Named {
    pub(super) run: u64,
    pub(super) name: String,
}

impl Store {
    /// This user's store; `None` without a known home folder.
    pub(crate) fn find() -> Option<Self> {
        Some(Self { folder: state_folder()?.join("records") })
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(super) fn make(&self) -> io::Result<()> {
        DirBuilder::new().recursive(true).mode(0o700).create(&self.folder)
    }

    /// Makes the store readable for a group, if the user may do that.
    pub(super) fn allow_group(&self, group: Option<u32>, path: &Path) -> io::Result<()> {
        if group.is_none() {
            return Ok(());
        }
        let mode = if path == self.folder { 0o750 } else { 0o640 };
        chown(path, None, group)?;
        fs::set_permissions(path, Permissions::from_mode(mode))
    }

    pub(super) fn index(&self) -> PathBuf {
        self.folder.join("index")
    }

    pub(super) fn record(&self, name: &str) -> PathBuf {
        self.folder.join(format!("{name}{ENDING}"))
    }

    /// The lock on the index.
    pub(super) fn lock(&self) -> io::Result<File> {
        let file = self.folder.join("lock");
        let file =
            OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(file)?;
        let begun = Instant::now();
        while !try_lock(&file) {
            if begun.elapsed() > PATIENCE {
                return Err(io::Error::new(
                    io::ErrorKind::WouldBlock,
                    "another run has locked them",
                ));
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        Ok(file)
    }

    /// All record files, the oldest first.
    pub(super) fn names(&self) -> io::Result<Vec<Named>> {
        let mut names: Vec<Named> = fs::read_dir(&self.folder)?
            .filter_map(|entry| {
                let name = entry.ok()?.file_name().into_string().ok()?;
                Named::of(name.strip_suffix(ENDING)?)
            })
            .collect();
        names.sort();
        Ok(names)
    }
}

impl Named {
    pub(super) fn new(run: u64, time: &str) -> Self {
        Self { run, name: format!("{run:08}-{time}") }
    }

    fn of(name: &str) -> Option<Self> {
        let (number, _) = name.split_once('-')?;
        let run = number.parse().ok()?;
        Some(Self { run, name: name.to_owned() })
    }
}

/// Locks a file, unless another process holds it. Always succeeds on a drive that cannot lock.
pub(super) fn try_lock(file: &File) -> bool {
    flock(file, FlockOperation::NonBlockingLockExclusive) != Err(rustix::io::Errno::WOULDBLOCK)
}
