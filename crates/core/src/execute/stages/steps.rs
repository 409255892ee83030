//! Doing the steps of a stage, folder by folder, with all workers.

use std::cell::Cell;
use std::ops::Range;
use std::os::fd::AsFd as _;

use utter_echo_model::observe::StepOutcome;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::{Entry, System, Time};

use crate::execute::stages::run::PartRun;
use crate::execute::stages::site::OnDrive;
use crate::execute::writer::{FolderPair, StepError, StepResult};
use crate::policy::{Step, StepId};

/// A step with its folder and drive.
pub(super) struct StepSite<'a> {
    pub(super) on: &'a OnDrive<'a>,
    pub(super) place: &'a FolderPair,
    pub(super) name: &'a [u8],
    pub(super) step: &'a Step,
}

impl StepSite<'_> {
    /// Adds, replaces or adjusts its entry.
    pub(super) fn write(&self) -> StepResult {
        self.on.writer.write(self.place, self.name, &self.step.into())
    }

    pub(super) fn remove(&self) -> StepResult {
        self.on.writer.remove(self.place, self.name, &self.step.into())
    }

    /// Makes a file look changed to the next run, by a time that the drive keeps and that is far from the source's.
    pub(super) fn mark_changed(&self, system: &dyn System) {
        let Some(source) = self.step.source else { return };
        let capabilities = self.on.writer.capabilities;
        let other = |secs| capabilities.drive.nearest(Time { secs, nanos: 0 });
        let unlike = |time: &Time| !capabilities.agree(source.modified(), *time);
        let times = [other(0), other(source.modified().secs - 86_400 * 400), other(1_000_000_000)];
        if let Some(time) = times.into_iter().find(unlike) {
            let entry = Entry::Named(self.place.destination.as_fd(), self.name);
            // The original problem is reported in any case.
            let _ = system.set_times(entry, time, Some(time));
        }
    }

    /// Records the state after the step in the journal, if there is one.
    pub(super) fn note_after(&self) -> StepResult {
        match self.on.writer.aside.filter(|_| self.step.verb != Verb::Remove) {
            Some(aside) => {
                let made = Entry::Named(self.place.destination.as_fd(), self.name);
                aside.note_after(&self.on.writer, &self.place.path.join(self.name), made)
            }
            None => Ok(()),
        }
    }
}

/// The work on one step.
pub(super) type StepWork<'w> = &'w (dyn Fn(&StepSite<'_>) -> StepResult + Sync);

impl PartRun<'_> {
    /// Does `work` on all wanted steps that were not tried yet.
    pub(super) fn each_folder(&self, wanted: &(dyn Fn(&Step) -> bool + Sync), work: StepWork<'_>) {
        let folders = self.site.part.folders.iter().enumerate();
        let with_wanted = folders.filter(|(_, folder)| folder.steps.iter().any(wanted));
        let all = with_wanted.map(|(at, folder)| (at, 0..folder.steps.len())).collect();
        self.site.context.pool.each(all, |(at, steps)| self.work_on(at, steps, wanted, work));
    }

    /// Works on each folder after all folders below it, those of one level in parallel.
    pub(super) fn deepest_first(&self, work: impl Fn(usize) + Sync) {
        let mut levels: Vec<Vec<usize>> = Vec::new();
        let mut depths = Vec::with_capacity(self.site.part.folders.len());
        for (at, folder) in self.site.part.folders.iter().enumerate() {
            // The root is its own parent, and every other folder comes after its parent.
            let depth = if at == 0 { 0 } else { depths[folder.parent as usize] + 1 };
            depths.push(depth);
            levels.resize_with(levels.len().max(depth + 1), Vec::new);
            levels[depth].push(at);
        }
        for level in levels.into_iter().rev() {
            self.site.context.pool.each(level, &work);
        }
    }

    /// The same as [`Self::each_folder`] for some steps of one folder.
    pub(super) fn work_on(
        &self,
        at: usize,
        slots: Range<usize>,
        wanted: &dyn Fn(&Step) -> bool,
        work: StepWork<'_>,
    ) {
        let ids = slots.map(|slot| StepId::new(at, Side::Destination, slot));
        let is_due = |id: &StepId| {
            let is_wanted = self.site.part.step(*id).is_some_and(wanted);
            is_wanted && !self.ledger.was_tried(*id) && !self.postponed.has(*id)
        };
        let mut due = ids.filter(is_due).peekable();
        if due.peek().is_none() || self.must_end() {
            return;
        }
        let on = self.site.drive_of(at);
        if on.is_closed() {
            return self.ledger.set_all(due, StepOutcome::Failed);
        }
        match self.enter_to_change(at) {
            Ok(place) => {
                due.for_each(|id| self.try_step(&place, id, work));
                self.has_changed(at, &place);
            }
            Err(error) => {
                self.ledger.set_all(due, error.outcome());
                self.ledger.report(on, &self.site.part.folder_path(at), error);
            }
        }
    }

    pub(super) fn try_step(&self, place: &FolderPair, id: StepId, work: StepWork<'_>) {
        let on = self.site.drive_of(id.folder());
        let Some((step, name)) = self.site.step(id) else { return };
        if self.must_end() || on.is_closed() {
            return;
        }
        self.site.report_start(&place.path.join(name));
        let at = StepSite { on, place, name, step };
        if let Some(done) = self.do_or_postpone(&at, id, work) {
            self.ledger.conclude(id, done.and_then(|()| at.note_after()));
        }
    }

    /// Does the work, with retries of temporary errors. `None` if the file could not be read and is postponed.
    pub(super) fn do_or_postpone(
        &self,
        at: &StepSite<'_>,
        id: StepId,
        work: StepWork<'_>,
    ) -> Option<StepResult> {
        let first = work(at);
        self.site.context.pool.did(1);
        at.on.writer.changed_entry();
        if let Err(StepError(Operation::Read, cause)) = &first
            && self.postpones(id, cause)
        {
            return None;
        }
        let first = Cell::new(Some(first));
        Some(self.ledger.retry(|| first.take().unwrap_or_else(|| work(at))))
    }

    /// Postpones a step whose file could not be read, unless its drive is gone. Returns whether it did.
    pub(super) fn postpones(&self, id: StepId, cause: &Cause) -> bool {
        let on = self.site.drive_of(id.folder());
        let postpones =
            cause.is_input_output() && self.postponed.is_open() && !self.ledger.source_fails(on);
        if postpones {
            self.postponed.add(id);
        }
        postpones
    }
}
