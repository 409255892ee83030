//! Going into the folders that steps happen in: they must be those that the plan saw, and those that are
//! closed to the caller are open for the time of the changes.

use crate::execute::writer::ErrorContext as _;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_model::aspect::Aspect;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::is_number;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Flags};

use crate::execute::stages::run::{OnDrive, Opening, PartRun};
use crate::execute::writer::{FolderPair, StepError, WHILE_FILLED};
use crate::policy::Step;

impl PartRun<'_> {
    /// Opens the destination's root, with what is missing of its path made first.
    pub(super) fn make_root(&self) -> Option<OwnedFd> {
        if !self.part.has_steps() && !self.pair.destination.exists() {
            return None;
        }
        match self.open_root() {
            Ok(root) => Some(root),
            // Nothing was to be changed, so nothing is missed.
            Err(_) if !self.part.has_steps() => None,
            Err(error) => {
                self.numbers().for_each(|number| self.ledger.set(number, StepOutcome::Failed));
                self.report(&self.drives[0], &TreePath::default(), error);
                None
            }
        }
    }

    /// The source's root becomes the destination's, with all it holds.
    pub(super) fn takes_root_over(&self) -> bool {
        self.part.root.is_some_and(|step| step.is_taken_over())
    }

    fn open_root(&self) -> Result<OwnedFd, StepError> {
        let system = self.system();
        let place = &self.pair.destination;
        let mut at = system.open_folder(place.anchor.as_fd(), b"").during(Operation::Write)?;
        let root_is_step = self.part.root.is_some_and(|step| step.verb == Verb::Add);
        for (i, name) in place.missing.iter().enumerate() {
            let is_root = i + 1 == place.missing.len() && self.pair.single.is_none();
            if is_root && self.takes_root_over() {
                let writer = &self.drives[0].writer;
                writer.take_root_over(self.pair, (at.as_fd(), name))?;
                self.conclude(&self.drives[0], self.part.first, &TreePath::default(), Ok(()));
                return system.open_folder(at.as_fd(), name).during(Operation::Write);
            }
            if is_root && !root_is_step {
                return Err(StepError(Operation::Write, Cause::Stale("the destination folder")));
            }
            // The folders above the root are no counterpart of anything: they are made as usual.
            let mode = if is_root { WHILE_FILLED } else { 0o777 };
            match system.create_folder(at.as_fd(), name, mode) {
                // Another source of the same run, or somebody else, made it meanwhile.
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists && !is_root => {}
                other => other.during(Operation::Write)?,
            }
            at = system.open_folder(at.as_fd(), name).during(Operation::Write)?;
        }
        Ok(at)
    }

    pub(super) fn enter(&self, root: BorrowedFd<'_>, at: usize) -> Result<FolderPair, StepError> {
        let system = self.system();
        let path = self.part.folder_path(at);
        let destination = system.open_folder(root, path.as_bytes()).during(Operation::Write)?;
        let here = self.part.source_path(at);
        let source = system.open_folder(self.pair.source.as_fd(), here.as_bytes()).ok();
        let on = self.drive_of(at);
        let mut place = on.writer.place(path, source, destination)?;
        self.check_known(on, at, &place)?;
        place.source_names = self.part.folders[at].names_that_differ();
        Ok(place)
    }

    /// What is mounted or unmounted meanwhile is not what the plan saw, nor is what lies below it.
    fn check_known(
        &self,
        on: &OnDrive<'_>,
        at: usize,
        place: &FolderPair,
    ) -> Result<(), StepError> {
        let known = self.part.folders[at].head.known;
        let same_drive = place.identity.drive == on.mounted.identity.drive;
        let same_folder =
            known.destination.is_none_or(|known| known == 0 || known == place.identity.inode);
        if self.pair.destination.exists() && !same_drive || !same_folder {
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

    /// As [`Self::enter`], to change entries: a folder that its owner may not write into, or that
    /// flags keep from being changed, is open until all entries are changed.
    pub(super) fn enter_to_change(
        &self,
        root: BorrowedFd<'_>,
        at: usize,
    ) -> Result<FolderPair, StepError> {
        let place = self.enter(root, at)?;
        let locked = !place.gives.flags.and(Flags::LOCKS).is_empty();
        if place.closed_with.is_none() && !locked {
            return Ok(place);
        }
        // One owner for what is opened: a second worker would take what the first has made of it for
        // what it was before.
        let mut opened = self.progress.opened.lock();
        if opened.contains_key(&at) {
            return Ok(place);
        }
        let writer = &self.drive_of(at).writer;
        let folder = place.destination.as_fd();
        let flags = if locked { writer.unlock(folder).during(Operation::Write)? } else { None };
        opened.insert(at, Opening { mode: place.closed_with, flags });
        if let Some(mode) = place.closed_with {
            let open = self.system().set_mode(Entry::Open(folder), mode | 0o200);
            open.during(Operation::Write)?;
        }
        Ok(place)
    }

    /// Gives folders that were opened for changes the mode they had.
    pub(super) fn close_again(&self, root: BorrowedFd<'_>) {
        self.each_opened(root, |_, opening, folder| match opening.mode {
            Some(mode) => self.system().set_mode(Entry::Open(folder), mode),
            None => Ok(()),
        });
    }

    /// Gives folders that were opened for changes the flags they had, unless they have the
    /// source's by now.
    pub(super) fn lock_again(&self, root: BorrowedFd<'_>) {
        self.each_opened(root, |at, opening, folder| match opening.flags {
            Some(flags) if !self.has_flags_of_source(at) => self.system().set_flags(folder, flags),
            _ => Ok(()),
        });
    }

    /// The deepest first.
    fn each_opened(
        &self,
        root: BorrowedFd<'_>,
        work: impl Fn(usize, Opening, BorrowedFd<'_>) -> io::Result<()>,
    ) {
        use io::ErrorKind as K;
        let opened = self.progress.opened.lock();
        let mut all: Vec<(usize, Opening)> = opened.iter().map(|(at, how)| (*at, *how)).collect();
        all.sort_by_key(|(at, _)| std::cmp::Reverse(*at));
        for (at, opening) in all {
            let path = self.part.folder_path(at);
            let done = match self.system().open_folder(root, path.as_bytes()) {
                // It was to be removed, or something else to take its place.
                Err(e) if matches!(e.kind(), K::NotFound | K::NotADirectory) => Ok(()),
                Err(e) => Err(e),
                Ok(folder) => work(at, opening, folder.as_fd()),
            };
            if let Err(error) = done {
                let error = StepError(Operation::SetAttributes, error.into());
                self.report(self.drive_of(at), &path, error);
            }
        }
    }

    /// True if a folder of the plan has got the source's flags in this run.
    fn has_flags_of_source(&self, at: usize) -> bool {
        let sets = |step: &Step| step.verb != Verb::Adjust || step.aspects.has(Aspect::Flags);
        let done = |number| self.ledger.get(number) == StepOutcome::Done;
        self.drive_of(at).writer.carries(Aspect::Flags)
            && self.part.own_step(at).is_some_and(|(number, step)| sets(step) && done(number))
    }
}
