//! What may not be on the drive yet: told beforehand, flushed, and taken back when it is sure.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::Ordering;
use std::time::{SystemTime, UNIX_EPOCH};

use utter_echo_drives::write_back::WriteBackLimit;
use utter_echo_files::dirty_marker::{self, MarkerSet};
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::running::Flush;
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::{Entry, Stat, Time, is_unsupported};

use crate::execute::stages::ledger::Health;
use crate::execute::stages::run::{OnDrive, PartRun};
use crate::execute::writer::StepError;
use crate::policy::Step;

impl PartRun<'_> {
    /// Only what is flushed at the end needs it: see `mark`.
    pub(super) fn leaves_a_doubt(&self) -> bool {
        // What is renamed or taken away is as it was before.
        let writes = |step: &Step| step.verb != Verb::Vacate && !step.is_taken_over();
        self.context.running.flush == Flush::End && self.part.all_steps().any(writes)
    }

    pub(super) fn leave_doubts(&self, root: BorrowedFd<'_>) {
        let left = dirty_marker::set(self.system(), root);
        *self.flush_state.own.lock() = left;
        for drive in &self.drives {
            drive.writer.marked.store(left != MarkerSet::Impossible, Ordering::Relaxed);
        }
    }

    pub(super) fn flushes(&self) -> bool {
        let flushes = self.context.running.flush != Flush::None;
        flushes && (self.part.has_steps() || !self.flush_state.interrupted.is_empty())
    }

    /// Brings what was written to each drive onto it.
    pub(super) fn flush(&self, _root: BorrowedFd<'_>) {
        self.context.observer.flushing();
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        let secs = i64::try_from(now.as_secs()).unwrap_or(i64::MAX);
        // Set once: a run flushes but once.
        let _ = self.flush_state.flushed_at.set(Time { secs, nanos: now.subsec_nanos() });
        let mut all = true;
        for on in &self.drives {
            let Some(handle) = on.handle.get() else { continue };
            let backlog = on.writer.backlog.as_ref();
            // Of what failed before the drive does not tell again.
            let failed = backlog.and_then(WriteBackLimit::take_error);
            let flushed = self.system().flush_drive(handle.as_fd());
            match failed.map_or(flushed, Err) {
                Ok(()) => {
                    let news = backlog.map_or(0, WriteBackLimit::settle);
                    self.context.observer.wrote(news);
                }
                Err(error) => {
                    all = false;
                    let path = on.mounted.path.clone();
                    self.report(on, &path, StepError(Operation::Flush, error.into()));
                }
            }
        }
        self.flush_state.flushed.store(all, Ordering::Relaxed);
    }

    pub(super) fn has_flushed(&self) -> bool {
        self.flush_state.flushed.load(Ordering::Relaxed)
    }

    /// True for what nobody has changed since the drives were flushed: all of it is there, its name, too.
    pub(super) fn was_flushed(&self, entry: &Stat) -> bool {
        self.has_flushed()
            && self.flush_state.flushed_at.get().is_some_and(|at| entry.changed < *at)
    }

    /// This run's own mark goes when all that it began is whole and on the drive; those of earlier runs
    /// only if it looked at everything, too, and left nothing undone.
    pub(super) fn clear_doubts(&self, root: BorrowedFd<'_>) {
        let own = *self.flush_state.own.lock();
        if own == MarkerSet::New && self.left_nothing_half() {
            self.lift(root, &TreePath::default());
        }
        let all = self.part.all_steps().zip(self.numbers());
        let mut there = all.filter(|(step, _)| step.side == Side::Destination);
        let all_done = there.all(|(_, number)| self.ledger.get(number) == StepOutcome::Done);
        if self.flush_state.settles && all_done {
            self.flush_state.interrupted.iter().for_each(|path| self.lift(root, path));
        }
    }

    fn lift(&self, root: BorrowedFd<'_>, path: &TreePath) {
        let folder = self.system().open_folder(root, path.as_bytes());
        let lifted = folder.and_then(|folder| dirty_marker::clear(self.system(), folder.as_fd()));
        if let Err(error) = lifted {
            // It is in doubt as before, and nothing depends on it now.
            self.flush_state.flushed.store(false, Ordering::Relaxed);
            self.report(&self.drives[0], path, StepError(Operation::Flush, error.into()));
        }
    }

    /// The numbers of all steps of the part.
    pub(super) fn numbers(&self) -> std::ops::Range<usize> {
        self.part.first..self.part.first + self.part.all_steps().count()
    }

    /// True unless a step failed that changes attributes in place: whatever else fails comes to nothing.
    fn left_nothing_half(&self) -> bool {
        let failed = |number| self.ledger.get(number) == StepOutcome::Failed;
        let in_place = |verb| matches!(verb, Verb::Adjust | Verb::Rename);
        let steps = self.part.all_steps().zip(self.numbers());
        steps
            .filter(|(step, _)| in_place(step.verb) && !step.is_taken_over() || step.makes_folder())
            .all(|(_, n)| !failed(n))
    }

    /// Asks the drives whether a cause is about more than one entry, which needs so many bytes.
    pub(super) fn ask_drives(&self, on: &OnDrive<'_>, cause: &Cause, needs: u64) -> Health {
        let over = |over| if over { Health::OneIsOver } else { Health::Well };
        let Some(handle) = on.handle.get().map(AsFd::as_fd) else { return Health::Well };
        if cause.is_full() {
            return over(!self.has_room(handle, needs));
        }
        if cause.is_read_only() {
            return over(self.try_writing(on).is_err());
        }
        if !cause.is_gone() && !cause.is_input_output() {
            return Health::Well;
        }
        if self.fails(on, handle) {
            return Health::OneIsOver;
        }
        let source = self.pair.source.as_fd();
        if self.fails(on, source) { Health::SourceIsOver } else { Health::Well }
    }

    fn has_room(&self, folder: BorrowedFd<'_>, needs: u64) -> bool {
        match self.system().space(folder) {
            Ok(space) => {
                let inodes = space.inodes.is_none_or(|free| free > 0);
                let room = space.bytes > needs.max(LEAST_ROOM);
                inodes && room && self.writes_a_little(folder)
            }
            // A drive that does not say how full it is is believed.
            Err(_) => false,
        }
    }

    /// A quota shows in nothing but a refusal.
    fn writes_a_little(&self, folder: BorrowedFd<'_>) -> bool {
        let (system, name) = (self.system(), self.context.temporaries.name());
        let written = system
            .create_file(folder, &name, 0o600)
            .and_then(|file| system.write_at(file.as_fd(), &[1; 4096], 0));
        let _ = system.remove_file(folder, &name);
        written.is_ok()
    }

    fn try_writing(&self, on: &OnDrive<'_>) -> io::Result<()> {
        let Some(handle) = on.handle.get() else { return Ok(()) };
        let (system, name) = (self.system(), self.context.temporaries.name());
        let made = system.create_file(handle.as_fd(), &name, 0o600);
        let _ = system.remove_file(handle.as_fd(), &name);
        made.map(drop)
    }

    /// True if a drive fails whatever is asked of it. Of a fault in one place a drive tells once, and is
    /// well the second time.
    pub(super) fn fails(&self, on: &OnDrive<'_>, folder: BorrowedFd<'_>) -> bool {
        let system = self.system();
        let flush = || {
            let folder = system.open_folder(folder, b"")?;
            system.stat(Entry::Open(folder.as_fd()))?;
            system.flush_drive(folder.as_fd())
        };
        match (flush(), flush()) {
            (_, Err(again)) => !is_unsupported(&again),
            (Err(error), Ok(())) => {
                // The flush at the end will not be told of it any more.
                let path = self.prefix.join(on.mounted.path.as_bytes());
                let (operation, cause) = (Operation::Flush, error.into());
                self.ledger.report(Problem { path, operation, cause });
                false
            }
            (Ok(()), Ok(())) => false,
        }
    }
}

/// With less than this many bytes left a drive counts as full.
const LEAST_ROOM: u64 = 16 * 1024;
