//! A source and its destination.

use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use utter_echo_drives::disk_order::RotationalDisks;
use utter_echo_os::System;

use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Cause;
use utter_echo_os::Stat;

/// Why the two sides cannot be opened.
#[derive(Debug, thiserror::Error)]
pub enum CallError {
    /// The source does not exist.
    #[error("source '{0}' does not exist\n  check the spelling, and that its drive is mounted")]
    NoSource(String),
    /// The destination does not exist, for a task that needs it.
    #[error(
        "destination '{0}' does not exist, so there is nothing to compare with\n  check the spelling, and that its drive is mounted"
    )]
    NoDestination(String),
    /// The destination of a run to undo does not exist.
    #[error(
        "'{0}', which that run changed, does not exist\n  check that its drive is mounted; if it was removed, 'utter undo --discard RUN' frees the space of the run"
    )]
    Gone(String),
    /// A component of a path cannot be opened.
    #[error("'{path}' cannot be opened: {}", lower(cause))]
    Closed {
        /// As given.
        path: String,
        /// The system's word.
        cause: io::Error,
    },
    /// A mirror of something that is not a folder.
    #[error(
        "mirror needs a folder as its source, and '{0}' is not one\n  use copy for a single file"
    )]
    NotAFolder(String),
    /// A file where a folder must go.
    #[error(
        "destination '{0}' is not a folder, and a folder must go there\n  name another destination or move that file away"
    )]
    FileInTheWay(String),
    /// A link that leads nowhere, or that must not be followed.
    #[error(
        "destination '{0}' is a symbolic link that does not point to a folder\n  name the folder itself"
    )]
    LinkInTheWay(String),
    /// `..` after a folder that does not exist.
    #[error("destination '{0}' goes up from a folder that does not exist\n  write it without '..'")]
    UpFromNowhere(String),
    /// Two sources with one name.
    #[error(
        "sources '{0}' and '{1}' would both become '{2}' in the destination\n  copy them one at a time, to different places"
    )]
    SameName(String, String, String),
    /// A source of a move that is given twice.
    #[error("sources '{0}' and '{1}' are the same folder\n  name it once")]
    SameSource(String, String),
    /// A source of a move that lies in another source.
    #[error("source '{1}' is inside '{0}', which is moved as a whole\n  name only one of them")]
    WithinSource(String, String),
    /// A source that has no name of its own, like the root of the system.
    #[error("source '{0}' has no name to use inside the destination\n  leave out --inside")]
    NoName(String),
    /// The system does not show who the user is.
    #[error(
        "cannot determine the privileges of this process: {}\n  /proc must be mounted and readable: mount -t proc proc /proc",
        lower(.0)
    )]
    Caller(io::Error),
}

fn lower(error: &io::Error) -> String {
    Cause::from(io::Error::new(error.kind(), error.to_string())).to_string()
}

/// A source and its destination.
#[derive(Debug)]
pub(crate) struct Pair {
    pub(crate) source: OwnedFd,
    pub(crate) source_stat: Stat,
    pub(crate) destination: RootPath,
    /// Set if the source is a single entry of this folder.
    pub(crate) single: Option<SingleEntry>,
    /// The path of the pair's root below the destination as the user named it.
    pub(crate) prefix: TreePath,
    /// For messages.
    pub(crate) source_shown: String,
    pub(crate) destination_shown: String,
    pub(crate) destination_path: PathBuf,
}

/// The names of a single entry on both sides.
#[derive(Debug)]
pub(crate) struct SingleEntry {
    pub(crate) source: Vec<u8>,
    pub(crate) destination: Vec<u8>,
}

/// A folder that may not exist yet.
#[derive(Debug)]
pub(crate) struct RootPath {
    /// The deepest existing folder of the path.
    pub(crate) anchor: OwnedFd,
    pub(crate) anchor_stat: Stat,
    /// The missing folders below it, the highest first.
    pub(crate) missing: Vec<Vec<u8>>,
}

impl RootPath {
    pub(crate) fn exists(&self) -> bool {
        self.missing.is_empty()
    }
}

impl Pair {
    /// The rotational disks of the two roots, if any.
    pub(crate) fn disks(&self, system: &dyn System) -> RotationalDisks {
        let (here, there) = (self.source_stat.identity, self.destination.anchor_stat.identity);
        RotationalDisks::of(system, here.drive, there.drive)
    }
}

/// Parent and last name; `None` for a path that ends in `..` or is a root.
pub(crate) fn split(path: &Path) -> Option<(PathBuf, Vec<u8>)> {
    let name = path.file_name()?.as_bytes().to_vec();
    let parent = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Some((parent.to_path_buf(), name))
}
