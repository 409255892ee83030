//! All attributes of an entry before a change.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_files::attributes;
use utter_echo_model::attribute::Attributes;
use utter_echo_model::state::{AttributesBefore, State};
use utter_echo_os::{Caller, Entry, Kind, System};

use crate::capabilities::Capabilities;
use crate::features::Features;

/// Reads the attributes of an entry. The flags of one that may not be opened are not known.
pub fn look_before(
    system: &dyn System,
    capabilities: &Capabilities,
    entry: Entry<'_>,
) -> io::Result<AttributesBefore> {
    let stat = system.stat(entry)?;
    let opened = match (entry, stat.kind) {
        (Entry::Named(folder, name), Kind::File) => system.open_file(folder, name).map(Some),
        (Entry::Named(folder, name), Kind::Folder) => system.open_folder(folder, name).map(Some),
        (Entry::Open(folder) | Entry::Pinned(folder), Kind::Folder) => {
            system.open_folder(folder, b"").map(Some)
        }
        _ => Ok(None),
    };
    let flags = match opened {
        Ok(Some(opened)) => attributes::flags(system, opened.as_fd()),
        // A folder that cannot be opened could not be made again as it was.
        Err(e) if e.kind() != ErrorKind::PermissionDenied || stat.kind == Kind::Folder => {
            return Err(e);
        }
        _ => None,
    };
    let xattrs = capabilities.xattrs_of(system, entry, Attributes::ALL)?;
    Ok(AttributesBefore { state: State::from(&stat), accessed: stat.accessed, flags, xattrs })
}

/// The same for a folder of the source, on whatever drive.
pub fn look_here(
    system: &dyn System,
    caller: &Caller,
    folder: BorrowedFd<'_>,
) -> io::Result<AttributesBefore> {
    let capabilities = Capabilities::new(Attributes::ALL, Features::default(), caller, 0);
    look_before(system, &capabilities, Entry::Open(folder))
}
