//! Where records are: a folder of this user's state, for the owner alone.
//!
//! A record is `NUMBER-TIME.jsonl.zst`, locked by its run as long as that goes on. The numbers count up whatever the
//! clock does, so that the names sort in the order of the runs.

use std::fs::{self, DirBuilder, File, OpenOptions, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _, chown};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::fs::{FlockOperation, flock};

use crate::user_folders::state_folder;

/// For how long another run may be adding to the index; it takes a moment.
const PATIENCE: Duration = Duration::from_secs(5);

/// What the name of a record ends with.
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
    /// This user's; `None` where nothing tells where their home is.
    pub(crate) fn find() -> Option<Self> {
        Some(Self { folder: state_folder()?.join("records") })
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(super) fn make(&self) -> io::Result<()> {
        DirBuilder::new().recursive(true).mode(0o700).create(&self.folder)
    }

    /// Lets the people of a group read what is there, if they may.
    pub(super) fn let_in(&self, group: Option<u32>, path: &Path) -> io::Result<()> {
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

    /// Keeps others from changing the index as long as it is held.
    pub(super) fn lock(&self) -> io::Result<File> {
        let file = self.folder.join("lock");
        let file =
            OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(file)?;
        let begun = Instant::now();
        while !try_lock(&file) {
            if begun.elapsed() > PATIENCE {
                return Err(io::Error::new(io::ErrorKind::WouldBlock, "another run holds them"));
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        Ok(file)
    }

    /// All records that there are files of, the oldest first.
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

/// Locks a file, unless somebody else has it. On a drive that cannot lock nobody has.
pub(super) fn try_lock(file: &File) -> bool {
    flock(file, FlockOperation::NonBlockingLockExclusive) != Err(rustix::io::Errno::WOULDBLOCK)
}
