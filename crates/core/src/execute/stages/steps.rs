//! The steps of one kind after those of another, folder by folder, with all workers.

use crate::execute::writer::ErrorContext as _;
use std::cell::Cell;
use std::ops::Range;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::Ordering;

use utter_echo_model::aspect::Aspect;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::State;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Flags, Kind};

use crate::execute::stages::run::{OnDrive, PartRun, name_of};
use crate::execute::writer::{EntryOperation, FolderPair, StepError, StepResult};
use crate::plan;
use crate::policy::{NameElsewhere, PlannedFolder, Step};

/// Where a step happens.
pub(super) struct StepSite<'a> {
    pub(super) on: &'a OnDrive<'a>,
    pub(super) place: &'a FolderPair,
    pub(super) name: &'a [u8],
}

/// What is done to one step.
pub(super) type StepWork<'w> = &'w (dyn Fn(&StepSite<'_>, &Step) -> StepResult + Sync);

impl PartRun<'_> {
    /// Entries of the destination go to the names and folders that the source has them in.
    pub(super) fn rename(&self, root: BorrowedFd<'_>) {
        self.keep_times(|folder| folder.steps.iter().any(Step::is_taken_over));
        let renames = |step: &Step| step.verb == Verb::Rename;
        self.each_folder(root, &renames, &|at, step| self.rename_one(root, at, step));
    }

    /// Names of entries whose first name is written, but for those that wait for a folder to be emptied.
    pub(super) fn link(&self, root: BorrowedFd<'_>) {
        let ready = |step: &Step| {
            let leader = step.link().map(|id| self.part.name(id));
            leader.is_some_and(|leader| !step.takes_a_folders_place() && self.is_written(leader))
        };
        self.each_folder(root, &ready, &|at, step| self.link_one(root, at, step));
    }

    /// All others.
    pub(super) fn link_the_rest(&self, root: BorrowedFd<'_>) {
        let left = |step: &Step| step.link().is_some();
        self.each_folder(root, &left, &|at, step| self.link_one(root, at, step));
    }

    /// Removal: after everything else has arrived, and of exactly what the plan saw.
    pub(super) fn remove(&self, root: BorrowedFd<'_>) {
        self.remove_files(root);
        let remove: StepWork<'_> = &|at, step| at.on.writer.remove(at.place, at.name, &step.into());
        // The deepest first: a folder must be empty by then.
        let folders = |step: &Step| step.verb == Verb::Remove && step.kind() == Kind::Folder;
        self.deepest_first(|at| {
            let steps = 0..self.part.folders[at].steps.len();
            self.work_on(root, at, steps, &folders, remove);
        });
    }

    /// Works on each folder after all that are below it, those of one level side by side.
    pub(super) fn deepest_first(&self, work: impl Fn(usize) + Sync) {
        let mut levels: Vec<Vec<usize>> = Vec::new();
        let mut depths = Vec::with_capacity(self.part.folders.len());
        for (at, folder) in self.part.folders.iter().enumerate() {
            // The root is its own parent, and every other one comes after its own.
            let depth = if at == 0 { 0 } else { depths[folder.parent as usize] + 1 };
            depths.push(depth);
            levels.resize_with(levels.len().max(depth + 1), Vec::new);
            levels[depth].push(at);
        }
        for level in levels.into_iter().rev() {
            self.context.pool.each(level, &work);
        }
    }

    /// All that is removed and is no folder.
    pub(super) fn remove_files(&self, root: BorrowedFd<'_>) {
        self.each_folder(root, &plan::clears, &|at, step| {
            at.on.writer.remove(at.place, at.name, &step.into())
        });
    }

    /// What takes the place of a folder that is empty by now.
    pub(super) fn take_places(&self, root: BorrowedFd<'_>) {
        let late = |step: &Step| step.takes_a_folders_place() && step.link().is_none();
        self.each_folder(root, &late, &|at, step| {
            at.on.writer.write(at.place, at.name, &step.into())
        });
    }

    /// Attributes of entries that are no folders, where they had to wait.
    pub(super) fn adjust(&self, root: BorrowedFd<'_>) {
        let adjusts = |step: &Step| step.verb == Verb::Adjust && step.writes();
        self.each_folder(root, &adjusts, &|at, step| {
            at.on.writer.write(at.place, at.name, &step.into())
        });
    }

    fn rename_one(&self, root: BorrowedFd<'_>, at: &StepSite<'_>, step: &Step) -> StepResult {
        let StepSite { on, place, name } = *at;
        if let Some(seen) = step.source.filter(|_| step.is_taken_over()) {
            return on.writer.take_over(place, name, &seen);
        }
        let (Some(from), Some(seen)) = (step.renamed_from(), step.destination) else {
            return Ok(());
        };
        let NameElsewhere { folder, name: old } = self.part.name(from);
        let writer = &on.writer;
        if let Some(planned) = step.source.filter(|_| writer.memory.is_none()) {
            let own = writer.source_name(place, name);
            writer.source_now(Entry::Named(place.source()?, own), &planned)?;
        }
        let above = self.enter_to_change(root, *folder as usize)?;
        let now = writer.rename(&above, old, place, name, &seen)?;
        if step.aspects.is_empty() {
            return Ok(());
        }
        let operation = EntryOperation::from(step).adjusting(State::from(&now));
        match now.kind {
            Kind::Folder => writer.finish_folder(place, name, &operation),
            _ => writer.adjust(place, name, &operation),
        }
    }

    fn link_one(&self, root: BorrowedFd<'_>, at: &StepSite<'_>, step: &Step) -> StepResult {
        let StepSite { on, place, name } = *at;
        let Some(leader) = step.link().map(|id| self.part.name(id)) else { return Ok(()) };
        if !self.is_written(leader) {
            return Err(StepError(Operation::Write, Cause::LeaderFailed));
        }
        let path = self.part.folder_path(leader.folder as usize);
        let from = self.system().open_folder(root, path.as_bytes()).during(Operation::Write)?;
        let writer = &on.writer;
        let may_be_locked = !writer.carries(Aspect::Flags)
            || step.source.is_some_and(|s| !s.flags().and(Flags::LOCKS).is_empty());
        // Else one worker would lock it again while another still links to it.
        let _alone = may_be_locked.then(|| self.progress.linking.lock());
        writer.link(place, (from.as_fd(), &leader.name), name, &step.into())
    }

    /// True also for a name that was right before the run, and so has no step.
    fn is_written(&self, leader: &NameElsewhere) -> bool {
        let folder = &self.part.folders[leader.folder as usize];
        let done = |at| self.ledger.get(folder.first + at) == StepOutcome::Done;
        folder.find(&leader.name).is_none_or(done)
    }

    /// Does `work` on all steps that are wanted and were not tried yet.
    fn each_folder(
        &self,
        root: BorrowedFd<'_>,
        wanted: &(dyn Fn(&Step) -> bool + Sync),
        work: StepWork<'_>,
    ) {
        let folders = self.part.folders.iter().enumerate();
        let with_wanted = folders.filter(|(_, folder)| folder.steps.iter().any(wanted));
        let all = with_wanted.map(|(at, folder)| (at, 0..folder.steps.len())).collect();
        self.context.pool.each(all, |(at, steps)| {
            self.work_on(root, at, steps, wanted, work);
        });
    }

    /// The same for some steps of one folder.
    pub(super) fn work_on(
        &self,
        root: BorrowedFd<'_>,
        at: usize,
        steps: Range<usize>,
        wanted: &dyn Fn(&Step) -> bool,
        work: StepWork<'_>,
    ) {
        let folder = &self.part.folders[at];
        let is_due = |i: &usize| {
            let is_left = wanted(&folder.steps[*i]) && !self.was_tried(folder, *i);
            is_left && !self.progress.put_off.has((at, *i))
        };
        let mut due = steps.filter(is_due).peekable();
        if due.peek().is_none() || self.context.must_end() {
            return;
        }
        let on = self.drive_of(at);
        if on.closed.load(Ordering::Relaxed) {
            due.for_each(|i| self.ledger.set(folder.first + i, StepOutcome::Failed));
            return;
        }
        match self.enter_to_change(root, at) {
            Ok(place) => due.for_each(|i| self.try_step(&place, at, i, work)),
            Err(error) => {
                // One problem names the folder; its steps share its fate.
                let overtaken = error.1.is_stale();
                let fate = if overtaken { StepOutcome::Stale } else { StepOutcome::Failed };
                due.for_each(|i| self.ledger.set(folder.first + i, fate));
                self.report(on, &self.part.folder_path(at), error);
            }
        }
    }

    pub(super) fn try_step(&self, place: &FolderPair, at: usize, i: usize, work: StepWork<'_>) {
        let on = self.drive_of(at);
        if self.context.must_end() || on.closed.load(Ordering::Relaxed) {
            return;
        }
        let folder = &self.part.folders[at];
        let step = &folder.steps[i];
        let name = name_of(folder, step);
        let path = place.path.join(name);
        self.tell_start(&path);
        let number = folder.first + i;
        let at_name = StepSite { on, place, name };
        let Some(done) = self.write_or_put_off(&at_name, step, (at, i), work) else { return };
        let result = done.and_then(|()| self.note_after(&at_name, step));
        self.conclude(on, number, &path, result);
    }

    /// Does the work, and again where that may help. What cannot be read comes once more after all that is well,
    /// so that a drive which is failing gives what it can first: `None` for that.
    pub(super) fn write_or_put_off(
        &self,
        at: &StepSite<'_>,
        step: &Step,
        place: (usize, usize),
        work: StepWork<'_>,
    ) -> Option<StepResult> {
        let first = work(at, step);
        self.context.pool.did(1);
        at.on.writer.changed_entry();
        if let Err(StepError(Operation::Read, cause)) = &first
            && self.puts_off(at.on, place, cause)
        {
            return None;
        }
        let first = Cell::new(Some(first));
        Some(self.retry(|| first.take().unwrap_or_else(|| work(at, step))))
    }

    /// True if a step whose file could not be read comes later, and why was not that its drive is gone.
    pub(super) fn puts_off(&self, on: &OnDrive<'_>, step: (usize, usize), cause: &Cause) -> bool {
        let puts_off = cause.is_input_output()
            && self.progress.put_off.is_open()
            && !self.fails(on, self.pair.source.as_fd());
        if puts_off {
            self.progress.put_off.add(step);
        }
        puts_off
    }

    /// Writes down what a step left, where that is asked for.
    #[allow(clippy::unused_self, reason = "reads as a part of carrying out a step")]
    pub(super) fn note_after(&self, at: &StepSite<'_>, step: &Step) -> StepResult {
        let StepSite { on, place, name } = *at;
        match on.writer.aside.filter(|_| step.verb != Verb::Remove) {
            Some(aside) => {
                let made = Entry::Named(place.destination.as_fd(), name);
                aside.note_after(&on.writer, &place.path.join(name), made)
            }
            None => Ok(()),
        }
    }

    pub(super) fn tell_start(&self, path: &TreePath) {
        self.context.observer.started(self.prefix.join(path.as_bytes()).as_bytes());
    }

    pub(super) fn retry<T>(&self, work: impl Fn() -> Result<T, StepError>) -> Result<T, StepError> {
        self.ledger.retrying.retry(self.context.observer, |error: &StepError| &error.1, work)
    }

    pub(super) fn was_tried(&self, folder: &PlannedFolder, at: usize) -> bool {
        self.ledger.get(folder.first + at) != StepOutcome::NotReached
    }
}
