//! Entering the folders of steps. They must be those of the plan, and those that the caller may not write to are
//! opened for the time of the changes.

use crate::execute::writer::ErrorContext as _;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_model::attribute::Attribute;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::is_number;
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::{Entry, Flags, Lock, LockMode, System};

use crate::execute::stages::ledger::PartLedger;
use crate::execute::stages::run::{Opening, PartRun};
use crate::execute::stages::site::{OnDrive, PartSite};
use crate::execute::writer::{FolderPair, StepError, WHILE_FILLED};
use crate::policy::{Step, StepId};

/// Opens the destination's root. Missing folders of its path are made first, and locked as the guard locks existing
/// ones.
pub(super) fn make_root(
    site: &PartSite<'_>,
    ledger: PartLedger<'_>,
) -> Option<(OwnedFd, Vec<Lock>)> {
    if !site.part.has_steps() && !site.pair.destination.exists() {
        return None;
    }
    match open_root(site, ledger) {
        Ok(root) => Some(root),
        // Nothing was to be changed, so the error does not matter.
        Err(_) if !site.part.has_steps() => None,
        Err(error) => {
            ledger.set_all(site.part.all_ids(), StepOutcome::Failed);
            ledger.report(site.root_drive(), &TreePath::default(), error);
            None
        }
    }
}

fn open_root(
    site: &PartSite<'_>,
    ledger: PartLedger<'_>,
) -> Result<(OwnedFd, Vec<Lock>), StepError> {
    let system = site.system();
    let place = &site.pair.destination;
    let mut at = system.open_folder(place.anchor.as_fd(), b"").during(Operation::Write)?;
    let mut locks = Vec::new();
    let root_is_step = site.part.root.is_some_and(|step| step.verb == Verb::Add);
    for (i, name) in place.missing.iter().enumerate() {
        let is_root = i + 1 == place.missing.len() && site.pair.single.is_none();
        if is_root && site.takes_root_over() {
            let writer = &site.root_drive().writer;
            writer.take_root_over(site.pair, (at.as_fd(), name))?;
            ledger.conclude(StepId::of_root(Side::Destination), Ok(()));
            let root = system.open_folder(at.as_fd(), name).during(Operation::Write)?;
            // It was the source's root, which the guard has locked.
            return Ok((root, locks));
        }
        if is_root && !root_is_step {
            return Err(StepError(Operation::Write, Cause::Stale("the destination folder")));
        }
        // The folders above the root have no counterpart and get the usual mode.
        let mode = if is_root { WHILE_FILLED } else { 0o777 };
        match system.create_folder(at.as_fd(), name, mode) {
            // Another source of the same run, or another program, made it meanwhile.
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists && !is_root => {}
            other => other.during(Operation::Write)?,
        }
        at = system.open_folder(at.as_fd(), name).during(Operation::Write)?;
        let is_last = i + 1 == place.missing.len();
        let mode = if is_last { LockMode::Alone } else { LockMode::Shared };
        locks.extend(lock(system, &at, mode)?);
    }
    Ok((at, locks))
}

/// Locks a folder that was just made. Fails if another run was quicker. On a drive that cannot lock there is no
/// lock.
fn lock(system: &dyn System, folder: &OwnedFd, mode: LockMode) -> Result<Option<Lock>, StepError> {
    match system.lock(folder.as_fd(), mode) {
        Ok(None) => Err(StepError(Operation::Write, Cause::Stale("the destination folder"))),
        other => Ok(other.ok().flatten()),
    }
}

