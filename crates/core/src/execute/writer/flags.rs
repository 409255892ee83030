//! Inode flags. They are set last, since two of them lock an entry, and cleared where a locked entry must be
//! changed or removed.

use crate::execute::writer::step_error::ErrorContext as _;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_files::attributes;
use utter_echo_files::free_name::NamedEntry;
use utter_echo_model::attribute::Attribute;
use utter_echo_model::problem::Operation;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Flags, Kind, Lock};

use crate::execute::writer::attributes::AttributeModel;
use crate::execute::writer::drive_writer::Writer;
use crate::execute::writer::folder_pair::FolderPair;
use crate::execute::writer::operation::EntryOperation;
use crate::execute::writer::step_error::{StepError, StepResult};

/// A new entry, with the work that remains after it has its name.
#[derive(Debug, Default)]
pub(super) struct MadeEntry {
    /// Open, if it is a file.
    pub(super) handle: Option<OwnedFd>,
    /// Its flags, if some of them would prevent its rename.
    pub(super) flags: Option<Flags>,
    /// The lock of a large file that is being written.
    pub(super) lock: Option<Lock>,
}

/// Whether an entry still exists after the work on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum AfterWork {
    /// It exists, here or elsewhere.
    Kept,
    /// It is gone.
    Gone,
}

impl Writer<'_> {
    /// Clears the locking flags of an open entry. Returns all its former flags.
    pub(crate) fn unlock(&self, entry: BorrowedFd<'_>) -> io::Result<Option<Flags>> {
        let had = attributes::flags(self.system(), entry);
        if let Some(had) = had.filter(|had| !had.and(Flags::LOCKS).is_empty()) {
            self.system().set_flags(entry, had.without(Flags::LOCKS))?;
        }
        Ok(had)
    }

    /// Does `work` on a named entry of the destination with its locking flags cleared. They are set again if the
    /// work fails or the entry is kept elsewhere.
    pub(super) fn unlocked<T>(
        &self,
        named: NamedEntry<'_>,
        (kind, shown): (Kind, Flags),
        after: AfterWork,
        work: impl FnOnce() -> Result<T, StepError>,
    ) -> Result<T, StepError> {
        if shown.and(Flags::LOCKS).is_empty() {
            return work();
        }
        let handle = self.open_named(named.0, named.1, kind).during(Operation::Write)?;
        let had = self.unlock(handle.as_fd()).during(Operation::Write)?;
        let result = work();
        match (&result, had) {
            (Err(_), Some(had)) => {
                // The first error is the one to report.
                let _ = self.system().set_flags(handle.as_fd(), had);
            }
            (Ok(_), Some(had)) if after == AfterWork::Kept => {
                let locked = self.system().set_flags(handle.as_fd(), had);
                locked.during(Operation::SetAttributes)?;
            }
            _ => {}
        }
        result
    }

    pub(super) fn open_named(
        &self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        kind: Kind,
    ) -> io::Result<OwnedFd> {
        match kind {
            Kind::Folder => self.system().open_folder(folder, name),
            _ => self.system().open_file(folder, name),
        }
    }

    /// Sets the flags of a new file. If some of them would prevent its rename, returns all flags and sets the
    /// others.
    pub(super) fn set_flags_before_rename(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
    ) -> Result<Option<Flags>, StepError> {
        if self.capabilities.drive.flags.is_empty() {
            return Ok(None);
        }
        let system = self.system();
        let wanted = if self.carries(Attribute::Flags) {
            attributes::flags(system, source).map(|flags| self.capabilities.flags_to_carry(flags))
        } else if operation.replaces_its_kind() {
            let old = system.open_file(place.destination.as_fd(), name);
            let old = old.during(Operation::LookAtDestination)?;
            attributes::flags(system, old.as_fd())
        } else {
            None
        };
        let Some(wanted) = wanted else { return Ok(None) };
        let born = if place.gives.flags.is_empty() {
            Flags::default()
        } else {
            attributes::flags(system, made).unwrap_or_default()
        };
        let now = wanted.without(Flags::LOCKS);
        if now != born {
            system.set_flags(made, now).during(Operation::SetAttributes)?;
        }
        Ok((wanted != now).then_some(wanted))
    }

    /// Sets the flags that had to wait for the rename.
    pub(super) fn lock(&self, made: &MadeEntry) -> StepResult {
        match made {
            MadeEntry { handle: Some(handle), flags: Some(flags), .. } => {
                self.system().set_flags(handle.as_fd(), *flags).during(Operation::SetAttributes)
            }
            _ => Ok(()),
        }
    }

    /// Does `work` on the attributes of an existing file or folder, between clearing its locking flags and setting
    /// its final ones.
    pub(super) fn between_flags(
        &self,
        operation: &EntryOperation,
        source: AttributeModel<'_>,
        entry: Entry<'_>,
        work: impl FnOnce() -> StepResult,
    ) -> StepResult {
        let concerned =
            operation.attributes.has(Attribute::Flags) || operation.verb != Verb::Adjust;
        let carries = self.carries(Attribute::Flags) && concerned;
        let locked = operation.destination.is_some_and(|d| !d.flags().and(Flags::LOCKS).is_empty());
        if !matches!(operation.kind(), Kind::File | Kind::Folder) || !(carries || locked) {
            return work();
        }
        let system = self.system();
        let mut held = None;
        let opened =
            self.handle(entry, operation.kind(), &mut held).during(Operation::SetAttributes)?;
        let Some(had) = attributes::flags(system, opened) else {
            return work();
        };
        let wanted = if carries { self.flags_of(source, operation.kind())? } else { None };
        let wanted = wanted.map_or(had, |flags| self.capabilities.flags_to_carry(flags));
        // Locking flags are set last, and all others first: after a kill in between the times show that the entry
        // is unfinished, while flags show only in a close comparison.
        let open = wanted.without(Flags::LOCKS);
        if open != had {
            system.set_flags(opened, open).during(Operation::SetAttributes)?;
        }
        if let Err(error) = work() {
            let _ = system.set_flags(opened, had);
            return Err(error);
        }
        if wanted == open {
            return Ok(());
        }
        system.set_flags(opened, wanted).during(Operation::SetAttributes)
    }

    /// The flags of an entry that may not be opened are not known.
    fn flags_of(&self, model: AttributeModel<'_>, kind: Kind) -> Result<Option<Flags>, StepError> {
        let source = match model {
            AttributeModel::Entry(source) => source,
            AttributeModel::Before(before) => return Ok(before.flags),
        };
        let mut held = None;
        match self.handle(source, kind, &mut held) {
            Ok(source) => Ok(attributes::flags(self.system(), source)),
            Err(e) if e.kind() == io::ErrorKind::PermissionDenied => Ok(None),
            Err(e) => Err(e).during(Operation::Read),
        }
    }

    /// A handle of a file or folder. A new one is stored in `held`.
    fn handle<'h>(
        &self,
        entry: Entry<'h>,
        kind: Kind,
        held: &'h mut Option<OwnedFd>,
    ) -> io::Result<BorrowedFd<'h>> {
        let opened = match entry {
            Entry::Open(handle) => return Ok(handle),
            Entry::Named(folder, name) => self.open_named(folder, name, kind)?,
            Entry::Pinned(handle) => self.system().open_folder(handle, b"")?,
        };
        let opened: &'h OwnedFd = held.insert(opened);
        Ok(opened.as_fd())
    }
}
