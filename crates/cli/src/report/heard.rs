//! What the reports of a command add up to, for whoever runs several.

use std::cell::Cell;
use std::rc::Rc;

use crate::report::events::{Amount, TotalsLine, VerbTotals};

/// What was heard of the runs of a command, as far as a table of several needs it.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Heard {
    pub(crate) entries: u64,
    pub(crate) bytes: u64,
    pub(crate) problems: u64,
    /// Scanned and compared.
    pub(crate) looked_at: Amount,
    /// How many entries there are more than were scanned.
    pub(crate) more: i64,
    /// The number of the run's record.
    pub(crate) run: Option<u64>,
    /// There was a report, which is told to whoever is to know.
    pub(crate) is_told: bool,
}

impl Heard {
    pub(crate) fn done(&self) -> Amount {
        Amount { entries: self.entries, bytes: self.bytes }
    }

    /// What the next run will scan and compare, as far as this one did.
    pub(crate) fn left(&self) -> Option<Amount> {
        let Amount { entries, bytes } = self.looked_at;
        (entries > 0).then(|| Amount { entries: entries.saturating_add_signed(self.more), bytes })
    }

    pub(crate) fn add(&mut self, other: &Self) {
        self.entries += other.entries;
        self.bytes += other.bytes;
        self.problems += other.problems;
        self.run = self.run.or(other.run);
    }

    pub(crate) fn totals(&mut self, totals: &TotalsLine) {
        self.problems += totals.problems;
        let Some(run) = &totals.run else { return };
        let amounts = run.done.amounts();
        self.entries += amounts.iter().map(|amount| amount.entries).sum::<u64>();
        self.bytes += amounts.iter().map(|amount| amount.bytes).sum::<u64>();
        let entries = |amount: Amount| i64::try_from(amount.entries).unwrap_or_default();
        let VerbTotals { add, remove, vacate, .. } = run.done;
        self.more = entries(add) - entries(remove) - entries(vacate);
    }
}

/// Where the reports of a command leave that.
pub(crate) type Ear = Rc<Cell<Heard>>;
