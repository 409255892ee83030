//! What the tests of all crates share.
//!
//! [`Gardener`] grows trees at random and changes them; [`snapshot()`] reads a tree without any code
//! of the core, so that the two can be held against each other; [`Tampered`] stands between the
//! core and the system, counts the calls and fails those it is told to; [`MountedDrive`] is a file
//! system of any kind, made for a test; [`LyingDrive`] one that does not tell the truth; [`SlowDrive`]
//! one that takes its time, and [`Aged`] a tree as it lies on an old one; [`world`] makes small trees with options at random, and
//! [`model`] tells what those options take, sharing nothing with the core.

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

/// A temporary folder in memory, where that can be had, for tests that make hundreds of trees.
///
/// # Errors
/// If none can be made anywhere.
pub fn folder_in_memory() -> io::Result<TempDir> {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir())
}

/// Says in one line what a test could not do here, past the test runner, which would keep it to itself.
/// Where everything must have been tried (`UTTER_LAB` is set), that is a failure.
///
/// # Panics
/// If everything must have been tried.
pub fn left_out(what: impl std::fmt::Display) {
    use std::io::Write as _;
    assert!(std::env::var_os("UTTER_LAB").is_none(), "left out, and must not be: {what}");
    // Nobody is told if nobody can be.
    let _ = writeln!(io::stderr(), "left out: {what}");
}
