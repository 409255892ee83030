//! Taking an entry out of a folder so that nothing is lost that somebody puts in its place meanwhile.
//!
//! The last look at an entry and its removal are two calls. A program that saves by renaming its new version over the old
//! one may do so in between, and then the new version would be removed. So the entry is renamed first, under its own
//! name, into a folder that nobody else uses; there it is looked at once more, and then removed. What turns out to be
//! another entry goes back.
//!
//! What a killed run left in such a folder is put back by the next run that changes something there.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};

use utter_echo_os::{Entry, System};

use crate::free_name::rename_free;
use crate::hidden_names;
use crate::listing::Listing;

/// The one name of the folder.
pub fn name() -> Vec<u8> {
    hidden_names::name_of_exit_folder()
}

/// Names for trying out in the folder what the drive does: no entry that leaves has them.
pub fn spare_names() -> [Vec<u8>; 2] {
    [hidden_names::name_of_exit_folder(), hidden_names::name_of_dirty_marker()]
}

/// Opens the folder within this one, and makes it if need be. Fails if others may change what is in it.
pub fn open(system: &dyn System, folder: BorrowedFd<'_>, uid: u32) -> io::Result<OwnedFd> {
    match system.create_folder(folder, &name(), 0o700) {
        Err(e) if e.kind() == ErrorKind::AlreadyExists => {}
        other => other?,
    }
    let exit = system.open_folder(folder, &name())?;
    let stat = system.stat(Entry::Open(exit.as_fd()))?;
    let is_ours = stat.uid == uid && stat.mode & 0o022 == 0;
    // On a drive without owners all is the user's who mounted it.
    if is_ours || uid == 0 && stat.uid == 0 {
        Ok(exit)
    } else {
        Err(ErrorKind::PermissionDenied.into())
    }
}

/// Removes it, if there is one and nothing is in it.
pub fn close(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<()> {
    match system.remove_folder(folder, &name()) {
        Err(e) if e.kind() == ErrorKind::NotFound => Ok(()),
        other => other,
    }
}

/// Gives an entry in the exit folder its name in the folder back, or if that is taken one beside it. Returns that.
pub fn put_back(
    system: &dyn System,
    (exit, folder): (BorrowedFd<'_>, BorrowedFd<'_>),
    name: &[u8],
) -> io::Result<Option<Vec<u8>>> {
    match rename_free(system, (exit, name), (folder, name)) {
        Err(e) if e.kind() == ErrorKind::AlreadyExists => {}
        other => return other.map(|()| None),
    }
    for number in 2.. {
        let beside = [name, format!(" {number}").as_bytes()].concat();
        match rename_free(system, (exit, name), (folder, &beside)) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {}
            other => return other.map(|()| Some(beside)),
        }
    }
    Err(ErrorKind::AlreadyExists.into())
}

/// Puts back all that a killed run left on its way, and removes the exit folder. The folder keeps its time.
pub fn restore(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<()> {
    let before = system.stat(Entry::Open(folder))?;
    let exit = system.open_folder(folder, &name())?;
    let listing = Listing::read(system, exit.as_fd())?;
    for entry in listing.names() {
        if spare_names().iter().any(|spare| spare == entry) {
            system.remove_file(exit.as_fd(), entry)?;
        } else {
            put_back(system, (exit.as_fd(), folder), entry)?;
        }
    }
    close(system, folder)?;
    // Somebody else's folder, which the caller may only write into, has the time of now.
    let _ = system.set_times(Entry::Open(folder), before.modified, Some(before.accessed));
    Ok(())
}
