//! Sums over a plan.

use serde::{Deserialize, Serialize};
use utter_echo_model::count::{Count, Tally};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Time;

use crate::policy::Step;

/// How many steps of each kind there are, and their bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepTotals {
    /// Steps that add, with the bytes they write.
    pub add: Count,
    /// Steps that replace, with the bytes they write.
    pub replace: Count,
    /// Steps that adjust.
    pub adjust: Count,
    /// Steps that rename, with the bytes that need not be written for that.
    pub rename: Count,
    /// Steps that remove, with the bytes they give up.
    pub remove: Count,
    /// Entries that go from the source, with their bytes. Plans and notes that are written down hold none, so they
    /// stay readable as they are.
    #[serde(skip)]
    pub vacate: Count,
}

/// Sums over a plan.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Totals {
    /// The steps.
    pub steps: StepTotals,
    /// Removals that only clear what an interrupted run left behind, counted in `remove` too.
    pub leftovers: u64,
    /// Entries that are as they should be.
    pub unchanged: Count,
    /// Entries that were left as they are though they differ, since the destination's is newer.
    pub spared_newer: u64,
    /// Steps that would have been planned and that an option forbids, each counted once.
    pub held_back: u64,
    /// Files that were read on both sides since they were chosen by chance.
    pub sampled: Count,
    /// The latest modification time of what is taken of the source, folders aside; `None` if that is
    /// nothing.
    pub newest: Option<Time>,
    /// The source's side, as far as selected.
    pub source: Tally,
    /// The destination's side, as far as selected; a copy does not look at what it would leave.
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
            Verb::Vacate => self.steps.vacate,
        }
    }

    /// Bytes of content that the run writes.
    pub fn bytes_to_write(&self) -> u64 {
        self.steps.add.bytes + self.steps.replace.bytes
    }
}

impl Totals {
    /// What is counted anew from the steps of a plan.
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
            Verb::Vacate => &mut self.steps.vacate,
        };
        count.add(step.bytes());
        self.leftovers += u64::from(step.reason == Reason::Leftover);
    }
}
