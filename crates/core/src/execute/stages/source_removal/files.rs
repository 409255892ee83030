//! Removing entries other than folders from the source.

use utter_echo_model::count;
use utter_echo_model::verb::Side;
use utter_echo_os::{Kind, Stat};

use crate::execute::stages::read_back::ReadBack;
use crate::execute::stages::source_removal::shared::SourceRemoval;
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::FolderPair;
use crate::policy::{Step, StepId};

impl SourceRemoval<'_, '_> {
    /// Announces the number of bytes to compare.
    pub(super) fn announce(&self) {
        let leaving = self.run.site.part.steps_on(Side::Source);
        let files = leaving.filter(|(_, step)| step.kind() == Kind::File);
        let bytes = count::total(files.map(|(_, step)| step.bytes().saturating_mul(2)));
        if bytes > 0 {
            self.run.site.context.observer.comparing(bytes);
        }
    }

    /// Removes entries with one name. Returns those with hard links.
    pub(super) fn remove_files(&self) -> Vec<(Stat, StepId)> {
        let part = self.run.site.part;
        let back = ReadBack::of_leaving(self.run);
        let wanted = |step: &Step| step.kind() == Kind::File && step.bytes() > 0;
        back.in_order(wanted, |id| {
            let is_fresh = back.is_fresh(id);
            if self.must_stop() || !self.has_arrived(id) {
                return;
            }
            // Folders that cannot be entered and hard links come later.
            let place = back.places.take(id.folder()).or_else(|| self.run.enter(id.folder()).ok());
            if let Some(place) = place {
                self.remove_one(&place, id, is_fresh);
                self.run.has_taken_from(id.folder(), &place);
                back.places.give_back(id.folder(), place);
            }
        });
        let pool = &self.run.site.context.pool;
        let shared = pool.map(part.folders.len(), |at| self.remove_files_of(at));
        shared.into_iter().flatten().collect()
    }

    /// The same for the remaining entries of one folder.
    fn remove_files_of(&self, at: usize) -> Vec<(Stat, StepId)> {
        let run = self.run;
        let is_due = |(id, step): &(StepId, &Step)| {
            step.kind() != Kind::Folder && !run.ledger.was_tried(*id) && self.has_arrived(*id)
        };
        let mut due = run.site.part.steps_of(at, Side::Source).filter(is_due).peekable();
        if due.peek().is_none() {
            return Vec::new();
        }
        let place = match run.enter(at) {
            Ok(place) => place,
            Err(error) => {
                let path = run.site.part.folder_path(at);
                run.ledger.report(run.site.drive_of(at), &path, error);
                return Vec::new();
            }
        };
        let mut shared = Vec::new();
        for (id, _) in due {
            if self.must_stop() {
                break;
            }
            shared.extend(self.remove_one(&place, id, false).map(|seen| (seen, id)));
        }
        run.has_taken_from(at, &place);
        shared
    }

    /// Removes an entry with one name. Returns the state of an entry with hard links, which stays for now.
    fn remove_one(&self, place: &FolderPair, id: StepId, is_fresh: bool) -> Option<Stat> {
        let (step, name) = self.run.site.step(id)?;
        let looked = self.look(place, name, step);
        if let Ok(seen) = &looked
            && seen.links > 1
        {
            return Some(*seen);
        }
        let at = StepSite { on: self.run.site.drive_of(id.folder()), place, name, step };
        let removed = looked.and_then(|seen| {
            self.run.ledger.retry(|| {
                let proven = self.prove(&at, &seen, is_fresh)?;
                self.take_away(place, name, &seen, proven.lease.as_ref())
            })
        });
        self.run.ledger.conclude(id, removed);
        None
    }
}
