//! Setting aside displaced entries, and restoring them.

use crate::execute::writer::step_error::ErrorContext as _;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_drives::before;
use utter_echo_drives::features::Feature;
use utter_echo_files::free_name::{self, NamedEntry};
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::{AttributesBefore, State, StateAfter};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Entry, Stat};

use crate::execute::writer::attributes::AttributeModel;
use crate::execute::writer::drive_writer::{SetAsideWriter, Writer};
use crate::execute::writer::flags::AfterWork;
use crate::execute::writer::folder_pair::FolderPair;
use crate::execute::writer::operation::EntryOperation;
use crate::execute::writer::step_error::{StepError, StepResult, is_elsewhere};

/// Why an entry is set aside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum DisplacedBy {
    /// Another entry will take its name, which should never be free.
    Replaced,
    /// It is removed.
    Removed,
}

/// The state of the name of an entry that was set aside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NameState {
    /// It still leads to the entry.
    Taken,
    /// The name is free.
    Free,
}

impl SetAsideWriter<'_> {
    /// Records an entry before its attributes change.
    pub(crate) fn note_before(
        &self,
        writer: &Writer<'_>,
        path: &TreePath,
        entry: Entry<'_>,
    ) -> StepResult {
        let was = before::look_before(writer.system(), writer.capabilities, entry);
        let noted = was.and_then(|was| self.aside.note_before(self.part, path.as_bytes(), was));
        self.or_lose(noted)
    }

    /// Records a folder of the source before it is changed or removed.
    pub(crate) fn note_here(
        &self,
        path: &TreePath,
        was: io::Result<AttributesBefore>,
    ) -> StepResult {
        let noted = was.and_then(|was| self.aside.note_here(self.part, path.as_bytes(), was));
        self.or_lose(noted)
    }

    /// Records that an entry of the source and its copy were verified.
    pub(crate) fn note_proven(
        &self,
        path: &TreePath,
        both: (StateAfter, StateAfter),
    ) -> StepResult {
        self.or_lose(self.aside.note_proven(self.part, path.as_bytes(), both))
    }

    /// Records the roots of the part.
    pub(crate) fn note_roots(
        &self,
        source: BorrowedFd<'_>,
        destination: BorrowedFd<'_>,
    ) -> StepResult {
        self.or_lose(self.aside.note_roots(self.part, source, destination))
    }

    /// Opens the gate: changes may begin.
    pub(crate) fn open_gate(&self) -> StepResult {
        self.or_lose(self.aside.open_gate())
    }

    /// The error of the journal, unless the run continues without it.
    pub(crate) fn or_lose(&self, noted: io::Result<()>) -> StepResult {
        self.aside.or_lose(noted).during(Operation::SetAside)
    }

    /// Records the state after a step, so that later changes can be detected.
    pub(crate) fn note_after(
        &self,
        writer: &Writer<'_>,
        path: &TreePath,
        entry: Entry<'_>,
    ) -> StepResult {
        let now = writer.system().stat(entry);
        let noted = now.and_then(|now| {
            let left = StateAfter::seen(&now, writer.capabilities.drive.numbers);
            self.aside.note_after(self.part, path.as_bytes(), left)
        });
        self.or_lose(noted)
    }

    /// The set-aside counterpart of a folder, which is made if it is missing.
    fn counterpart(&self, path: &TreePath) -> io::Result<OwnedFd> {
        self.aside.counterpart(self.prefix.join(path.as_bytes()).as_bytes())
    }

    /// The same, opened once for all entries of the folder.
    fn counterpart_of<'p>(&self, place: &'p FolderPair) -> Result<BorrowedFd<'p>, StepError> {
        if place.aside.counterpart.get().is_none() {
            let opened = self.counterpart(&place.path).during(Operation::SetAside)?;
            // No other worker uses this folder pair.
            let _ = place.aside.counterpart.set(opened);
        }
        let opened = place.aside.counterpart.get().map(AsFd::as_fd);
        opened.ok_or_else(|| io::Error::from(ErrorKind::NotFound)).during(Operation::SetAside)
    }

    /// Copies an entry with all attributes to its set-aside counterpart.
    fn copy_aside(&self, place: &FolderPair, name: &[u8], to: BorrowedFd<'_>) -> StepResult {
        let (writer, system) = (&self.writer, self.writer.system());
        let from =
            system.open_folder(place.destination.as_fd(), b"").during(Operation::SetAside)?;
        let now = system.stat(Entry::Named(from.as_fd(), name)).during(Operation::SetAside)?;
        if let Ok(there) = system.stat(Entry::Named(to, name)) {
            if is_copy(&there, &now) {
                return Ok(());
            }
            let taken = io::Error::from(ErrorKind::AlreadyExists);
            return Err(StepError(Operation::SetAside, taken.into()));
        }
        let to = system.open_folder(to, b"").during(Operation::SetAside)?;
        let to = writer.place(place.path.clone(), Some(from), to)?;
        let now = State::from(&now);
        writer.make_and_place(&to, name, &to.temporary, &EntryOperation::copy_of(now), &now)
    }
}

