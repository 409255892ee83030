//! The proof that an entry of the source and its copy are equal, for files, folders and roots.

use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::atomic::Ordering;

use utter_echo_files::same_content::ReadLength;
use utter_echo_files::uncarried::Uncarried;
use utter_echo_files::{attributes, same_content};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::StateAfter;
use utter_echo_model::verb::Reason;
use utter_echo_os::{Entry, Flags, Identity, Kind, Lease, Stat, System};

use crate::execute::stages::read_back;
use crate::execute::stages::site::OnDrive;
use crate::execute::stages::source_removal::shared::{SourceRemoval, is_unchanged};
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::{ErrorContext as _, StepError, StepResult};

/// An entry on one side, open as far as its kind allows.
pub(super) struct HeldEntry<'f> {
    folder: BorrowedFd<'f>,
    name: &'f [u8],
    /// Open for a file or folder, and pinned for other kinds.
    handle: Option<OwnedFd>,
    pub(super) stat: Stat,
}

impl<'f> HeldEntry<'f> {
    /// Opens an entry before its attributes are read, so that both belong to the same entry.
    pub(super) fn open(
        system: &dyn System,
        folder: BorrowedFd<'f>,
        name: &'f [u8],
    ) -> Result<Self, StepError> {
        let named = system.stat(Entry::Named(folder, name)).during(Operation::RemoveSource)?;
        let handle = match named.kind {
            Kind::File => Some(system.open_file(folder, name).during(Operation::RemoveSource)?),
            Kind::Folder => Some(system.open_folder(folder, name).during(Operation::RemoveSource)?),
            _ => system.pin(folder, name).ok(),
        };
        let mut held = Self { folder, name, handle, stat: named };
        held.stat = system.stat(held.entry()).during(Operation::RemoveSource)?;
        Ok(held)
    }

    /// The entry of a root.
    pub(super) fn of_root(system: &dyn System, root: BorrowedFd<'f>) -> Result<Self, StepError> {
        let handle = system.open_folder(root, b"").during(Operation::RemoveSource)?;
        let stat = system.stat(Entry::Open(handle.as_fd())).during(Operation::RemoveSource)?;
        Ok(Self { folder: root, name: b"", handle: Some(handle), stat })
    }

    fn opened(&self) -> Option<BorrowedFd<'_>> {
        let is_open = matches!(self.stat.kind, Kind::File | Kind::Folder);
        self.handle.as_ref().filter(|_| is_open).map(AsFd::as_fd)
    }

    fn entry(&self) -> Entry<'_> {
        self.opened().map_or(Entry::Named(self.folder, self.name), Entry::Open)
    }
}

/// A source entry whose copy was verified.
pub(super) struct ProvenEntry {
    /// A handle of the entry; `None` if it cannot be opened.
    pub(super) entry: Option<OwnedFd>,
    /// The identity of its copy.
    pub(super) copy: Identity,
    /// Prevents writes to it until it is removed; `None` if the drive or the user has no leases.
    pub(super) lease: Option<Lease>,
}

fn not_arrived() -> StepError {
    StepError(Operation::RemoveSource, Cause::NotArrived)
}

