//! The marker of a run whose writing may not be on the drive yet.
//!
//! A file system may bring a file's size and times onto the drive before its content: ext4 was seen
//! to, for plain small files. After a power cut such a file holds zeros and looks unchanged for
//! ever. So a run sets a marker in the destination's root before it writes anything, and clears
//! it when all is flushed. A later run that finds a marker, and that the machine was started or the
//! drive mounted anew since it was made, trusts no stamp of what changed after it: there both
//! sides are read. Also without that it looks closely at all attributes of what changed after it, since
//! the run may have been killed between two of them.
//!
//! The marker is a symbolic link: its name says enough, and reaches the drive with the folder, before all
//! names that follow. Its text may be written later; a text that is lost, or of another mount, is read
//! as one of a run before a restart. Drives without links get every file flushed before it is named.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd};

use rustix::io::Errno;
use utter_echo_os::{Entry, Stat, System, Time};

use crate::hidden_names;

/// What may be unfinished since a run did not come to its end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Unflushed {
    /// When that run began to write.
    since: Time,
    /// What it wrote is still remembered, even if it is not on the drive.
    remembered: bool,
}

impl Unflushed {
    /// What two runs together may have left unfinished.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self { since: self.since.min(other.since), remembered: self.remembered && other.remembered }
    }

    /// True for an entry that the run may have changed, and not in all it was to change.
    pub fn may_have_touched(&self, stat: &Stat) -> bool {
        stat.changed >= self.since
    }

    /// True for a file whose content may not be what its size and times tell.
    pub fn may_have_lost(&self, stat: &Stat) -> bool {
        !self.remembered && self.may_have_touched(stat)
    }
}

/// The one name of the marker.
pub fn name() -> Vec<u8> {
    hidden_names::name_of_dirty_marker()
}

/// The marker that an interrupted run left, if there is one.
pub fn find(system: &dyn System, root: BorrowedFd<'_>) -> io::Result<Option<Unflushed>> {
    let Some(text) = read(system, root)? else { return Ok(None) };
    let remembered = text == system.mount_session(root)?;
    let since = system.stat(Entry::Named(root, &name()))?.changed;
    Ok(Some(Unflushed { since, remembered }))
}

/// What came of setting a marker.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MarkerSet {
    /// It is this run's own.
    New,
    /// An earlier run left one, and that stays.
    Older,
    /// This drive takes none.
    Impossible,
}

/// Sets the marker, unless an older one is there.
pub fn set(system: &dyn System, root: BorrowedFd<'_>) -> MarkerSet {
    let mut made = false;
    let left = system.mount_session(root).and_then(|text| {
        keeping_times(system, root, || {
            let created = system.create_link(root, &name(), &text);
            made = created.is_ok();
            created
        })
    });
    match left {
        // Should the folder not have got its time back, it gets it at the end of the run.
        _ if made => MarkerSet::New,
        Err(e) if e.kind() == ErrorKind::AlreadyExists => match read(system, root) {
            Ok(Some(_)) => MarkerSet::Older,
            _ => MarkerSet::Impossible,
        },
        _ => MarkerSet::Impossible,
    }
}

/// Clears the marker, if there is one. To be called when everything is on the drive.
pub fn clear(system: &dyn System, root: BorrowedFd<'_>) -> io::Result<()> {
    match read(system, root)? {
        None => Ok(()),
        Some(_) => keeping_times(system, root, || system.remove_file(root, &name())),
    }
}

/// The marker's text; `None` if there is none, or something else under its name.
fn read(system: &dyn System, root: BorrowedFd<'_>) -> io::Result<Option<Vec<u8>>> {
    match system.read_link(root, &name()) {
        Err(e) if matches!(e.kind(), ErrorKind::NotFound | ErrorKind::InvalidInput) => Ok(None),
        other => other.map(Some),
    }
}

/// The folder is a counterpart of the source's and keeps its time.
pub(crate) fn keeping_times(
    system: &dyn System,
    root: BorrowedFd<'_>,
    work: impl FnOnce() -> io::Result<()>,
) -> io::Result<()> {
    let folder = system.open_folder(root, b"")?;
    let before = system.stat(Entry::Open(folder.as_fd()))?;
    work()?;
    match system.set_times(Entry::Open(folder.as_fd()), before.modified, Some(before.accessed)) {
        // Somebody else's folder, which the caller may only write into.
        Err(e) if e.raw_os_error() == Some(Errno::PERM.raw_os_error()) => Ok(()),
        other => other,
    }
}
