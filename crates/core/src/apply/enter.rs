//! Going into the folders that steps happen in: those that are closed to the caller are open for the
//! time of the changes.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::PoisonError;

use crate::abilities::Ability;
use crate::os::{Entry, Flags};
use crate::path::TreePath;
use crate::plan::Folder;
use crate::problem::{Cause, Operation};
use crate::reach;

use super::{During, PartRun, Trouble, fill};

/// A folder of the plan that was opened, and how it was before.
pub(super) struct Opened {
    folder: usize,
    mode: Option<u32>,
    flags: Option<Flags>,
}

/// The two folders that the steps of one batch happen in.
pub(super) struct Place<'a> {
    pub(super) folder: &'a Folder,
    pub(super) path: TreePath,
    /// `None` where the source has no such folder or it cannot be opened.
    pub(super) source: Option<OwnedFd>,
    pub(super) destination: OwnedFd,
    /// The group that new entries get here.
    pub(super) born_gid: u32,
    /// New entries get access lists from the folder.
    pub(super) gives_lists: bool,
    /// The mode of a folder that the caller owns and may not write into.
    pub(super) closed_with: Option<u32>,
    /// The folder's flags: some keep it from being changed, others are given to new entries.
    pub(super) flags: Flags,
    /// The name under which one entry after the other is made here. One name for all is much
    /// quicker than one each where a folder holds a hundred thousand.
    pub(super) temporary: Vec<u8>,
    /// Nobody sees the folder yet, so what is made in it gets its name at once.
    pub(super) hidden: bool,
}

impl Place<'_> {
    pub(super) fn source(&self) -> Result<BorrowedFd<'_>, Trouble> {
        let gone = || Trouble(Operation::Read, Cause::Overtaken("its folder in the source"));
        self.source.as_ref().map(AsFd::as_fd).ok_or_else(gone)
    }
}

impl PartRun<'_> {
    pub(super) fn enter(&self, root: BorrowedFd<'_>, at: usize) -> Result<Place<'_>, Trouble> {
        let system = self.shared.system;
        let path = self.part.folder_path(at);
        let destination = system.open_folder(root, path.as_bytes()).during(Operation::Write)?;
        let source = system.open_folder(self.pair.source.as_fd(), path.as_bytes()).ok();
        self.place_in(&self.part.folders[at], path, source, destination)
    }

    pub(super) fn place_in<'p>(
        &self,
        folder: &'p Folder,
        path: TreePath,
        source: Option<OwnedFd>,
        destination: OwnedFd,
    ) -> Result<Place<'p>, Trouble> {
        let system = self.shared.system;
        let stat = system.stat(Entry::Open(destination.as_fd())).during(Operation::Write)?;
        let gives_lists = reach::has_default_list(system, destination.as_fd())
            .during(Operation::LookAtDestination)?;
        let set_group = stat.mode & 0o2000 != 0;
        let caller = &self.reach.caller;
        let closed = caller.uid != 0 && stat.uid == caller.uid && stat.mode & 0o200 == 0;
        let closed = closed && self.reach.drive.holds(Ability::Modes);
        let flags = if self.reach.drive.flags.is_empty() {
            stat.flags
        } else {
            let flags = reach::flags(system, destination.as_fd());
            flags.during(Operation::LookAtDestination)?.unwrap_or_default()
        };
        Ok(Place {
            folder,
            path,
            source,
            destination,
            born_gid: if set_group { stat.gid } else { caller.gid },
            gives_lists,
            closed_with: closed.then_some(stat.mode),
            flags,
            temporary: self.shared.temporaries.name(),
            hidden: false,
        })
    }

    /// As [`Self::enter`], to change entries: a folder that its owner may not write into, or that
    /// flags keep from being changed, is open until all entries are changed.
    pub(super) fn enter_to_change(
        &self,
        root: BorrowedFd<'_>,
        at: usize,
    ) -> Result<Place<'_>, Trouble> {
        let place = self.enter(root, at)?;
        if self.shelf.is_some() && self.is_noted_first(at) {
            self.note_before(&place.path, Entry::Open(place.destination.as_fd()))?;
        }
        let locked = !place.flags.and(Flags::LOCKS).is_empty();
        if place.closed_with.is_none() && !locked {
            return Ok(place);
        }
        let (system, folder) = (self.shared.system, place.destination.as_fd());
        let flags = if locked { self.unlock(folder).during(Operation::Write)? } else { None };
        let opened = Opened { folder: at, mode: place.closed_with, flags };
        self.opened.lock().unwrap_or_else(PoisonError::into_inner).push(opened);
        if let Some(mode) = place.closed_with {
            system.set_mode(Entry::Open(folder), mode | 0o200).during(Operation::Write)?;
        }
        Ok(place)
    }

    /// True for a folder that was there before the run and of which nothing was written down yet.
    fn is_noted_first(&self, at: usize) -> bool {
        let above = &self.part.folders[self.part.folders[at].parent as usize];
        let own = if at == 0 { self.part.root } else { self.own_step(at).map(|i| above.steps[i]) };
        let is_new = own.is_some_and(|step| fill::makes_folder(&step));
        !is_new && self.noted.lock().unwrap_or_else(PoisonError::into_inner).insert(at)
    }

    /// Gives folders that were opened for changes the mode they had.
    pub(super) fn close_again(&self, root: BorrowedFd<'_>) {
        let system = self.shared.system;
        self.each_opened(root, |opened, folder| {
            opened.mode.map_or(Ok(()), |mode| system.set_mode(Entry::Open(folder), mode))
        });
    }

    /// Gives folders that were opened for changes the flags they had, unless they have the
    /// source's by now.
    pub(super) fn lock_again(&self, root: BorrowedFd<'_>) {
        self.each_opened(root, |opened, folder| match opened.flags {
            Some(flags) if !self.carries_flags_of(opened.folder) => {
                self.shared.system.set_flags(folder, flags)
            }
            _ => Ok(()),
        });
    }

    /// The deepest first.
    fn each_opened(
        &self,
        root: BorrowedFd<'_>,
        work: impl Fn(&Opened, BorrowedFd<'_>) -> io::Result<()>,
    ) {
        use io::ErrorKind as K;
        let mut opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        opened.sort_by_key(|opened| std::cmp::Reverse(opened.folder));
        for opened in &*opened {
            let path = self.part.folder_path(opened.folder);
            let handle = self.shared.system.open_folder(root, path.as_bytes());
            let done = match handle {
                // It was to be removed, or something else to take its place.
                Err(e) if matches!(e.kind(), K::NotFound | K::NotADirectory) => Ok(()),
                Err(e) => Err(e),
                Ok(folder) => work(opened, folder.as_fd()),
            };
            if let Err(error) = done {
                self.report(&path, Trouble(Operation::SetAttributes, error.into()));
            }
        }
    }
}
