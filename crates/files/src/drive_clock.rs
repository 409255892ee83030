//! The clock of a drive, which is another machine's on a network share.

use std::io;
use std::os::fd::{AsFd as _, BorrowedFd};

use utter_echo_os::{Entry, System, Time};

/// The present time of the drive of a folder: the change time of a file that is made for this, unnamed where the drive
/// supports that. The folder keeps its time.
pub fn now(system: &dyn System, folder: BorrowedFd<'_>, hidden_name: &[u8]) -> io::Result<Time> {
    let changed = |entry| system.stat(entry).map(|stat| stat.changed);
    if let Ok(file) = system.create_nameless(folder, 0o600) {
        return changed(Entry::Open(file.as_fd()));
    }
    let before = system.stat(Entry::Open(folder))?.modified;
    let file = system.create_file(folder, hidden_name, 0o600)?;
    let now = changed(Entry::Open(file.as_fd()));
    system.remove_file(folder, hidden_name)?;
    system.set_times(Entry::Open(folder), before, None)?;
    now
}
