//! Folders: made before anything goes into them, finished after.

use std::io::ErrorKind;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use crate::aspect::Aspect;
use crate::os::{Entry, Kind, Time};
use crate::path::TreePath;
use crate::plan::{Step, Verb};
use crate::problem::{Cause, Operation};

use super::{Done, During, PartRun, Place, StepOutcome, Trouble};

/// Open to nobody else until the folder has the attributes it should have.
pub(super) const WHILE_FILLED: u32 = 0o700;

impl PartRun<'_> {
    /// Opens the destination's root, with what is missing of its path made first.
    pub(super) fn make_root(&self) -> Option<OwnedFd> {
        let result = self.open_root();
        match (result, &self.part.root) {
            (Ok(root), _) => Some(root),
            // Nothing was to be added, so nothing is missed.
            (Err(_), None) if self.part.all_steps().next().is_none() => None,
            (Err(trouble), _) => {
                let steps = self.part.all_steps().count();
                for number in self.part.first..self.part.first + steps {
                    self.set_outcome(number, StepOutcome::Failed);
                }
                self.report(&TreePath::default(), trouble);
                None
            }
        }
    }

    fn open_root(&self) -> Result<OwnedFd, Trouble> {
        let system = self.shared.system;
        let place = &self.pair.destination;
        let mut at = system.open_folder(place.anchor.as_fd(), b"").during(Operation::Write)?;
        let root_is_step = self.part.root.is_some_and(|step| step.verb == Verb::Add);
        for (i, name) in place.missing.iter().enumerate() {
            let is_root = i + 1 == place.missing.len() && self.pair.single.is_none();
            if is_root && !root_is_step {
                return Err(Trouble(Operation::Write, Cause::Overtaken("the destination folder")));
            }
            // The folders above the root are no counterpart of anything: they are made as usual.
            let mode = if is_root { WHILE_FILLED } else { 0o777 };
            match system.create_folder(at.as_fd(), name, mode) {
                // Another source of the same run, or somebody else, made it meanwhile.
                Err(e) if e.kind() == ErrorKind::AlreadyExists && !is_root => {}
                other => other.during(Operation::Write)?,
            }
            at = system.open_folder(at.as_fd(), name).during(Operation::Write)?;
        }
        Ok(at)
    }

    /// Gives every folder that was made, changed or written into its attributes, the deepest
    /// first: once a folder is closed to the caller nothing below it can be reached.
    pub(super) fn finish_folders(&self, root: BorrowedFd<'_>) {
        for at in (0..self.part.folders.len()).rev() {
            self.finish_below(root, at);
            self.restore_times(root, at);
        }
        let Some(step) = &self.part.root else { return };
        let result = self.finish_root(root, step);
        self.conclude(self.part.first, &TreePath::default(), result);
    }

    fn finish_root(&self, root: BorrowedFd<'_>, step: &Step) -> Done {
        let (top, entry) = (TreePath::default(), Entry::Open(root));
        let source = self.model(&top, || Ok(Entry::Pinned(self.pair.source.as_fd())))?;
        if step.verb == Verb::Adjust {
            self.note_before(&top, entry)?;
        }
        self.dress_folder(step, source, entry, self.reach.keeps_top_times(self.pair))?;
        self.note_after(step, &top, entry)
    }

    /// The folder steps among those of one folder.
    fn finish_below(&self, root: BorrowedFd<'_>, at: usize) {
        let folder = &self.part.folders[at];
        let wanted = |i: &usize| {
            let step = &folder.steps[*i];
            let changes = !matches!(step.verb, Verb::Rename | Verb::Remove);
            step.kind() == Kind::Folder && changes && !self.was_tried(folder, *i)
        };
        let mut todo = (0..folder.steps.len()).filter(wanted).peekable();
        if todo.peek().is_none() {
            return;
        }
        let place = match self.enter(root, at) {
            Ok(place) => place,
            // It may never have been made.
            Err(_) if self.shared.must_end() => return,
            Err(trouble) => {
                // One problem names the folder; what is in it shares its fate.
                todo.for_each(|i| self.set_outcome(folder.first + i, StepOutcome::Failed));
                self.report(&self.part.folder_path(at), trouble);
                return;
            }
        };
        for i in todo {
            let step = &folder.steps[i];
            let name = folder.names.get(step.name);
            // After a stop only what was already made is finished, so that it is whole.
            if self.shared.must_end() && step.verb == Verb::Adjust {
                continue;
            }
            let result = self.finish_folder(&place, name, step);
            if self.shared.must_end() && result.is_err() {
                continue;
            }
            self.conclude(folder.first + i, &self.part.folder_path(at).join(name), result);
        }
    }

    pub(super) fn finish_folder(&self, place: &Place<'_>, name: &[u8], step: &Step) -> Done {
        let system = self.shared.system;
        // Not opened: its attributes can be read even where its entries cannot.
        let path = place.path.join(name);
        let source = self.model(&path, || Ok(Entry::Named(place.source()?, name)))?;
        let pinned =
            system.pin(place.destination.as_fd(), name).during(Operation::SetAttributes)?;
        let entry = Entry::Pinned(pinned.as_fd());
        let now = system.stat(entry).during(Operation::SetAttributes)?;
        let expected = step.destination.filter(|_| step.verb == Verb::Adjust);
        if now.kind != Kind::Folder || expected.is_some_and(|expected| !expected.still(&now)) {
            return Err(Trouble(Operation::SetAttributes, Cause::Overtaken("the destination")));
        }
        if step.verb == Verb::Adjust {
            self.note_before(&path, Entry::Named(place.destination.as_fd(), name))?;
        }
        self.dress_folder(step, source, entry, true)?;
        self.note_after(step, &path, entry)
    }

    /// A folder that is as it should be but for what happened in it.
    fn restore_times(&self, root: BorrowedFd<'_>, at: usize) {
        let folder = &self.part.folders[at];
        let touched = (0..folder.steps.len())
            .any(|i| folder.steps[i].verb != Verb::Adjust && self.was_tried(folder, i))
            || self.losing.contains(&at);
        let Some(source) = folder.source.filter(|_| touched && self.carries(Aspect::Times)) else {
            return;
        };
        let has_own = if at == 0 { self.part.root.is_some() } else { self.own_step(at).is_some() };
        if has_own || at == 0 && !self.reach.keeps_top_times(self.pair) {
            return;
        }
        let path = self.part.folder_path(at);
        let system = self.shared.system;
        let restored =
            system.open_folder(root, path.as_bytes()).during(Operation::SetAttributes).and_then(
                |to| self.set_time(Entry::Open(to.as_fd()), &source, || self.accessed_below(&path)),
            );
        if let Err(trouble) = restored {
            self.report(&path, trouble);
        }
    }

    /// The access time that a folder is to have.
    fn accessed_below(&self, path: &TreePath) -> std::io::Result<Time> {
        if let Some(before) = self.part.memory.as_ref().and_then(|m| m.get(path.as_bytes())) {
            return Ok(before.accessed);
        }
        let system = self.shared.system;
        let from = system.open_folder(self.pair.source.as_fd(), path.as_bytes())?;
        system.stat(Entry::Open(from.as_fd())).map(|stat| stat.accessed)
    }

    /// Where a folder's own step stands among those of the folder above.
    pub(super) fn own_step(&self, at: usize) -> Option<usize> {
        let folder = &self.part.folders[at];
        let above = &self.part.folders[folder.parent as usize];
        above.steps.binary_search_by(|step| above.names.get(step.name).cmp(&folder.name)).ok()
    }
}

/// True if the file system cannot swap two names.
pub(super) fn no_exchange(error: &std::io::Error) -> bool {
    matches!(error.kind(), ErrorKind::InvalidInput | ErrorKind::Unsupported)
}
