//! Renaming to a name that must be free.

use std::io::{self, ErrorKind};
use std::os::fd::BorrowedFd;

use utter_echo_os::{Entry, IfExists, Kind, System, is_unsupported};

/// A driver that puts a replaced entry aside under a longer name of its own has no room for that beyond this many
/// bytes, and leaves it behind.
pub const LONG_NAME: usize = 230;

/// A name in an open folder.
pub type NamedEntry<'a> = (BorrowedFd<'a>, &'a [u8]);

/// Renames to a name that must be free, also where the drive does not see to that.
pub fn rename_free(
    system: &dyn System,
    from: NamedEntry<'_>,
    to: NamedEntry<'_>,
) -> io::Result<()> {
    match system.rename(from, to, IfExists::Nothing) {
        Err(e) if e.kind() == ErrorKind::InvalidInput || is_unsupported(&e) => {
            if to.1.len() > LONG_NAME {
                rename_once_free(system, from, to)
            } else {
                rename_to_reserved(system, from, to)
            }
        }
        other => other,
    }
}

/// What appears under the name between the look and the rename is lost.
fn rename_once_free(
    system: &dyn System,
    from: NamedEntry<'_>,
    to: NamedEntry<'_>,
) -> io::Result<()> {
    match system.stat(Entry::Named(to.0, to.1)) {
        Err(e) if e.kind() == ErrorKind::NotFound => system.rename(from, to, IfExists::Replace),
        Err(e) => Err(e),
        Ok(_) => Err(ErrorKind::AlreadyExists.into()),
    }
}

/// The name is taken first by an entry that holds nothing, which only succeeds if it is free. What somebody else puts in
/// the place of that before the rename, which is the next call, is lost.
fn rename_to_reserved(
    system: &dyn System,
    from: NamedEntry<'_>,
    to: NamedEntry<'_>,
) -> io::Result<()> {
    let is_folder = system.stat(Entry::Named(from.0, from.1))?.kind == Kind::Folder;
    if is_folder {
        system.create_folder(to.0, to.1, 0o700)?;
    } else {
        system.create_file(to.0, to.1, 0o600).map(drop)?;
    }
    system.rename(from, to, IfExists::Replace).or_else(|_| {
        // Not every driver puts one entry in the place of another.
        if is_folder {
            system.remove_folder(to.0, to.1)?;
        } else if system.stat(Entry::Named(to.0, to.1))?.size == 0 {
            system.remove_file(to.0, to.1)?;
        } else {
            return Err(ErrorKind::AlreadyExists.into());
        }
        system.rename(from, to, IfExists::Replace)
    })
}
