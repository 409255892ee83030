//! The store of runs: a folder in which each run that needs it keeps what it must know later.
//!
//! A run has a folder there, named after the time of its beginning, for what it sets aside; and beside
//! it, as `NAME.notes`, what it writes down. Five small parts: who uses a run ([`lock`]), which there are
//! ([`list`]), writing ([`recorder`]), reading ([`reader`]), and which may go ([`retention`]). None of
//! them knows what the notes say.
//!
//! Notes are lines that are only ever added, each with its number and a checksum ([`frame`]). Some are
//! marks that tell how far the run has come: see [`Standing`].

mod frame;
mod list;
mod lock;
mod reader;
mod recorder;
mod retention;

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};

use crate::os::{Entry, Lock, System, is_unsupported};

pub(crate) use frame::Mark;
pub(crate) use lock::Hold;
pub use reader::Standing;
pub(crate) use reader::{Notes, Unreadable};
pub(crate) use recorder::Recorder;

/// What the name of a run's notes ends with.
pub(crate) const NOTES: &str = ".notes";

/// A folder of runs. It may hold other things: they are nobody's business here.
pub(crate) struct Store<'a> {
    system: &'a dyn System,
    folder: OwnedFd,
}

/// A run that has just got its place in the store.
pub(crate) struct NewRun<'a> {
    pub(crate) name: String,
    /// For what it sets aside.
    pub(crate) folder: OwnedFd,
    pub(crate) recorder: Recorder<'a>,
    /// Keeps others from the run as long as it is held; nothing where the drive cannot lock.
    pub(crate) lock: Option<Lock>,
}

impl<'a> Store<'a> {
    pub(crate) fn of(system: &'a dyn System, folder: OwnedFd) -> Self {
        Self { system, folder }
    }

    pub(crate) fn folder(&self) -> BorrowedFd<'_> {
        self.folder.as_fd()
    }
}

/// Gives what was just made its mode, whatever the umask took away of it, on drives that have modes.
pub(crate) fn grant(system: &dyn System, entry: Entry<'_>, mode: u32) -> io::Result<()> {
    match system.set_mode(entry, mode) {
        Err(e) if is_unsupported(&e) || e.kind() == ErrorKind::PermissionDenied => Ok(()),
        other => other,
    }
}

fn notes_of(run: &str) -> Vec<u8> {
    format!("{run}{NOTES}").into_bytes()
}
