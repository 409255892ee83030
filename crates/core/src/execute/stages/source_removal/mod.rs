//! Taking away from the source what has arrived, each entry only once it is proven that the destination's drive
//! holds it.

mod folders;
mod links;
mod proof;

use utter_echo_model::problem::Operation;
use utter_echo_model::verb::{Reason, Side};
use utter_echo_os::{Entry, Identity, Kind, Stat, Time};

use crate::execute::stages::read_back::ReadBack;
use crate::execute::stages::run::PartRun;
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::{ErrorContext as _, FolderPair, StepError, StepResult};
use crate::policy::{Step, StepId};

/// True if something is to go, and what takes its place is on the drive.
pub(super) fn is_due(run: &PartRun<'_>) -> bool {
    let part = run.site.part;
    let leaves = part.root_vacate.is_some() || part.steps_on(Side::Source).next().is_some();
    leaves && run.flushed.is_complete() && !must_stop(run)
}

/// A full drive ends the copying; what has arrived may go all the same.
fn must_stop(run: &PartRun<'_>) -> bool {
    run.site.context.observer.stop_requested() || !run.ledger.may_go_on_removing()
}

/// Files first, then folders from the bottom up, and the root last.
pub(super) fn remove_from_source(run: &PartRun<'_>) {
    run.source_times.keep(run, |folder| !folder.vacates.is_empty());
    let removal = SourceRemoval { run };
    removal.announce();
    let shared = removal.remove_files();
    removal.remove_shared(shared);
    removal.remove_folders();
    removal.remove_root();
}

/// The stage.
struct SourceRemoval<'r, 'a> {
    run: &'r PartRun<'a>,
}

impl SourceRemoval<'_, '_> {
    fn must_stop(&self) -> bool {
        must_stop(self.run)
    }

    fn announce(&self) {
        let leaving = self.run.site.part.steps_on(Side::Source);
        let files = leaving.filter(|(_, step)| step.kind() == Kind::File);
        let bytes = files.map(|(_, step)| 2 * step.bytes()).sum();
        if bytes > 0 {
            self.run.site.context.observer.comparing(bytes);
        }
    }

    /// Takes away what has one name. Returns what has several.
    fn remove_files(&self) -> Vec<(Stat, StepId)> {
        let part = self.run.site.part;
        let back = ReadBack::of_leaving(self.run);
        let wanted = |step: &Step| step.kind() == Kind::File && step.bytes() > 0;
        back.in_order(wanted, |id| {
            let is_fresh = back.is_fresh(id);
            if self.must_stop() || !self.has_arrived(id) {
                return;
            }
            // What cannot be entered, and what has several names, comes below.
            let place = back.places.take(id.folder()).or_else(|| self.run.enter(id.folder()).ok());
            if let Some(place) = place {
                self.remove_one(&place, id, is_fresh);
                back.places.give_back(id.folder(), place);
            }
        });
        let pool = &self.run.site.context.pool;
        let shared = pool.map(part.folders.len(), |at| self.remove_files_of(at));
        shared.into_iter().flatten().collect()
    }

    /// The same in one folder, of what is still there.
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
        shared
    }

    /// Takes away an entry that has one name. Returns the state of one that has several, and stays for now.
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
                self.prove(&at, &seen, is_fresh)?;
                self.take_away(place, name, &seen)
            })
        });
        self.run.ledger.conclude(id, removed);
        None
    }

    /// Moved back to where it never left, or is back already: there it has the attributes that it should have,
    /// while those of what goes may never have been whole.
    fn is_home(&self, step: &Step) -> bool {
        self.run.terms.removal.moves_back && step.reason == Reason::Arrived
    }

    /// What was to arrive has, and is not known to be wrong.
    fn has_arrived(&self, id: StepId) -> bool {
        let Some((step, name)) = self.run.site.step(id) else { return false };
        match self.run.site.part.find(id.folder(), name) {
            Some(own) => self.run.ledger.is_done(own),
            None => step.reason == Reason::Arrived || step.destination.is_some(),
        }
    }

    /// The source's entry, if it still is what the plan saw.
    fn look(&self, place: &FolderPair, name: &[u8], step: &Step) -> Result<Stat, StepError> {
        let entry = Entry::Named(place.source()?, place.source_name(name));
        let now = self.run.system().stat(entry).during(Operation::Vacate)?;
        if step.source.is_some_and(|planned| planned.still(&now)) {
            Ok(now)
        } else {
            Err(StepError::stale_source(Operation::Vacate))
        }
    }

    /// Takes a name away if it is that of the very entry that was proven.
    fn take_away(&self, place: &FolderPair, name: &[u8], seen: &Stat) -> StepResult {
        let (here, name) = (place.source()?, place.source_name(name));
        let now = self.run.system().stat(Entry::Named(here, name)).during(Operation::Vacate)?;
        if !is_unchanged(seen, &now) {
            return Err(StepError::stale_source(Operation::Vacate));
        }
        self.run.system().remove_file(here, name).during(Operation::Vacate)
    }
}

/// True for the same entry, of which nothing at all was changed.
fn is_unchanged(seen: &Stat, now: &Stat) -> bool {
    let of = |stat: &Stat| -> (Identity, Kind, u64, Time, Time) {
        (stat.identity, stat.kind, stat.size, stat.modified, stat.changed)
    };
    of(seen) == of(now)
}
