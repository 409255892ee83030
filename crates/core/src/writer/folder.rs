//! The two folders that an entry is handled in, and folders themselves: made, named, finished.

use std::io::ErrorKind;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::OnceLock;

use crate::abilities::Ability;
use crate::drives;
use crate::os::{Entry, Flags, Identity, Kind, Onto};
use crate::path::TreePath;
use crate::policy::{OtherName, Verb};
use crate::problem::{Cause, Operation};
use crate::reach;

use super::aside::{Displaced, Name};
use super::flags::After;
use super::{Deed, Done, During, Trouble, Writer};

/// Open to nobody else until the folder has the attributes it should have.
pub(crate) const WHILE_FILLED: u32 = 0o700;

/// The two folders that entries are handled in.
pub(crate) struct Place {
    /// Relative to the root.
    pub(crate) path: TreePath,
    /// `None` where the source has no such folder or it cannot be opened.
    pub(crate) source: Option<OwnedFd>,
    /// Nothing lies beyond the sizes of the files there.
    pub(super) exact_sizes: bool,
    pub(crate) destination: OwnedFd,
    /// Of the destination's folder.
    pub(crate) identity: Identity,
    /// The group that new entries get here.
    pub(super) born_gid: u32,
    /// New entries get access lists from the folder.
    pub(super) gives_lists: bool,
    /// The mode of a folder that the caller owns and may not write into.
    pub(crate) closed_with: Option<u32>,
    /// The folder's flags: some keep it from being changed, others are given to new entries.
    pub(crate) flags: Flags,
    /// The name under which one entry after the other is made here. One name for all is much
    /// quicker than one each where a folder holds a hundred thousand.
    pub(super) temporary: Vec<u8>,
    /// Nobody sees the folder yet, so what is made in it gets its name at once.
    pub(crate) hidden: bool,
    /// Names of entries that the source has under others.
    pub(crate) came_as: Vec<OtherName>,
    /// Where things of it are set aside, once something was.
    pub(super) counterpart: OnceLock<OwnedFd>,
}

impl Place {
    pub(crate) fn source(&self) -> Result<BorrowedFd<'_>, Trouble> {
        let gone = || Trouble(Operation::Read, Cause::Overtaken("its folder in the source"));
        self.source.as_ref().map(AsFd::as_fd).ok_or_else(gone)
    }
}

impl Writer<'_> {
    /// Finds out what has to be known of a folder before something is made in it.
    pub(crate) fn place(
        &self,
        path: TreePath,
        source: Option<OwnedFd>,
        destination: OwnedFd,
    ) -> Result<Place, Trouble> {
        let system = self.system();
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
            reach::flags(system, destination.as_fd()).unwrap_or(stat.flags)
        };
        let is_exact = |source: &OwnedFd| drives::has_exact_sizes(system, source.as_fd());
        Ok(Place {
            path,
            exact_sizes: source.as_ref().is_some_and(is_exact),
            source,
            destination,
            identity: stat.identity,
            born_gid: if set_group { stat.gid } else { caller.gid },
            gives_lists,
            closed_with: closed.then_some(stat.mode),
            flags,
            temporary: self.means.temporaries.name(),
            hidden: false,
            came_as: Vec::new(),
            counterpart: OnceLock::new(),
        })
    }

    /// Makes a folder under its own name, which nobody may have yet.
    pub(crate) fn make_folder(&self, place: &Place, name: &[u8]) -> Done {
        match self.system().create_folder(place.destination.as_fd(), name, WHILE_FILLED) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                Err(Trouble::overtaken_there(Operation::Write))
            }
            other => other.during(Operation::Write),
        }
    }

    /// Gives a folder that was made under a temporary name the one it should have.
    pub(crate) fn place_folder(
        &self,
        place: &Place,
        temporary: &[u8],
        name: &[u8],
        deed: &Deed,
    ) -> Done {
        let system = self.system();
        let folder = place.destination.as_fd();
        if deed.verb == Verb::Add {
            return self.rename_to_new(place, (folder, temporary), name);
        }
        let old = self.check_destination(place, name, deed)?;
        let old = old.map_or((Kind::File, Flags::default()), |old| (old.kind, old.flags));
        let after = if self.keeps_displaced().is_some() { After::Kept } else { After::Gone };
        self.unlocked(folder, name, old, after, || {
            if self.set_aside(place, name, Displaced::Replaced)? == Name::Free {
                return self.rename_to_new(place, (folder, temporary), name);
            }
            match system.rename((folder, temporary), (folder, name), Onto::Exchange) {
                Ok(()) => system.remove_file(folder, temporary).during(Operation::Remove),
                Err(e) if no_exchange(&e) => {
                    system.remove_file(folder, name).during(Operation::Remove)?;
                    system
                        .rename((folder, temporary), (folder, name), Onto::Nothing)
                        .during(Operation::Write)
                }
                Err(e) => Err(e).during(Operation::Write),
            }
        })
    }

    /// Gives a folder its attributes: all to one that was made, to another those that differ.
    pub(crate) fn finish_folder(&self, place: &Place, name: &[u8], deed: &Deed) -> Done {
        let system = self.system();
        // Not opened: its attributes can be read even where its entries cannot.
        let path = place.path.join(name);
        let own = self.source_name(place, name);
        let source = self.model(&path, || Ok(Entry::Named(place.source()?, own)))?;
        let pinned =
            system.pin(place.destination.as_fd(), name).during(Operation::SetAttributes)?;
        let entry = Entry::Pinned(pinned.as_fd());
        let now = system.stat(entry).during(Operation::SetAttributes)?;
        let expected = deed.destination.filter(|_| deed.verb == Verb::Adjust);
        if now.kind != Kind::Folder || expected.is_some_and(|expected| !expected.still(&now)) {
            return Err(Trouble::overtaken_there(Operation::SetAttributes));
        }
        self.dress_folder(deed, source, entry, true)
    }
}

/// True if the file system cannot swap two names.
pub(super) fn no_exchange(error: &std::io::Error) -> bool {
    matches!(error.kind(), ErrorKind::InvalidInput | ErrorKind::Unsupported)
}
