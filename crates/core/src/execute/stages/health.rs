//! Finding out whether an error concerns a whole drive.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_os::{Entry, is_unsupported};

use crate::execute::stages::site::PartSite;

/// The diagnosis of an error.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Health {
    /// The error concerns one entry.
    Well,
    /// Nothing more can be written to the drive of the destination that the entry lies on.
    OneIsOver,
    /// The source cannot be read any more.
    SourceIsOver,
}

/// The result of a flush and a look at one drive.
pub(super) enum Answer {
    Works,
    /// It failed once with this error, which it will not report again.
    FailedOnce(io::Error),
    Fails,
}

/// A drive with less free space than this, in bytes, counts as full.
const LEAST_SPACE: u64 = 16 * 1024;

/// True if there is space for so many bytes more.
pub(super) fn has_space(site: &PartSite<'_>, folder: BorrowedFd<'_>, needs: u64) -> bool {
    match site.system().space(folder) {
        Ok(space) => {
            let inodes = space.inodes.is_none_or(|free| free > 0);
            let enough = space.bytes > needs.max(LEAST_SPACE);
            // A quota shows only when a write is refused.
            inodes && enough && try_writing(site, folder, needs.max(LEAST_SPACE)).is_ok()
        }
        // A drive that does not report its space counts as having some.
        Err(_) => false,
    }
}

/// Makes a file of this size in bytes, and removes it.
pub(super) fn try_writing(
    site: &PartSite<'_>,
    folder: BorrowedFd<'_>,
    needs: u64,
) -> io::Result<()> {
    let (system, name) = (site.system(), site.context.temporaries.name());
    let written = system.create_file(folder, &name, 0o600).and_then(|file| {
        if needs == 0 {
            return Ok(());
        }
        system.write_at(file.as_fd(), &[1; 4096], 0)?;
        // Some of the reported free space is available to nobody.
        match system.reserve(file.as_fd(), needs) {
            Err(e) if e.kind() == io::ErrorKind::StorageFull => Err(e),
            _ => Ok(()),
        }
    });
    let _ = system.remove_file(folder, &name);
    written
}

/// True for a read-only drive.
pub(super) fn is_read_only(site: &PartSite<'_>, folder: BorrowedFd<'_>) -> bool {
    let changes = site.system().may_change(folder);
    changes.is_err_and(|error| error.kind() == io::ErrorKind::ReadOnlyFilesystem)
}

/// A drive reports an error of one file once, and works the second time.
pub(super) fn ask(site: &PartSite<'_>, folder: BorrowedFd<'_>) -> Answer {
    let system = site.system();
    let flush = || {
        let folder = system.open_folder(folder, b"")?;
        system.stat(Entry::Open(folder.as_fd()))?;
        system.flush_drive(folder.as_fd())
    };
    match (flush(), flush()) {
        (_, Err(again)) if !is_unsupported(&again) => Answer::Fails,
        (Err(error), Ok(())) => Answer::FailedOnce(error),
        (_, Err(_)) | (Ok(()), Ok(())) => Answer::Works,
    }
}
