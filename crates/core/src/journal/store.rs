//! The store of runs: a folder in which each run that needs it keeps what it must know later.
//!
//! A run has a folder there, named after the time of its beginning, for what it sets aside; and beside
//! it, as `NAME.notes`, what it writes down. Five small parts: who uses a run (`lock`), which there are
//! (`list`), writing (`recorder`), reading (`reader`), and which may go (`retention`). None of
//! them knows what the notes say.
//!
//! Notes are lines that are only ever added, each with its number and a checksum (`frame`). Some are
//! marks that tell how far the run has come: see `Standing`.

use std::ffi::OsStr;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::path::Path;

use utter_echo_os::{Entry, System, is_unsupported};

pub(crate) fn open_store<'a>(system: &'a dyn System, path: &Path) -> io::Result<RunStore<'a>> {
    let root = system.open_root(path)?;
    Ok(RunStore::of(system, system.open_folder(root.as_fd(), b"")?))
}

/// The store that holds the run whose folder, or notes, lie at `path`, and the name of the run.
pub(crate) fn locate<'a>(
    system: &'a dyn System,
    path: &Path,
) -> io::Result<(RunStore<'a>, String)> {
    let name = path.file_name().and_then(OsStr::to_str).ok_or(ErrorKind::NotFound)?;
    let name = name.strip_suffix(NOTES).unwrap_or(name).to_owned();
    let above = path.parent().filter(|above| !above.as_os_str().is_empty());
    Ok((open_store(system, above.unwrap_or(Path::new(".")))?, name))
}

/// The runs that a folder holds, if it is one where runs set aside, the oldest first.
pub(crate) fn runs_below(system: &dyn System, path: &Path) -> Vec<String> {
    let runs = open_store(system, path).and_then(|store| store.names()).unwrap_or_default();
    runs.into_iter().map(|run| path.join(run).to_string_lossy().into_owned()).collect()
}

/// What the name of a run's notes ends with.
pub(crate) const NOTES: &str = ".notes";

/// A folder of runs. It may hold other things: they are nobody's business here.
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

/// Gives what was just made its mode, whatever the umask took away of it, on drives that have modes.
pub(crate) fn grant(system: &dyn System, entry: Entry<'_>, mode: u32) -> io::Result<()> {
    match system.set_mode(entry, mode) {
        Err(e) if is_unsupported(&e) || e.kind() == ErrorKind::PermissionDenied => Ok(()),
        other => other,
    }
}

pub(crate) fn notes_of(run: &str) -> Vec<u8> {
    format!("{run}{NOTES}").into_bytes()
}
