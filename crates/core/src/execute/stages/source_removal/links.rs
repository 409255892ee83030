//! Removing hard links from the source: all names of a file, or none.

use std::collections::{HashMap, HashSet};

use std::os::fd::AsFd as _;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::verb::Side;
use utter_echo_os::{Entry, Identity, Stat};

use crate::execute::stages::source_removal::proof::ProvenEntry;
use crate::execute::stages::source_removal::shared::SourceRemoval;
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::{FolderPair, StepError};
use crate::policy::StepId;

impl SourceRemoval<'_, '_> {
    /// Removes entries with hard links.
    pub(super) fn remove_shared(&self, shared: Vec<(Stat, StepId)>) {
        let mut by_entry: HashMap<Identity, (Stat, Vec<StepId>)> = HashMap::new();
        for (seen, id) in shared {
            by_entry.entry(seen.identity).or_insert((seen, Vec::new())).1.push(id);
        }
        let staying = self.staying();
        let mut by_entry: Vec<_> = by_entry.into_values().collect();
        by_entry.sort_unstable_by(|a, b| a.1.cmp(&b.1));
        for (seen, names) in by_entry {
            if self.must_stop() {
                break;
            }
            // A further name is left out by the selection, unless the plan has problems.
            let all = usize::try_from(seen.links).is_ok_and(|links| links == names.len());
            if staying.contains(&seen.identity.inode) || !all && !self.run.terms.knows_all {
                let together = StepError(Operation::RemoveSource, Cause::NamesTogether);
                self.run.ledger.conclude(names[0], Err(together));
            } else {
                self.remove_group(&seen, &names);
            }
        }
    }

    /// Inode numbers of files with a name that was to be removed and stays.
    fn staying(&self) -> HashSet<u64> {
        let leaving = self.run.site.part.steps_on(Side::Source);
        let staying = leaving.filter(|(id, _)| {
            let outcome = self.run.ledger.outcome(*id);
            matches!(outcome, StepOutcome::Failed | StepOutcome::Stale) || !self.has_arrived(*id)
        });
        staying.filter_map(|(_, step)| step.source.map(|source| source.inode)).collect()
    }

    /// Removes all names of a file, or none.
    fn remove_group(&self, seen: &Stat, names: &[StepId]) {
        let ledger = &self.run.ledger;
        let mut proven: Vec<(StepId, FolderPair, ProvenEntry)> = Vec::new();
        for id in names.iter().copied() {
            match ledger.retry(|| self.prove_name(id, seen)) {
                // One file in the source must be one file on each drive of the destination.
                Ok((_, one)) if self.is_torn(&proven, (id, &one)) && !self.may_be_torn(id) => {
                    let error = StepError(Operation::RemoveSource, Cause::NotArrived);
                    return ledger.conclude(id, Err(error));
                }
                Ok((place, one)) => proven.push((id, place, one)),
                Err(error) => return ledger.conclude(id, Err(error)),
            }
        }
        // Removing a name changes the file's change time, which is expected.
        let mut expected = *seen;
        for (id, place, one) in proven {
            let Some((_, name)) = self.run.site.step(id) else { continue };
            let gone = self.take_away(&place, name, &expected, one.lease.as_ref());
            self.run.has_taken_from(id.folder(), &place);
            let is_gone = gone.is_ok();
            ledger.conclude(id, gone);
            if !is_gone {
                break;
            }
            let now = one.entry.map(|entry| self.run.system().stat(Entry::Pinned(entry.as_fd())));
            expected = now.and_then(Result::ok).unwrap_or(expected);
        }
    }

    fn prove_name(&self, id: StepId, seen: &Stat) -> Result<(FolderPair, ProvenEntry), StepError> {
        let place = self.run.enter(id.folder())?;
        let stale = || StepError::stale_source(Operation::RemoveSource);
        let (step, name) = self.run.site.step(id).ok_or_else(stale)?;
        let on = self.run.site.drive_of(id.folder());
        let proven = self.prove(&StepSite { on, place: &place, name, step }, seen, false)?;
        Ok((place, proven))
    }

    /// True if another name of the file has another copy on the same drive.
    fn is_torn(
        &self,
        proven: &[(StepId, FolderPair, ProvenEntry)],
        (id, one): (StepId, &ProvenEntry),
    ) -> bool {
        let drive = |id: StepId| self.run.site.drive_of(id.folder()).mounted.id;
        let mut others = proven.iter().filter(|(other, ..)| drive(*other) == drive(id));
        others.any(|(.., other)| other.copy != one.copy)
    }

    fn may_be_torn(&self, id: StepId) -> bool {
        let is_home = || self.run.site.step(id).is_some_and(|(step, _)| self.is_home(step));
        self.run.terms.may_lose || is_home()
    }
}
