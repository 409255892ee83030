//! Sums over a plan.

use serde::{Deserialize, Serialize};
use utter_echo_model::count::{Count, Tally};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Time;

use crate::policy::Step;

/// Counts of steps by verb, with the bytes of their entries. A hard link counts by name, with the bytes of its file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepTotals {
    /// Steps that add, with the bytes of what they add.
    pub add: Count,
    /// Steps that replace, with the bytes of the new entries.
    pub replace: Count,
    /// Steps that adjust.
    pub adjust: Count,
    /// Steps that rename; their bytes do not count.
    pub rename: Count,
    /// Steps that remove, with the bytes of what they remove.
    pub remove: Count,
    /// Entries that are removed from the source, with their bytes. Saved plans and journals do not hold them.
    #[serde(skip)]
    pub left_source: Count,
}

/// Sums over a plan.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Totals {
    /// The steps.
    pub steps: StepTotals,
    /// Removals that only clear what an interrupted run left behind, counted in `remove` too.
    pub leftovers: u64,
    /// Unchanged entries.
    pub unchanged: Count,
    /// Different entries that stay because the destination's is newer.
    pub left_newer: u64,
    /// Steps that an option forbids, each counted once.
    pub held_back: u64,
    /// Files of the random sample that were read.
    pub sampled: Count,
    /// The newest modification time in the source, folders excluded; `None` if nothing takes part.
    pub newest: Option<Time>,
    /// Selected entries of the source.
    pub source: Tally,
    /// Selected entries of the destination. A copy does not scan extra folders.
    pub destination: Tally,
}

impl Totals {
    /// Number of steps.
    pub fn steps(&self) -> u64 {
        Verb::ALL.into_iter().map(|verb| self.of(verb).entries).sum()
    }

    /// The steps of one kind.
    pub fn of(&self, verb: Verb) -> Count {
        match verb {
            Verb::Add => self.steps.add,
            Verb::Replace => self.steps.replace,
            Verb::Adjust => self.steps.adjust,
            Verb::Rename => self.steps.rename,
            Verb::Remove => self.steps.remove,
            Verb::RemoveSource => self.steps.left_source,
        }
    }
}

impl Totals {
    /// Sums that follow from the steps of a plan.
    pub(crate) fn forget_steps(&mut self) {
        (self.steps, self.leftovers) = (StepTotals::default(), 0);
    }

    pub(crate) fn include(&mut self, step: &Step) {
        let count = match step.verb {
            Verb::Add => &mut self.steps.add,
            Verb::Replace => &mut self.steps.replace,
            Verb::Adjust => &mut self.steps.adjust,
            Verb::Rename => &mut self.steps.rename,
            Verb::Remove => &mut self.steps.remove,
            Verb::RemoveSource => &mut self.steps.left_source,
        };
        count.add(step.size());
        self.leftovers += u64::from(step.reason == Reason::Leftover);
    }
}