impl Writer<'_> {
    /// Sets aside an entry other than a folder that will be replaced or removed. Returns whether it still has its
    /// name.
    pub(super) fn set_aside(
        &self,
        place: &FolderPair,
        name: &[u8],
        displaced: DisplacedBy,
    ) -> Result<NameState, StepError> {
        let Some(aside) = self.keeps_displaced() else { return Ok(NameState::Taken) };
        let counterpart = aside.counterpart_of(place)?;
        let (from, to) = ((place.destination.as_fd(), name), (counterpart, name));
        let (moved, leaves) = match displaced {
            DisplacedBy::Replaced => (self.add_name_aside(from, to), NameState::Taken),
            DisplacedBy::Removed => (self.rename_kept(from, to), NameState::Free),
        };
        match moved {
            Ok(()) => Ok(leaves),
            // It may have been copied there before anything was changed.
            Err(e) if is_elsewhere(&e) || self.is_copied(&e, to.0, place) => {
                aside.copy_aside(place, name, counterpart)?;
                Ok(NameState::Taken)
            }
            // Not every drive and entry supports hard links.
            Err(e) if displaced == DisplacedBy::Replaced && e.kind() != ErrorKind::NotFound => {
                self.rename_kept(from, to).during(Operation::SetAside)?;
                Ok(NameState::Free)
            }
            Err(e) => Err(e).during(Operation::SetAside),
        }
    }

    /// Copies an entry that will be displaced to the drive of the set-aside folder.
    pub(crate) fn keep_elsewhere(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let Some(aside) = self.keeps_displaced() else { return Ok(()) };
        self.check_destination(place, name, operation)?;
        aside.copy_aside(place, name, aside.counterpart_of(place)?)
    }

    /// True if a name is taken by a copy on another drive.
    fn is_copied(&self, error: &io::Error, to: BorrowedFd<'_>, place: &FolderPair) -> bool {
        let drive = || self.system().stat(Entry::Open(to)).map(|stat| stat.identity.drive);
        error.kind() == ErrorKind::AlreadyExists
            && drive().is_ok_and(|drive| drive != place.stat.identity.drive)
    }

    /// Reverses [`Self::set_aside`] after an error.
    pub(super) fn take_back(&self, place: &FolderPair, name: &[u8], left: NameState) {
        let Some(aside) = self.keeps_displaced() else { return };
        let Ok(counterpart) = aside.counterpart_of(place) else { return };
        // The first error is reported, and nothing is lost either way.
        let _ = match left {
            NameState::Taken => self.system().remove_file(counterpart, name),
            NameState::Free => {
                self.rename_kept((counterpart, name), (place.destination.as_fd(), name))
            }
        };
    }

    /// Sets aside a folder that is empty by now.
    pub(super) fn set_folder_aside(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let (Some(aside), Some(was)) = (self.keeps_displaced(), operation.destination) else {
            return Ok(());
        };
        if operation.reason == Reason::Leftover {
            return Ok(());
        }
        let path = place.path.join(name);
        let from = Entry::Named(place.destination.as_fd(), name);
        let made = aside.counterpart(&path).during(Operation::SetAside)?;
        let (copy, to) = (EntryOperation::copy_of(was), Entry::Open(made.as_fd()));
        aside.writer.set_folder_attributes(&copy, AttributeModel::Entry(from), to, true)?;
        // A locked folder could not be emptied or pruned. The journal has its flags.
        aside.writer.unlock(made.as_fd()).during(Operation::SetAside)?;
        Ok(())
    }

    /// Restores an entry by a rename. Returns false if it lies on another drive.
    pub(super) fn bring_back(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
        planned: &State,
    ) -> Result<bool, StepError> {
        let from = (place.source()?, name);
        let source = self.source_now(Entry::Named(from.0, name), planned)?;
        // In one call, so that the only copy never has a temporary name.
        let placed = || {
            let before = self.lost_by_renaming(from);
            if operation.verb == Verb::Add {
                self.rename_to_new(place, from, name)?;
            } else {
                self.put_in_place(place, from, name, operation)?;
            }
            self.give_back(before, (place.destination.as_fd(), name));
            Ok(())
        };
        self.unlocked(from, (source.kind, source.flags()), AfterWork::Kept, || match placed() {
            Err(StepError(_, Cause::System(e))) if is_elsewhere(&e) => Ok(false),
            other => other.map(|()| true),
        })
    }

    /// Links the entry to its set-aside counterpart, so that its name is never free.
    fn add_name_aside(&self, from: NamedEntry<'_>, to: NamedEntry<'_>) -> io::Result<()> {
        let system = self.system();
        match system.add_name(from.0, from.1, to.0, to.1) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                // An earlier attempt of the same step did this.
                let stat = |(folder, name)| system.stat(Entry::Named(folder, name));
                if stat(from)?.identity == stat(to)?.identity { Ok(()) } else { Err(e) }
            }
            other => other,
        }
    }

    /// Renames to a name that must be free, also where the drive does not see to that.
    pub(super) fn rename_free(&self, from: NamedEntry<'_>, to: NamedEntry<'_>) -> io::Result<()> {
        free_name::rename_free(self.system(), from, to)
    }

    /// The same with an entry that was there before, whose time stays.
    pub(super) fn rename_kept(&self, from: NamedEntry<'_>, to: NamedEntry<'_>) -> io::Result<()> {
        let before = self.lost_by_renaming(from);
        self.rename_free(from, to)?;
        self.give_back(before, to);
        Ok(())
    }

    /// What an entry looks like whose time a rename would change, as on some drives.
    fn lost_by_renaming(&self, entry: NamedEntry<'_>) -> Option<Stat> {
        let is_lost = !self.capabilities.drive.holds(Feature::RenamedTimes);
        is_lost.then(|| self.system().stat(Entry::Named(entry.0, entry.1)).ok()).flatten()
    }

    /// Sets that time again. The entry is where it should be, so an error is none of the rename.
    fn give_back(&self, before: Option<Stat>, entry: NamedEntry<'_>) {
        if let Some(Stat { modified, accessed, .. }) = before {
            let entry = Entry::Named(entry.0, entry.1);
            let _ = self.system().set_times(entry, modified, Some(accessed));
        }
    }
}

/// True if an earlier attempt of a step made this copy.
fn is_copy(copy: &Stat, of: &Stat) -> bool {
    (copy.kind, copy.size, copy.modified) == (of.kind, of.size, of.modified)
}
