//! Setting aside what a step displaces, and bringing back what an earlier run set aside.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::io::Errno;

use crate::aside::{Aside, look_before};
use crate::os::{Entry, Onto, Stat};
use crate::path::TreePath;
use crate::plan::{Reason, State, Step, Verb};
use crate::problem::{Cause, Operation};

use super::attributes::Model;
use super::{Done, During, PartRun, Place, Trouble};

/// Where a part sets aside, and the means to copy something there.
pub(super) struct Shelf<'a> {
    pub(super) aside: &'a Aside<'a>,
    /// Writes on the drive where things are set aside, which may be another.
    pub(super) run: PartRun<'a>,
}

/// A name with its folder.
type Named<'a> = (BorrowedFd<'a>, &'a [u8]);

impl PartRun<'_> {
    /// Sets aside an entry that is no folder and that is about to be replaced or, unless it
    /// `stays`, removed. Returns whether it still has its name.
    pub(super) fn set_aside(
        &self,
        place: &Place<'_>,
        name: &[u8],
        stays: bool,
    ) -> Result<bool, Trouble> {
        let Some(shelf) = self.shelf else { return Ok(true) };
        let counterpart = self.counterpart(shelf, &place.path).during(Operation::SetAside)?;
        let (from, to) = ((place.destination.as_fd(), name), (counterpart.as_fd(), name));
        let moved = if stays { self.add_name_aside(from, to) } else { self.rename_free(from, to) };
        match moved {
            Ok(()) => Ok(stays),
            Err(e) if is_elsewhere(&e) => {
                Self::copy_aside(shelf, place, name, counterpart)?;
                Ok(true)
            }
            // Not every drive gives an entry a second name, nor every entry.
            Err(e) if stays && e.kind() != ErrorKind::NotFound => {
                self.rename_free(from, to).during(Operation::SetAside)?;
                Ok(false)
            }
            Err(e) => Err(e).during(Operation::SetAside),
        }
    }

    /// Takes back what [`Self::set_aside`] did, since the entry keeps its place after all.
    pub(super) fn take_back(&self, place: &Place<'_>, name: &[u8], stays: bool) {
        let Some(shelf) = self.shelf else { return };
        let Ok(counterpart) = self.counterpart(shelf, &place.path) else { return };
        // The trouble that led here is the one to tell, and nothing is lost either way.
        let _ = if stays {
            self.shared.system.remove_file(counterpart.as_fd(), name)
        } else {
            self.rename_free((counterpart.as_fd(), name), (place.destination.as_fd(), name))
        };
    }

    /// Sets aside a folder that is empty by now: what was in it went before.
    pub(super) fn set_folder_aside(&self, place: &Place<'_>, name: &[u8], step: &Step) -> Done {
        let (Some(shelf), false) = (self.shelf, step.reason == Reason::Leftover) else {
            return Ok(());
        };
        let path = place.path.join(name);
        let from = Entry::Named(place.destination.as_fd(), name);
        self.note_before(&path, from)?;
        let made = self.counterpart(shelf, &path).during(Operation::SetAside)?;
        let add = Step::new(Verb::Add, Reason::New, step.destination, None);
        shelf.run.dress_folder(&add, Model::Entry(from), Entry::Open(made.as_fd()), true)?;
        // Locked it could be neither emptied again nor pruned; the record knows its flags.
        shelf.run.unlock(made.as_fd()).during(Operation::SetAside)?;
        Ok(())
    }

    /// Writes down what an entry is like before its attributes change.
    pub(super) fn note_before(&self, path: &TreePath, entry: Entry<'_>) -> Done {
        let Some(shelf) = self.shelf else { return Ok(()) };
        let was = look_before(self.shared.system, self.reach, entry);
        let noted = was.and_then(|was| shelf.aside.note_before(self.at, path.as_bytes(), was));
        noted.during(Operation::SetAside)
    }

    /// Writes down what a step left, so that what changes after can be told from it.
    pub(super) fn note_after(&self, step: &Step, path: &TreePath, entry: Entry<'_>) -> Done {
        let Some(shelf) = self.shelf.filter(|_| step.verb != Verb::Remove) else { return Ok(()) };
        let now = self.shared.system.stat(entry);
        let noted =
            now.and_then(|now| shelf.aside.note_after(self.at, path.as_bytes(), (&now).into()));
        noted.during(Operation::SetAside)
    }

    /// Moves back what an earlier run set aside; false if it lies on another drive.
    pub(super) fn bring_back(
        &self,
        place: &Place<'_>,
        name: &[u8],
        step: &Step,
        planned: &State,
    ) -> Result<bool, Trouble> {
        let from = (place.source()?, name);
        let source = self.source_now(Entry::Named(from.0, name), planned)?;
        let folder = place.destination.as_fd();
        let to = (folder, if step.verb == Verb::Add { name } else { &*place.temporary });
        self.unlocked(from.0, name, (source.kind, source.flags()), true, || {
            match self.rename_free(from, to) {
                Err(e) if is_elsewhere(&e) => return Ok(false),
                Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                    return Err(Trouble(Operation::Write, Cause::Overtaken("the destination")));
                }
                other => other.during(Operation::Write)?,
            }
            if step.verb != Verb::Add
                && let Err(trouble) = self.put_in_place(place, to.1, name, step)
            {
                self.rename_free(to, from).during(Operation::SetAside)?;
                return Err(trouble);
            }
            Ok(true)
        })
    }

    fn counterpart(&self, shelf: &Shelf<'_>, path: &TreePath) -> io::Result<OwnedFd> {
        shelf.aside.counterpart(self.prefix.join(path.as_bytes()).as_bytes())
    }

    /// A second name keeps the entry in place until the new one is: its name is never free.
    fn add_name_aside(&self, from: Named<'_>, to: Named<'_>) -> io::Result<()> {
        let system = self.shared.system;
        match system.add_name(from.0, from.1, to.0, to.1) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                // An earlier try of the same step got as far as this.
                let stat = |(folder, name)| system.stat(Entry::Named(folder, name));
                if stat(from)?.identity == stat(to)?.identity { Ok(()) } else { Err(e) }
            }
            other => other,
        }
    }

    /// Copies an entry with all its aspects to where things are set aside.
    fn copy_aside(shelf: &Shelf<'_>, place: &Place<'_>, name: &[u8], to: OwnedFd) -> Done {
        let run = &shelf.run;
        let system = run.shared.system;
        let from =
            system.open_folder(place.destination.as_fd(), b"").during(Operation::SetAside)?;
        let now = system.stat(Entry::Named(from.as_fd(), name)).during(Operation::SetAside)?;
        if let Ok(there) = system.stat(Entry::Named(to.as_fd(), name)) {
            if is_copy(&there, &now) {
                return Ok(());
            }
            return Err(Trouble(
                Operation::SetAside,
                io::Error::from(ErrorKind::AlreadyExists).into(),
            ));
        }
        let to = run.place_in(place.folder, place.path.clone(), Some(from), to)?;
        let now = State::from(&now);
        let add = Step::new(Verb::Add, Reason::New, Some(now), None);
        run.make_and_place(&to, name, &to.temporary, &add, &now)
    }

    /// Renames to a name that must be free, also where the drive does not see to that.
    pub(super) fn rename_free(&self, from: Named<'_>, to: Named<'_>) -> io::Result<()> {
        let system = self.shared.system;
        match system.rename(from, to, Onto::Nothing) {
            Err(e) if super::folders::no_exchange(&e) => {
                match system.stat(Entry::Named(to.0, to.1)) {
                    Err(e) if e.kind() == ErrorKind::NotFound => {
                        system.rename(from, to, Onto::Replace)
                    }
                    Err(e) => Err(e),
                    Ok(_) => Err(ErrorKind::AlreadyExists.into()),
                }
            }
            other => other,
        }
    }
}

/// True if an earlier try of a step made this copy.
fn is_copy(copy: &Stat, of: &Stat) -> bool {
    (copy.kind, copy.size, copy.modified) == (of.kind, of.size, of.modified)
}

/// True if two folders do not lie on one drive.
fn is_elsewhere(error: &io::Error) -> bool {
    error.raw_os_error() == Some(Errno::XDEV.raw_os_error())
}
