//! Entries other than folders: made under a temporary name and then renamed.

use crate::execute::writer::step_error::ErrorContext as _;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_drives::features::Feature;
use utter_echo_files::free_name::{LONG_NAME, NamedEntry};
use utter_echo_files::hidden_names;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::State;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Flags, IfExists, Kind, LARGE};

use crate::execute::writer::attributes::{AttributeModel, EntryCopy};
use crate::execute::writer::content::MadeUnder;
use crate::execute::writer::drive_writer::Writer;
use crate::execute::writer::flags::{AfterWork, MadeEntry};
use crate::execute::writer::folder_pair::FolderPair;
use crate::execute::writer::operation::EntryOperation;
use crate::execute::writer::set_aside::{DisplacedBy, NameState};
use crate::execute::writer::step_error::{StepError, StepResult, no_exchange, was_interrupted};

impl Writer<'_> {
    /// Adds, replaces or adjusts one entry.
    pub(crate) fn write(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        if operation.verb == Verb::Adjust {
            return self.adjust(place, name, operation);
        }
        let Some(source) = operation.source else { return Ok(()) };
        if self.brings_back && self.bring_back(place, name, operation, &source)? {
            return Ok(());
        }
        if place.hidden {
            let made = self.make(place, name, name, operation, &source);
            return self.or_discard(place, name, made.and_then(|made| self.lock(&made)));
        }
        let is_large = source.kind == Kind::File && source.size > LARGE;
        let nameless = operation.verb == Verb::Add && source.kind == Kind::File && !is_large;
        if nameless && self.makes_nameless(place) {
            return self.add_file(place, name, operation, &source);
        }
        let large = is_large.then(|| hidden_names::name_of_large_file(name, source.fingerprint()));
        let temporary = large.as_deref().unwrap_or(&place.temporary);
        match self.make_and_place(place, name, temporary, operation, &source) {
            // Somebody has taken the name, perhaps on purpose, so another one is used.
            Err(error) if error.is_taken_name() => {
                let another = self.context.temporaries.name();
                self.make_and_place(place, name, &another, operation, &source)
            }
            other => other,
        }
    }

    /// Adds an unnamed file and names it when it is complete. It leaves nothing behind if the run is killed, and in
    /// a wide folder one name costs half as much as two.
    fn add_file(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
        source: &State,
    ) -> StepResult {
        let made = self.make_file(place, name, MadeUnder::Nothing, operation, source)?;
        let Some(handle) = &made.handle else { return Ok(()) };
        match self.system().give_name(handle.as_fd(), place.destination.as_fd(), name) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                return Err(StepError::stale_destination(Operation::Write));
            }
            other => other.during(Operation::Write)?,
        }
        self.lock(&made)
    }

    /// Tried out once for each run and drive.
    fn makes_nameless(&self, place: &FolderPair) -> bool {
        *self
            .makes_nameless
            .get_or_init(|| self.system().create_nameless(place.destination.as_fd(), 0o600).is_ok())
    }

    pub(super) fn make_and_place(
        &self,
        place: &FolderPair,
        name: &[u8],
        temporary: &[u8],
        operation: &EntryOperation,
        source: &State,
    ) -> StepResult {
        let made = self.make(place, name, temporary, operation, source);
        let placed = made.and_then(|made| {
            let ready = (place.destination.as_fd(), temporary);
            self.check_own(&made, ready)?;
            self.put_in_place(place, ready, name, operation)?;
            Ok(made)
        });
        match placed {
            Ok(made) if self.capabilities.drive.holds(Feature::RenamedTimes) => self.lock(&made),
            Ok(made) => {
                // Closed first, since closing may count as a change.
                drop(made);
                let folder = place.destination.as_fd();
                let from = Entry::Named(place.source()?, place.source_name(name));
                let accessed = || self.accessed(AttributeModel::Entry(from));
                self.set_time(Entry::Named(folder, name), source, accessed)
            }
            // The next run continues it.
            Err(error) if source.bytes() > LARGE && was_interrupted(&error.1) => Err(error),
            Err(error) => self.or_discard(place, temporary, Err(error)),
        }
    }

    /// Fails unless the name of a large file still leads to it: others may know that name.
    fn check_own(&self, made: &MadeEntry, (folder, name): NamedEntry<'_>) -> StepResult {
        let (Some(file), Some(_)) = (&made.handle, &made.lock) else { return Ok(()) };
        if self.leads_to(folder, name, file.as_fd()).during(Operation::Write)? {
            return Ok(());
        }
        let taken = io::Error::from(ErrorKind::AlreadyExists);
        Err(StepError(Operation::Write, taken.into()))
    }

    fn make(
        &self,
        place: &FolderPair,
        name: &[u8],
        temporary: &[u8],
        operation: &EntryOperation,
        source: &State,
    ) -> Result<MadeEntry, StepError> {
        if source.kind == Kind::File {
            let large = source.size > LARGE;
            let under = if large { MadeUnder::Kept(temporary) } else { MadeUnder::Name(temporary) };
            return self.make_file(place, name, under, operation, source);
        }
        self.make_other(place, name, temporary, operation, source).map(|()| MadeEntry::default())
    }

    /// Removes the new entry after an error.
    fn or_discard(&self, place: &FolderPair, temporary: &[u8], result: StepResult) -> StepResult {
        if let Err(error) = &result
            && !error.is_taken_name()
        {
            // Often it was not made, and there is nothing to remove.
            let _ = self.system().remove_file(place.destination.as_fd(), temporary);
        }
        result
    }

    /// Makes a link, FIFO, socket or device.
    fn make_other(
        &self,
        place: &FolderPair,
        name: &[u8],
        temporary: &[u8],
        operation: &EntryOperation,
        planned: &State,
    ) -> StepResult {
        let system = self.system();
        let source_name = place.source_name(name);
        let source_entry = Entry::Named(place.source()?, source_name);
        let source = self.source_now(source_entry, planned)?;
        let folder = place.destination.as_fd();
        if source.kind == Kind::Symlink {
            let text = system.read_link(place.source()?, source_name).during(Operation::Read)?;
            system.create_link(folder, temporary, &text).during(Operation::Write)?;
        } else {
            system
                .create_special(folder, temporary, source.kind, 0o600, source.size)
                .during(Operation::Write)?;
        }
        let pinned = system.pin(folder, temporary).during(Operation::Write)?;
        let entry = Entry::Pinned(pinned.as_fd());
        let born = system.stat(entry).during(Operation::Write)?;
        // Somebody could have replaced it by a link to another file.
        if born.kind != source.kind || born.links != 1 {
            return Err(StepError(Operation::Write, Cause::Stale("what was just made")));
        }
        let copy = EntryCopy { source_entry, source, made: entry, born: State::from(&born) };
        self.set_new_attributes(place, name, operation, &copy).map(drop)
    }

    /// Reads the source again, which must be as in the plan.
    pub(crate) fn source_now(&self, entry: Entry<'_>, planned: &State) -> Result<State, StepError> {
        match self.system().stat(entry) {
            Ok(now) if planned.still(&now) => Ok(State::from(&now)),
            Err(e) if e.kind() != ErrorKind::NotFound => Err(e).during(Operation::Read),
            _ => Err(StepError::stale_source(Operation::Read)),
        }
    }

    /// Renames a complete entry to its final name.
    pub(super) fn put_in_place(
        &self,
        place: &FolderPair,
        ready: NamedEntry<'_>,
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let system = self.system();
        let folder = place.destination.as_fd();
        if operation.verb == Verb::Add {
            return self.rename_to_new(place, ready, name);
        }
        let old = self.check_destination(place, name, operation)?;
        let old = old.map_or((Kind::File, Flags::default()), |old| (old.kind, old.flags));
        let kept = self.keeps_displaced().is_some() && old.0 != Kind::Folder;
        let after = if kept { AfterWork::Kept } else { AfterWork::Gone };
        self.unlocked((folder, name), old, after, || {
            if operation.takes_a_folders_place() {
                self.set_folder_aside(place, name, operation)?;
                return self.replace_folder(ready, (folder, name));
            }
            let name_is = self.set_aside(place, name, DisplacedBy::Replaced)?;
            if name_is == NameState::Taken
                && name.len() > LONG_NAME
                && !self.capabilities.drive.holds(Feature::LongNamesReplaced)
            {
                let waiting = self.replace_in_turn(ready, (folder, name))?;
                return system.remove_file(folder, &waiting).during(Operation::Remove);
            }
            let placed = system.rename(ready, (folder, name), IfExists::Replace);
            if placed.is_err() {
                self.take_back(place, name, name_is);
            }
            placed.during(Operation::Write)
        })
    }

    /// Replaces an empty folder.
    fn replace_folder(&self, ready: NamedEntry<'_>, to: NamedEntry<'_>) -> StepResult {
        let system = self.system();
        match system.rename(ready, to, IfExists::Exchange) {
            Ok(()) => system
                .remove_folder(ready.0, ready.1)
                .or_else(|error| {
                    // Somebody put something into the empty folder, so it is restored.
                    system.rename(ready, to, IfExists::Exchange)?;
                    Err(error)
                })
                .during(Operation::Remove),
            Err(e) if no_exchange(&e) => {
                let waiting = self.replace_in_turn(ready, to)?;
                let removed = system.remove_folder(to.0, &waiting);
                if removed.is_err() && self.rename_free(to, ready).is_ok() {
                    // Somebody put something into the empty folder, so it is restored. The error is the one to
                    // report.
                    let _ = self.rename_free((to.0, &waiting), to);
                }
                removed.during(Operation::Remove)
            }
            Err(e) => Err(e).during(Operation::Write),
        }
    }

    /// Replaces an entry where names cannot be exchanged: the old entry gets a hidden name, and is restored if the
    /// new one cannot be placed. If the run is killed in between, the next one finishes, since the source has the
    /// new entry.
    pub(super) fn replace_in_turn(
        &self,
        ready: NamedEntry<'_>,
        to: NamedEntry<'_>,
    ) -> Result<Vec<u8>, StepError> {
        let waiting = self.context.temporaries.name();
        self.rename_free(to, (to.0, &waiting)).during(Operation::Write)?;
        match self.rename_free(ready, to) {
            Ok(()) => Ok(waiting),
            Err(error) => {
                // The first error is reported. If this fails as well, the entry keeps its hidden name.
                let _ = self.rename_free((to.0, &waiting), to);
                Err(error).during(Operation::Write)
            }
        }
    }

    /// Renames to a name that is free in the plan, and never over a new entry.
    pub(super) fn rename_to_new(
        &self,
        place: &FolderPair,
        ready: NamedEntry<'_>,
        name: &[u8],
    ) -> StepResult {
        match self.rename_free(ready, (place.destination.as_fd(), name)) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                Err(StepError::stale_destination(Operation::Write))
            }
            other => other.during(Operation::Write),
        }
    }

    /// Changes attributes of an existing entry, by a handle, so that it cannot be exchanged.
    pub(crate) fn adjust(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let system = self.system();
        let Some(planned) = operation.source else {
            return Ok(());
        };
        let path = place.path.join(name);
        let model =
            self.model(&path, || Ok(Entry::Named(place.source()?, place.source_name(name))))?;
        let source = match model {
            AttributeModel::Entry(entry) => self.source_now(entry, &planned)?,
            AttributeModel::Before(before) => before.state,
        };
        let pinned =
            system.pin(place.destination.as_fd(), name).during(Operation::SetAttributes)?;
        let entry = Entry::Pinned(pinned.as_fd());
        let now = system.stat(entry).during(Operation::SetAttributes)?;
        if !operation.destination.is_some_and(|seen| seen.still(&now)) {
            return Err(StepError::stale_destination(Operation::SetAttributes));
        }
        // It is opened by its name, which is checked to lead to the same entry.
        let named = Entry::Named(place.destination.as_fd(), name);
        let change = || {
            let again = system.stat(named).during(Operation::SetAttributes)?;
            if again.identity != now.identity {
                return Err(StepError::stale_destination(Operation::SetAttributes));
            }
            self.change_attributes(model, entry, &source, &State::from(&now))?;
            self.set_time(entry, &source, || self.accessed(model))
        };
        self.between_flags(operation, model, named, change)
    }

    /// Links a name to an existing entry: `leader` in the folder `from`.
    pub(crate) fn link(
        &self,
        place: &FolderPair,
        (from, leader): (BorrowedFd<'_>, &[u8]),
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let system = self.system();
        match self.place_link(place, (from, leader), name, operation) {
            // Locking flags also prevent links.
            Err(error) if error.is_forbidden() => {
                let Ok(handle) = system.open_file(from, leader) else {
                    return Err(error);
                };
                let had = self.unlock(handle.as_fd()).during(Operation::Write)?;
                let placed = self.place_link(place, (from, leader), name, operation);
                let locked = had.map_or(Ok(()), |had| system.set_flags(handle.as_fd(), had));
                placed.and_then(|()| locked.during(Operation::SetAttributes))
            }
            other => other,
        }
    }

    fn place_link(
        &self,
        place: &FolderPair,
        (from, leader): (BorrowedFd<'_>, &[u8]),
        name: &[u8],
        operation: &EntryOperation,
    ) -> StepResult {
        let (system, folder) = (self.system(), place.destination.as_fd());
        if operation.verb == Verb::Add {
            return match system.add_name(from, leader, folder, name) {
                Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                    Err(StepError::stale_destination(Operation::Write))
                }
                other => other.during(Operation::Write),
            };
        }
        let temporary = self.context.temporaries.name();
        system.add_name(from, leader, folder, &temporary).during(Operation::Write)?;
        let placed = self.put_in_place(place, (folder, &temporary), name, operation);
        self.or_discard(place, &temporary, placed)
    }
}
