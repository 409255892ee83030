//! The store of runs: a folder with the journals and set-aside entries of runs.
//!
//! A run has a folder there, named after its start, for its set-aside entries, and beside it `NAME.notes`, its
//! journal. Five small parts: locks (`lock`), the list of runs (`list`), writing (`recorder`), reading (`reader`)
//! and removal of old runs (`retention`). None of them knows what the lines mean.
//!
//! A journal is append-only; each line has a number and a checksum (`frame`). Some lines are marks that show how
//! far the run came: see `Standing`.

use std::ffi::OsStr;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::path::Path;

use utter_echo_os::{Entry, System, is_unsupported};

pub(crate) fn open_store<'a>(system: &'a dyn System, path: &Path) -> io::Result<RunStore<'a>> {
    let root = system.open_root(path)?;
    Ok(RunStore::of(system, system.open_folder(root.as_fd(), b"")?))
}

/// The store of the run whose folder or journal lies at `path`, and the name of the run.
pub(crate) fn locate<'a>(
    system: &'a dyn System,
    path: &Path,
) -> io::Result<(RunStore<'a>, String)> {
    let name = path.file_name().and_then(OsStr::to_str).ok_or(ErrorKind::NotFound)?;
    let name = name.strip_suffix(NOTES).unwrap_or(name).to_owned();
    let above = path.parent().filter(|above| !above.as_os_str().is_empty());
    Ok((open_store(system, above.unwrap_or(Path::new(".")))?, name))
}

/// The runs in a set-aside folder, the oldest first.
pub(crate) fn runs_below(system: &dyn System, path: &Path) -> Vec<String> {
    let runs = open_store(system, path).and_then(|store| store.names()).unwrap_or_default();
    runs.into_iter().map(|run| path.join(run).to_string_lossy().into_owned()).collect()
}

/// Suffix of the name of a journal.
pub(crate) const NOTES: &str = ".notes";

/// A folder of runs. Other things in it are ignored.
pub(crate) struct RunStore<'a> {
    pub(crate) system: &'a dyn System,
    folder: OwnedFd,
}

impl<'a> RunStore<'a> {
    pub(crate) fn of(system: &'a dyn System, folder: OwnedFd) -> Self {
        Self { system, folder }
    }

    pub(crate) fn folder(&self) -> BorrowedFd<'_> {
        self.folder.as_fd()
    }
}

/// Sets the mode of a new entry, whatever the umask, on drives that have modes.
pub(crate) fn grant(system: &dyn System, entry: Entry<'_>, mode: u32) -> io::Result<()> {
    match system.set_mode(entry, mode) {
        Err(e) if is_unsupported(&e) || e.kind() == ErrorKind::PermissionDenied => Ok(()),
        other => other,
    }
}

pub(crate) fn journal_of(run: &str) -> Vec<u8> {
    format!("{run}{NOTES}").into_bytes()
}