impl PartRun<'_> {
    pub(super) fn enter(&self, at: usize) -> Result<FolderPair, StepError> {
        let (site, system) = (self.site, self.system());
        let path = site.part.folder_path(at);
        let destination =
            system.open_folder(self.root, path.as_bytes()).during(Operation::Write)?;
        let here = site.part.source_path(at);
        let source = system.open_folder(site.pair.source.as_fd(), here.as_bytes()).ok();
        let on = site.drive_of(at);
        let mut place = on.writer.place(path, source, destination)?;
        self.check_known(on, at, &place)?;
        place.source_names = site.source_names(at);
        Ok(place)
    }

    /// Fails if the folder is not that of the plan, for example after a drive was mounted or unmounted.
    fn check_known(
        &self,
        on: &OnDrive<'_>,
        at: usize,
        place: &FolderPair,
    ) -> Result<(), StepError> {
        let known = self.site.part.folders[at].head.known;
        let same_drive = place.stat.identity.drive == on.mounted.identity.drive;
        let same_folder =
            known.destination.is_none_or(|known| known == 0 || known == place.stat.identity.inode);
        if self.site.pair.destination.exists() && !same_drive || !same_folder {
            return Err(StepError::stale_destination(Operation::LookAtDestination));
        }
        let Some((inode, source)) = known.source.zip(place.source.as_ref()) else { return Ok(()) };
        let source =
            self.system().stat(Entry::Open(source.as_fd())).during(Operation::LookAtSource)?;
        if !is_number(inode, &source) {
            return Err(StepError::stale_source(Operation::LookAtSource));
        }
        Ok(())
    }

    /// As [`Self::enter`], for changes: a folder without write permission for its owner, or locked by flags, is
    /// opened until all entries are changed.
    pub(super) fn enter_to_change(&self, at: usize) -> Result<FolderPair, StepError> {
        let place = self.enter(at)?;
        // What an earlier undo did in it is not known.
        let before = self.site.part.folders[at].head.before.filter(|_| !self.site.is_undo());
        before.inspect(|before| self.last_changes.begin(at, before, &place.stat));
        let locked = !place.gives.flags.and(Flags::LOCKS).is_empty();
        if place.closed_with.is_none() && !locked {
            return Ok(place);
        }
        // Under one lock: a second worker would take the mode set by the first for the original.
        let mut opened = self.opened.lock();
        if opened.contains_key(&at) {
            return Ok(place);
        }
        let writer = &self.site.drive_of(at).writer;
        let folder = place.destination.as_fd();
        let flags = if locked { writer.unlock(folder).during(Operation::Write)? } else { None };
        opened.insert(at, Opening { mode: place.closed_with, flags });
        if let Some(mode) = place.closed_with {
            let open = self.system().set_mode(Entry::Open(folder), mode | 0o200);
            open.during(Operation::Write)?;
        }
        Ok(place)
    }

    /// Restores the mode of folders that were opened for changes.
    pub(super) fn close_again(&self) {
        self.each_opened(|_, opening, folder| match opening.mode {
            Some(mode) => self.system().set_mode(Entry::Open(folder), mode),
            None => Ok(()),
        });
    }

    /// Restores the flags of folders that were opened for changes, unless they have the source's flags by now.
    pub(super) fn lock_again(&self) {
        self.each_opened(|at, opening, folder| match opening.flags {
            Some(flags) if !self.has_flags_of_source(at) => self.system().set_flags(folder, flags),
            _ => Ok(()),
        });
    }

    /// The deepest first.
    fn each_opened(&self, work: impl Fn(usize, Opening, BorrowedFd<'_>) -> io::Result<()>) {
        use io::ErrorKind as K;
        let opened = self.opened.lock();
        let mut all: Vec<(usize, Opening)> = opened.iter().map(|(at, how)| (*at, *how)).collect();
        all.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
        for (at, opening) in all {
            let path = self.site.part.folder_path(at);
            let done = match self.system().open_folder(self.root, path.as_bytes()) {
                // It was removed or replaced.
                Err(e) if matches!(e.kind(), K::NotFound | K::NotADirectory) => Ok(()),
                Err(e) => Err(e),
                Ok(folder) => work(at, opening, folder.as_fd()),
            };
            if let Err(error) = done {
                let error = StepError(Operation::SetAttributes, error.into());
                self.ledger.report(self.site.drive_of(at), &path, error);
            }
        }
    }

    /// True if a folder got the source's flags in this run.
    fn has_flags_of_source(&self, at: usize) -> bool {
        let sets = |step: &Step| step.verb != Verb::Adjust || step.attributes.has(Attribute::Flags);
        let own = self.site.part.own_step(at);
        self.site.drive_of(at).writer.carries(Attribute::Flags)
            && own.is_some_and(|(id, step)| sets(step) && self.ledger.is_done(id))
    }
}
