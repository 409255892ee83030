//! What the tests of all crates share.
//!
//! [`Gardener`] makes random trees and changes them; [`snapshot()`] reads a tree without any code of the core, so
//! that two can be compared; [`Tampered`] stands between the core and the system, counts the calls and makes chosen
//! ones fail; [`MountedDrive`] is a file system of any kind, made for a test; [`LyingDrive`] one that lies;
//! [`SlowDrive`] a slow one, and [`Aged`] a fragmented tree on it; [`world`] makes small random trees with random
//! options, and [`model`] decides what those options select, sharing nothing with the core.

use std::io;

use tempfile::TempDir;

mod aged;
mod drives;
mod gardener;
mod late;
mod lying;
pub mod model;
mod slow;
mod snapshot;
mod tampered;
pub mod world;

pub use aged::{Aged, read_in_order};
pub use drives::{DriveKind, MountedDrive};
pub use gardener::{Gardener, is_root};
pub use lying::{Lies, LyingDrive, Taking};
pub use slow::{Done, Model, SlowDrive};
pub use snapshot::{Facts, Snapshot, differences, snapshot};
pub use tampered::{ERRORS, Tampered, Tampering};

/// A temporary folder in memory if possible, for tests that make hundreds of trees.
///
/// # Errors
/// No such folder can be made.
pub fn folder_in_memory() -> io::Result<TempDir> {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir())
}

/// Reports in one line what a test could not do here, bypassing the test runner, which would hide it. If everything
/// is required (`UTTER_LAB` is set), that is a failure.
///
/// # Panics
/// Everything is required.
pub fn left_out(what: impl std::fmt::Display) {
    use std::io::Write as _;
    assert!(std::env::var_os("UTTER_LAB").is_none(), "left out, and must not be: {what}");
    // A failure to report is ignored.
    let _ = writeln!(io::stderr(), "left out: {what}");
}
