//! The clock of a drive, which is another machine's on a network share.

use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};

use utter_echo_os::{Entry, System, Time};

use crate::dirty_marker::keeping_times;

/// The present time of the drive of a folder: the change time of a file that is made for this, unnamed where the drive
/// supports that. The folder keeps its time.
pub fn now(system: &dyn System, folder: BorrowedFd<'_>, hidden_name: &[u8]) -> io::Result<Time> {
    let changed = |file: &OwnedFd| system.stat(Entry::Open(file.as_fd())).map(|stat| stat.changed);
    if let Ok(file) = system.create_nameless(folder, 0o600) {
        return changed(&file);
    }
    let mut now = Err(io::ErrorKind::Other.into());
    keeping_times(system, folder, || {
        let file = system.create_file(folder, hidden_name, 0o600)?;
        now = changed(&file);
        system.remove_file(folder, hidden_name)
    })?;
    now
}