impl SourceRemoval<'_, '_> {
    /// Fails unless the copy on the destination's drive equals the source's entry, which is still as `seen`. With
    /// `is_fresh` the copy was just read from its drive.
    pub(super) fn prove(
        &self,
        at: &StepSite<'_>,
        seen: &Stat,
        is_fresh: bool,
    ) -> Result<ProvenEntry, StepError> {
        let StepSite { on, place, name, step } = *at;
        let system = self.run.system();
        let here = HeldEntry::open(system, place.source()?, place.source_name(name))?;
        let there = HeldEntry::open(system, place.destination.as_fd(), name)?;
        if (there.stat.kind, there.stat.size) != (seen.kind, seen.size) {
            return Err(not_arrived());
        }
        if !self.is_home(step) {
            self.prove_attributes(on, (&here, seen), &there)?;
        }
        let mut lease = None;
        match (seen.kind, here.opened(), there.opened()) {
            (Kind::File, Some(file), Some(copy)) => {
                lease = self.prove_content(at, seen, (file, copy), is_fresh).map_err(|error| {
                    match error {
                        StepError(operation, Cause::NotArrived)
                            if step.reason == Reason::Arrived =>
                        {
                            StepError(operation, Cause::OnlyLooksTheSame)
                        }
                        other => other,
                    }
                })?;
            }
            (Kind::Symlink, ..) => {
                let read = |side: &HeldEntry<'_>| {
                    system.read_link(side.folder, side.name).during(Operation::RemoveSource)
                };
                if read(&here)? != read(&there)? {
                    return Err(not_arrived());
                }
            }
            // It is no longer a file.
            (Kind::File, ..) => return Err(StepError::stale_source(Operation::RemoveSource)),
            _ => {}
        }
        Ok(ProvenEntry { entry: here.handle, copy: there.stat.identity, lease })
    }

    /// Fails unless all attributes have arrived, also those that are not carried, or the user accepts their loss.
    pub(super) fn prove_attributes(
        &self,
        on: &OnDrive<'_>,
        (here, seen): (&HeldEntry<'_>, &Stat),
        there: &HeldEntry<'_>,
    ) -> StepResult {
        let (system, capabilities) = (self.run.system(), &on.writer.capabilities);
        if self.run.terms.may_lose {
            return Ok(());
        }
        let uncarried = |side: &HeldEntry<'_>| match side.opened() {
            Some(opened) => Uncarried::of_open(system, opened),
            None => Uncarried::of(system, side.entry()),
        };
        // What goes home by an undo never had more there.
        let has = if self.run.site.is_undo() { Uncarried::default() } else { uncarried(here) };
        if has.is_some() {
            let lost: Vec<&str> = has.lost_in(uncarried(there)).collect();
            if !lost.is_empty() {
                return Err(StepError(Operation::RemoveSource, Cause::Uncarried(lost.join(", "))));
            }
        }
        let copy = &there.stat;
        let has_mode = seen.kind != Kind::Symlink;
        let is_folder = seen.kind == Kind::Folder;
        let same_mode = !has_mode || seen.mode == copy.mode;
        let same_time = is_folder || capabilities.agree(seen.modified, copy.modified);
        let same_owner = (seen.uid, seen.gid) == (copy.uid, copy.gid);
        let hidden = |side: &HeldEntry<'_>| {
            let entry = side.entry();
            attributes::shown_xattrs(system, entry, &capabilities.caller)
                .during(Operation::RemoveSource)
        };
        let flags = |side: &HeldEntry<'_>| {
            let flags = side.opened().and_then(|file| attributes::flags(system, file));
            flags.unwrap_or_default().and(Flags::CARRIED)
        };
        let same = same_mode && same_time && same_owner;
        if same && hidden(here)? == hidden(there)? && flags(here) == flags(there) {
            Ok(())
        } else {
            Err(not_arrived())
        }
    }

    fn prove_content(
        &self,
        at: &StepSite<'_>,
        seen: &Stat,
        (file, copy): (BorrowedFd<'_>, BorrowedFd<'_>),
        is_fresh: bool,
    ) -> Result<Option<Lease>, StepError> {
        let (run, system, on) = (self.run, self.run.system(), at.on);
        let path = at.place.path.join(at.name);
        let before = system.stat(Entry::Open(copy)).during(Operation::RemoveSource)?;
        let is_device_cache_dropped = is_fresh && on.has_flushed(&before)
            || read_back::drop_cache(run, Some(on), copy).during(Operation::RemoveSource)?;
        let is_device_cache_dropped =
            is_device_cache_dropped && on.is_device_cache_dropped.load(Ordering::Relaxed);
        if !is_device_cache_dropped && !run.terms.may_lose {
            return Err(StepError(Operation::RemoveSource, Cause::ProvenInMemoryAlone));
        }
        let numbers = on.mounted.capabilities.drive.numbers;
        let both = |here: &Stat, there: &Stat| {
            (StateAfter::seen(here, InodeNumbers::Stable), StateAfter::seen(there, numbers))
        };
        let interrupted = run.terms.interrupted;
        let is_proven = interrupted.is_some_and(|run| run.proves(&path, &both(seen, &before)));
        let observer = run.site.context.observer;
        // Fails before all of a file is read that a program holds open for writing.
        drop(take_lease(system, file)?);
        if is_proven {
            observer.compared(seen.size.saturating_mul(2));
        } else {
            let interrupted = || Err(std::io::ErrorKind::Interrupted.into());
            let go_on = |bytes: usize, _: u64| {
                observer.compared(bytes as u64);
                if self.must_stop() { interrupted() } else { Ok(()) }
            };
            let length = ReadLength { size: seen.size, block: run.site.block() };
            let differs = same_content::first_difference(system, file, copy, length, go_on);
            if differs.during(Operation::RemoveSource)?.is_some() {
                return Err(not_arrived());
            }
        }
        let lease = take_lease(system, file)?;
        let now = system.stat(Entry::Open(file)).during(Operation::RemoveSource)?;
        if !is_unchanged(seen, &now) {
            return Err(StepError(Operation::RemoveSource, Cause::Restless));
        }
        if let Some(aside) = on.writer.aside.filter(|_| !is_proven) {
            aside.note_proven(&path, both(&now, &before))?;
        }
        Ok(lease)
    }
}

/// Fails if somebody writes to the file. `None` where the drive has no leases.
fn take_lease(system: &dyn System, file: BorrowedFd<'_>) -> Result<Option<Lease>, StepError> {
    match system.take_lease(file) {
        Ok(None) => Err(StepError(Operation::RemoveSource, Cause::BeingWritten)),
        other => Ok(other.ok().flatten()),
    }
}
