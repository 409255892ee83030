//! Renames and hard links.

use crate::execute::writer::ErrorContext as _;
use parking_lot::Mutex;
use std::os::fd::AsFd as _;

use utter_echo_model::attribute::Attribute;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::State;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Flags, Kind};

use crate::execute::stages::run::PartRun;
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::{EntryOperation, StepError, StepResult};
use crate::policy::{NameElsewhere, Step};

/// The stages of renames and links.
pub(super) struct Names<'r, 'a> {
    run: &'r PartRun<'a>,
    /// Held while a locked file is linked.
    linking: Mutex<()>,
}

impl<'r, 'a> Names<'r, 'a> {
    pub(super) fn new(run: &'r PartRun<'a>) -> Self {
        Self { run, linking: Mutex::default() }
    }

    /// Renames entries.
    pub(super) fn rename(&self) {
        let run = self.run;
        run.keep_source_times(|folder| folder.steps.iter().any(Step::is_taken_over));
        run.each_folder(&|step| step.verb == Verb::Rename, &|at| self.rename_one(at));
    }

    /// Links names to files that are written, except in the place of folders.
    pub(super) fn link(&self) {
        let ready = |step: &Step| {
            let leader = step.link().map(|id| self.run.site.part.name(id));
            leader.is_some_and(|leader| !step.takes_a_folders_place() && self.is_written(leader))
        };
        self.run.each_folder(&ready, &|at| self.link_one(at));
    }

    /// Links all other names.
    pub(super) fn link_the_rest(&self) {
        self.run.each_folder(&|step| step.link().is_some(), &|at| self.link_one(at));
    }

    fn rename_one(&self, at: &StepSite<'_>) -> StepResult {
        let StepSite { on, place, name, step } = *at;
        let writer = &on.writer;
        if let Some(seen) = step.source.filter(|_| step.is_taken_over()) {
            return writer.take_over(place, name, &seen);
        }
        let (Some(from), Some(seen)) = (step.renamed_from(), step.destination) else {
            return Ok(());
        };
        let NameElsewhere { folder, name: old } = self.run.site.part.name(from);
        if let Some(planned) = step.source.filter(|_| writer.memory.is_none()) {
            let own = place.source_name(name);
            writer.source_now(Entry::Named(place.source()?, own), &planned)?;
        }
        let above = self.run.enter_to_change(*folder as usize)?;
        let now = writer.rename(&above, old, place, name, &seen)?;
        self.run.has_changed(*folder as usize, &above);
        if step.attributes.is_empty() {
            return Ok(());
        }
        let operation = EntryOperation::from(step).adjusting(State::from(&now));
        match now.kind {
            Kind::Folder => writer.finish_folder(place, name, &operation),
            _ => writer.adjust(place, name, &operation),
        }
    }

    fn link_one(&self, at: &StepSite<'_>) -> StepResult {
        let StepSite { on, place, name, step } = *at;
        let (part, system) = (self.run.site.part, self.run.system());
        let Some(leader) = step.link().map(|id| part.name(id)) else { return Ok(()) };
        if !self.is_written(leader) {
            return Err(StepError(Operation::Write, Cause::LeaderFailed));
        }
        let path = part.folder_path(leader.folder as usize);
        let from = system.open_folder(self.run.root, path.as_bytes()).during(Operation::Write)?;
        let writer = &on.writer;
        let may_be_locked = !writer.carries(Attribute::Flags)
            || step.source.is_some_and(|s| !s.flags().and(Flags::LOCKS).is_empty());
        // Otherwise one worker would lock the file again while another links to it.
        let _alone = may_be_locked.then(|| self.linking.lock());
        writer.link(place, (from.as_fd(), &leader.name), name, &step.into())
    }

    /// True also for a name without a step.
    fn is_written(&self, leader: &NameElsewhere) -> bool {
        let own = self.run.site.part.find(leader.folder as usize, &leader.name);
        own.is_none_or(|id| self.run.ledger.is_done(id))
    }
}
