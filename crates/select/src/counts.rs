//! Counts of the decisions of each rule.

use std::sync::atomic::{AtomicU64, Ordering};

use crate::query::CountedSide;
use crate::rules::Rule;
use crate::selection::Selection;

/// The number of entries that each rule of a selection decided about. Any worker may count.
#[derive(Debug)]
pub struct RuleCounts<'s> {
    selection: &'s Selection,
    /// By [`Selection::position`].
    counts: Vec<RuleCount>,
}

#[derive(Debug, Default)]
struct RuleCount {
    taken: AtomicU64,
    left_out: AtomicU64,
    kept: AtomicU64,
}

impl RuleCount {
    fn each(&self) -> [&AtomicU64; 3] {
        [&self.taken, &self.left_out, &self.kept]
    }
}

/// The decisions of one rule, for reports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleSummary {
    /// As it was given.
    pub rule: String,
    /// Entries of the source that it took.
    pub taken: u64,
    /// Entries of the source that it left out; a folder with all its entries counts as one.
    pub left_out: u64,
    /// Entries of the destination only that it left in place.
    pub kept: u64,
}

impl<'s> RuleCounts<'s> {
    /// No decisions yet.
    pub fn of(selection: &'s Selection) -> Self {
        let counts = std::iter::repeat_with(RuleCount::default).take(selection.rule_count());
        Self { selection, counts: counts.collect() }
    }

    /// Counts a decision.
    pub fn add(&self, rule: Rule, side: CountedSide, taken: bool) {
        let count = &self.counts[self.selection.position(rule)];
        let count = match (taken, side) {
            (true, _) => &count.taken,
            (false, CountedSide::Source) => &count.left_out,
            (false, CountedSide::DestinationAlone) => &count.kept,
        };
        count.fetch_add(1, Ordering::Relaxed);
    }

    /// Adds other counts for the same rules.
    pub fn merge(&self, other: &RuleCounts<'_>) {
        for (own, more) in self.counts.iter().zip(&other.counts) {
            for (own, more) in own.each().into_iter().zip(more.each()) {
                own.fetch_add(more.load(Ordering::Relaxed), Ordering::Relaxed);
            }
        }
    }

    /// The decisions of each rule.
    pub fn summaries(&self) -> Vec<RuleSummary> {
        let summary = |rule: Rule| {
            let count = &self.counts[self.selection.position(rule)];
            let [taken, left_out, kept] = count.each().map(|n| n.load(Ordering::Relaxed));
            RuleSummary { rule: self.selection.name(rule), taken, left_out, kept }
        };
        self.selection.all_rules().map(summary).collect()
    }

    /// Patterns that decided nothing, as they were given.
    pub fn idle_patterns(&self) -> Vec<String> {
        let is_pattern = |rule: &Rule| matches!(rule, Rule::Exclude(_) | Rule::Only(_));
        let patterns = self.selection.all_rules().filter(is_pattern).count();
        let is_idle = |summary: &RuleSummary| summary.taken + summary.left_out + summary.kept == 0;
        self.summaries().into_iter().take(patterns).filter(is_idle).map(|idle| idle.rule).collect()
    }
}
