//! Attributes of entries.
//!
//! The order matters: a new owner removes special bits and capabilities, so it comes first; a plain user can set
//! extended attributes only while the file is writable, so they come before the mode; nearly everything changes
//! times, so they come last.
//!
//! An access list includes the permission bits of the mode. If lists are carried and modes are not, an entry with a
//! list gets the bits of that list.

use crate::execute::writer::step_error::ErrorContext as _;
use std::os::fd::AsFd;

use rustix::io::Errno;
use utter_echo_drives::features::Feature;
use utter_echo_model::attribute::{Attribute, Attributes};
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Operation;
use utter_echo_model::state::{AttributesBefore, State};
use utter_echo_model::verb::Verb;
use utter_echo_os::{ACCESS_LIST, DEFAULT_LIST, Entry, Flags, Kind, Stat, Time, Xattrs, is_absent};

use crate::execute::writer::drive_writer::Writer;
use crate::execute::writer::folder_pair::FolderPair;
use crate::execute::writer::operation::EntryOperation;
use crate::execute::writer::step_error::{StepError, StepResult};

/// The final attributes of a new entry.
pub(super) struct WantedAttributes {
    owner: (u32, u32),
    /// The owner, as far as this caller can set it.
    settled: (u32, u32),
    /// `None` for the system's default.
    mode: Option<u32>,
}

/// The model for the attributes of an existing entry.
#[derive(Clone, Copy)]
pub(crate) enum AttributeModel<'a> {
    /// An entry of the source.
    Entry(Entry<'a>),
    /// Its own attributes before the run that is undone.
    Before(&'a AttributesBefore),
}

/// An entry and its copy, by handle and state.
pub(super) struct EntryCopy<'a> {
    pub(super) source_entry: Entry<'a>,
    pub(super) source: State,
    /// The copy, under its temporary name or none.
    pub(super) made: Entry<'a>,
    pub(super) born: State,
}

