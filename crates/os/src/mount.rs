//! Mounted file systems, and the space on them.

use std::path::PathBuf;

/// A line of the system's list of mounted file systems.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mount {
    /// Where it is mounted.
    pub point: PathBuf,
    /// The system's word for its kind.
    pub kind: String,
    /// The device, or whatever stands for one.
    pub device: PathBuf,
    /// Device number, as in `Identity::drive`.
    pub drive: u64,
    /// What of it is mounted: the path of a folder there, `/` for all of it.
    pub part: PathBuf,
    /// It may be written to.
    pub writable: bool,
}

/// Room on a drive, as the caller may use it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Space {
    /// Bytes in all.
    pub total: u64,
    /// Unit of allocation in bytes.
    pub block: u64,
    /// Free bytes.
    pub bytes: u64,
    /// Free inodes; `None` where the file system does not count them.
    pub inodes: Option<u64>,
}
