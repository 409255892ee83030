//! Sums over the reports of a command, for a command that runs several.

use std::cell::Cell;
use std::rc::Rc;

use crate::report::events::{Amount, TotalsLine, VerbTotals};

/// A summary of the runs of a command, for the table of several.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct HeardTotals {
    pub(crate) entries: u64,
    pub(crate) bytes: u64,
    pub(crate) problems: u64,
    /// Scanned and compared.
    pub(crate) scanned_totals: Amount,
    /// Entries added, less entries removed.
    pub(crate) more: i64,
    /// The number of the run's record.
    pub(crate) run: Option<u64>,
    /// True after a report, which notifications need.
    pub(crate) has_report: bool,
}

impl HeardTotals {
    pub(crate) fn done(&self) -> Amount {
        Amount { entries: self.entries, bytes: self.bytes }
    }

    /// The expected totals of the next run, from this one.
    pub(crate) fn left(&self) -> Option<Amount> {
        let Amount { entries, bytes } = self.scanned_totals;
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
        let done = run.done.total();
        self.entries += done.entries;
        self.bytes += done.bytes;
        let entries = |amount: Amount| i64::try_from(amount.entries).unwrap_or_default();
        let VerbTotals { add, remove, left_source, .. } = run.done;
        self.more = entries(add) - entries(remove) - entries(left_source);
    }
}

/// The summary, shared with the reports of a command.
pub(crate) type Listener = Rc<Cell<HeardTotals>>;
