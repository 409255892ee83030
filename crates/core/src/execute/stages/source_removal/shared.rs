//! What all that goes from the source has in common.

use utter_echo_model::problem::Operation;
use utter_echo_model::verb::Reason;
use utter_echo_os::{Entry, Identity, Kind, Stat, Time};

use crate::execute::stages::run::PartRun;
use crate::execute::writer::{ErrorContext as _, FolderPair, StepError, StepResult};
use crate::policy::{Step, StepId};

/// The removal of entries from the source of one part.
pub(super) struct SourceRemoval<'r, 'a> {
    pub(super) run: &'r PartRun<'a>,
}

impl SourceRemoval<'_, '_> {
    /// A full drive ends the copying; what has arrived may go all the same.
    pub(super) fn must_stop(&self) -> bool {
        let observer = self.run.site.context.observer;
        observer.stop_requested() || !self.run.ledger.may_go_on_removing()
    }

    /// Moved back to where it never left, or is back already: there it has the attributes that it should have,
    /// while those of what goes may never have been whole.
    pub(super) fn is_home(&self, step: &Step) -> bool {
        self.run.terms.removal.moves_back && step.reason == Reason::Arrived
    }

    /// What was to arrive has, and is not known to be wrong.
    pub(super) fn has_arrived(&self, id: StepId) -> bool {
        let Some((step, name)) = self.run.site.step(id) else { return false };
        match self.run.site.part.find(id.folder(), name) {
            Some(own) => self.run.ledger.is_done(own),
            None => step.reason == Reason::Arrived || step.destination.is_some(),
        }
    }

    /// The source's entry, if it still is what the plan saw.
    pub(super) fn look(
        &self,
        place: &FolderPair,
        name: &[u8],
        step: &Step,
    ) -> Result<Stat, StepError> {
        let entry = Entry::Named(place.source()?, place.source_name(name));
        let now = self.run.system().stat(entry).during(Operation::Vacate)?;
        if step.source.is_some_and(|planned| planned.still(&now)) {
            Ok(now)
        } else {
            Err(StepError::stale_source(Operation::Vacate))
        }
    }

    /// Takes a name away if it is that of the very entry that was proven.
    pub(super) fn take_away(&self, place: &FolderPair, name: &[u8], seen: &Stat) -> StepResult {
        let (here, name) = (place.source()?, place.source_name(name));
        let now = self.run.system().stat(Entry::Named(here, name)).during(Operation::Vacate)?;
        if !is_unchanged(seen, &now) {
            return Err(StepError::stale_source(Operation::Vacate));
        }
        self.run.system().remove_file(here, name).during(Operation::Vacate)
    }
}

/// True for the same entry, of which nothing at all was changed.
pub(super) fn is_unchanged(seen: &Stat, now: &Stat) -> bool {
    let of = |stat: &Stat| -> (Identity, Kind, u64, Time, Time) {
        (stat.identity, stat.kind, stat.size, stat.modified, stat.changed)
    };
    of(seen) == of(now)
}
