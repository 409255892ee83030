//! Mounted file systems and their space.

use std::path::PathBuf;

/// A mounted file system.
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
    /// The mounted part: the path of a folder within it, `/` for all of it.
    pub part: PathBuf,
    /// It may be written to.
    pub writable: bool,
}

/// Space on a drive, as far as the caller may use it.
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