impl Writer<'_> {
    /// The model of an entry of the destination: the source's entry of the same path, unless an undo knows its
    /// former attributes.
    pub(crate) fn model<'m>(
        &'m self,
        path: &TreePath,
        source: impl FnOnce() -> Result<Entry<'m>, StepError>,
    ) -> Result<AttributeModel<'m>, StepError> {
        match self.memory.and_then(|memory| memory.get(path.as_bytes())) {
            Some(before) => Ok(AttributeModel::Before(before)),
            None => source().map(AttributeModel::Entry),
        }
    }

    pub(crate) fn accessed(&self, model: AttributeModel<'_>) -> std::io::Result<Time> {
        match model {
            AttributeModel::Entry(entry) => self.system().stat(entry).map(|stat| stat.accessed),
            AttributeModel::Before(before) => Ok(before.accessed),
        }
    }

    /// The attributes of a new entry: the source's, or the replaced entry's where they are not carried.
    pub(super) fn wanted(
        &self,
        place: &FolderPair,
        operation: &EntryOperation,
        source: &State,
    ) -> WantedAttributes {
        let replaced = operation.destination.filter(|_| operation.replaces_its_kind());
        let born = (self.capabilities.caller.uid, place.gives.born_gid);
        let of = |state: &State| (state.uid, state.gid);
        let (owner, settled) = if self.carries(Attribute::Owner) {
            let owner = of(source);
            (owner, self.capabilities.owner_to_set(owner, born).unwrap_or(born))
        } else {
            let own = (self.capabilities.caller.uid, self.capabilities.caller.gid);
            let owner = replaced.as_ref().map_or(own, of);
            (owner, if self.gives_owners() { owner } else { born })
        };
        let mode = match replaced {
            _ if self.carries(Attribute::Mode) => {
                Some(self.capabilities.mode_with(source.mode(), of(source), settled))
            }
            Some(old) => Some(self.capabilities.mode_with(old.mode(), of(&old), settled)),
            None => None,
        };
        WantedAttributes { owner, settled, mode }
    }

    /// True if the caller can set owners on this drive.
    fn gives_owners(&self) -> bool {
        self.capabilities.caller.gives_files && self.capabilities.drive.holds(Feature::Owners)
    }

    /// The mode to create a file with. Nobody else may open it before it has its owner, and special bits come last.
    pub(super) fn birth_mode(&self, place: &FolderPair, wanted: &WantedAttributes) -> u32 {
        let born = (self.capabilities.caller.uid, place.gives.born_gid);
        if wanted.owner != born || place.gives.gives_lists {
            return 0o600;
        }
        wanted.mode.map_or(0o666, |mode| mode & 0o777 | 0o200)
    }

    /// The attributes of a file that was created with `birth_mode`.
    pub(super) fn born(&self, place: &FolderPair, birth_mode: u32, like: &Stat) -> State {
        let mut born = *like;
        born.uid = self.capabilities.caller.uid;
        born.gid = place.gives.born_gid;
        born.mode = birth_mode & !self.capabilities.caller.umask;
        State::from(&born)
    }

    /// Sets all attributes of a new entry, which still has its temporary name.
    pub(super) fn set_new_attributes(
        &self,
        place: &FolderPair,
        name: &[u8],
        operation: &EntryOperation,
        copy: &EntryCopy<'_>,
    ) -> Result<Option<Flags>, StepError> {
        let EntryCopy { source_entry, source, made, born } = copy;
        let (source_entry, made) = (*source_entry, *made);
        let system = self.system();
        let wanted = self.wanted(place, operation, source);
        self.set_owner(made, wanted.owner, (born.uid, born.gid))?;
        let xattrs = self.capabilities.xattrs(system, source_entry).during(Operation::Read)?;
        let mut xattrs =
            self.capabilities.xattrs_for(xattrs, (source.uid, source.gid), wanted.settled);
        let replaced = operation.replaces_its_kind();
        if replaced {
            let old = Entry::Named(place.destination.as_fd(), name);
            xattrs.extend(self.uncarried(old).during(Operation::LookAtDestination)?);
        }
        if place.gives.gives_lists && (replaced || self.carries(Attribute::Acl)) {
            self.drop_inherited(made, &xattrs)?;
        }
        for (name, value) in &xattrs {
            system.set_xattr(made, name, value).during(Operation::SetAttributes)?;
        }
        let lists_changed =
            place.gives.gives_lists || xattrs.iter().any(|(name, _)| name == ACCESS_LIST);
        let usual = wanted.mode.unwrap_or(0o666 & !self.capabilities.caller.umask);
        let mode = self.mode_with_list(usual, source, &xattrs);
        // A new owner removes special bits, but they are not set yet.
        if source.kind != Kind::Symlink && (mode != born.mode() || lists_changed) {
            self.set_mode(made, mode)?;
        }
        self.set_time(made, source, || self.accessed(AttributeModel::Entry(source_entry)))?;
        match (source_entry, made) {
            (Entry::Open(source), Entry::Open(made)) => {
                self.set_flags_before_rename(place, name, operation, source, made)
            }
            // Links and special files have no flags.
            _ => Ok(None),
        }
    }

    fn set_mode(&self, entry: Entry<'_>, mode: u32) -> StepResult {
        if !self.capabilities.drive.holds(Feature::Modes) {
            return Ok(());
        }
        self.system().set_mode(entry, mode).during(Operation::SetAttributes)
    }

    /// Sets the carried times of the source, as far as the drive keeps them. The source is read again only for its
    /// access time.
    pub(crate) fn set_time(
        &self,
        entry: Entry<'_>,
        source: &State,
        accessed: impl FnOnce() -> std::io::Result<Time>,
    ) -> StepResult {
        let (system, capabilities) = (self.system(), self.capabilities);
        let carries_access = self.carries(Attribute::Atime);
        if !self.carries(Attribute::Times) && !carries_access {
            return Ok(());
        }
        let modified = if self.carries(Attribute::Times) {
            capabilities.drive.nearest(source.modified())
        } else {
            system.stat(entry).during(Operation::SetAttributes)?.modified
        };
        let both = carries_access || !capabilities.drive.holds(Feature::TimesApart);
        let accessed = if both {
            Some(capabilities.drive.nearest(accessed().during(Operation::Read)?))
        } else {
            None
        };
        system.set_times(entry, modified, accessed).during(Operation::SetAttributes)
    }

    /// Restores the times of an entry, whether times are carried or not.
    pub(crate) fn restore_time(
        &self,
        entry: Entry<'_>,
        before: &State,
        accessed: impl FnOnce() -> Option<Time>,
    ) -> StepResult {
        let (system, drive) = (self.system(), &self.capabilities.drive);
        let accessed = match accessed() {
            None if drive.holds(Feature::TimesApart) => None,
            None => Some(system.stat(entry).during(Operation::SetAttributes)?.accessed),
            known => known,
        };
        let accessed = accessed.map(|time| drive.nearest(time));
        let modified = drive.nearest(before.modified());
        match system.set_times(entry, modified, accessed) {
            // Somebody else's folder, which the caller may only write into.
            Err(e) if e.raw_os_error() == Some(Errno::PERM.raw_os_error()) => Ok(()),
            other => other.during(Operation::SetAttributes),
        }
    }

    /// Extended attributes of a replaced entry that are not carried, and so stay.
    fn uncarried(&self, old: Entry<'_>) -> std::io::Result<Xattrs> {
        let hidden = [Attribute::Acl, Attribute::Xattr].into_iter();
        let uncarried: Attributes = hidden.filter(|attribute| !self.carries(*attribute)).collect();
        self.capabilities.xattrs_of(self.system(), old, uncarried)
    }

    fn drop_inherited(&self, made: Entry<'_>, wanted: &Xattrs) -> StepResult {
        for list in [ACCESS_LIST, DEFAULT_LIST] {
            if wanted.iter().all(|(name, _)| name != list) {
                match self.system().remove_xattr(made, list) {
                    Err(e) if is_absent(&e) => {}
                    other => other.during(Operation::SetAttributes)?,
                }
            }
        }
        Ok(())
    }

    /// Sets owner and group as far as this caller may.
    fn set_owner(
        &self,
        entry: Entry<'_>,
        wanted: (u32, u32),
        has: (u32, u32),
    ) -> Result<bool, StepError> {
        let set = if self.carries(Attribute::Owner) {
            self.capabilities.owner_to_set(wanted, has)
        } else {
            // The owner of the replaced entry is kept, and may be somebody else.
            (wanted != has && self.gives_owners()).then_some(wanted)
        };
        if let Some((uid, gid)) = set {
            self.system().set_owner(entry, uid, gid).during(Operation::SetAttributes)?;
        }
        Ok(set.is_some())
    }

    /// Updates the carried attributes of an existing entry, except its times.
    pub(super) fn change_attributes(
        &self,
        model: AttributeModel<'_>,
        entry: Entry<'_>,
        source: &State,
        has: &State,
    ) -> StepResult {
        let system = self.system();
        let of = |state: &State| (state.uid, state.gid);
        let owner = of(if self.carries(Attribute::Owner) { source } else { has });
        let owner_set = self.set_owner(entry, owner, of(has))?;
        let settled = if self.carries(Attribute::Owner) {
            self.capabilities.owner_to_set(owner, of(has)).unwrap_or(of(has))
        } else {
            of(has)
        };
        let wanted = match model {
            AttributeModel::Entry(entry) => {
                self.capabilities.xattrs(system, entry).during(Operation::Read)?
            }
            AttributeModel::Before(before) => before.xattrs.clone(),
        };
        let wanted = self.capabilities.xattrs_for(wanted, of(source), settled);
        let lists_set = self.change_xattrs(&wanted, entry, has)?;
        let from = if self.carries(Attribute::Mode) { source } else { has };
        let usual = self.capabilities.mode_with(from.mode(), of(from), settled);
        let mode = self.mode_with_list(usual, source, &wanted);
        // A new owner removes special bits, and a new access list changes the group bits.
        if source.kind != Kind::Symlink && (mode != has.mode() || owner_set || lists_set) {
            self.set_mode(entry, mode)?;
        }
        Ok(())
    }

    fn mode_with_list(&self, usual: u32, source: &State, xattrs: &Xattrs) -> u32 {
        let listed =
            self.carries(Attribute::Acl) && xattrs.iter().any(|(name, _)| name == ACCESS_LIST);
        if listed && !self.carries(Attribute::Mode) {
            usual & 0o7000 | source.mode() & 0o777
        } else {
            usual
        }
    }

    /// Sets the wanted extended attributes and removes others. Returns whether anything changed.
    fn change_xattrs(
        &self,
        wanted: &Xattrs,
        entry: Entry<'_>,
        has: &State,
    ) -> Result<bool, StepError> {
        let system = self.system();
        let present =
            self.capabilities.xattrs(system, entry).during(Operation::LookAtDestination)?;
        if *wanted == present {
            return Ok(false);
        }
        let locked = has.mode() & 0o200 == 0
            && !self.capabilities.caller.gives_files
            && has.kind != Kind::Symlink;
        if locked {
            self.set_mode(entry, has.mode() | 0o200)?;
        }
        for (name, _) in present.iter().filter(|(name, _)| wanted.iter().all(|(w, _)| w != name)) {
            system.remove_xattr(entry, name).during(Operation::SetAttributes)?;
        }
        for (name, value) in wanted.iter().filter(|xattr| !present.contains(xattr)) {
            system.set_xattr(entry, name, value).during(Operation::SetAttributes)?;
        }
        Ok(true)
    }

    /// Sets the attributes of a folder: all of a new one, and those that differ of an existing one.
    pub(crate) fn set_folder_attributes(
        &self,
        operation: &EntryOperation,
        source: AttributeModel<'_>,
        made: Entry<'_>,
        keeps_times: bool,
    ) -> StepResult {
        let Some(planned) = operation.source else {
            return Ok(());
        };
        let system = self.system();
        let adjusts = operation.verb == Verb::Adjust;
        let times = [Attribute::Times, Attribute::Atime];
        let has_times = times.iter().any(|attribute| operation.attributes.has(*attribute));
        let only_times =
            adjusts && operation.attributes.iter().all(|attribute| times.contains(&attribute));
        // If its time did not differ before, the changes in it have changed it.
        let keeps_its_own = adjusts && !has_times;
        let model = operation.destination.filter(|_| keeps_its_own).unwrap_or(planned);
        self.between_flags(operation, source, made, || {
            if !adjusts && !self.carries(Attribute::Mode) {
                self.set_mode(made, 0o777 & !self.capabilities.caller.umask)?;
            }
            if !only_times {
                let has = State::from(&system.stat(made).during(Operation::SetAttributes)?);
                self.change_attributes(source, made, &planned, &has)?;
            }
            if keeps_times {
                self.set_time(made, &model, || self.accessed(source))?;
            }
            Ok(())
        })
    }
}
