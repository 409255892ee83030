//! Comparing one pair of roots.

use std::io;
use std::os::fd::AsFd;
use std::sync::atomic::Ordering;

use utter_echo_model::attribute::Attribute;
use utter_echo_model::note::Note;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Operation;
use utter_echo_model::state::State;
use utter_echo_os::Entry;

use crate::compare::comparison::Comparison;
use crate::compare::difference::{DifferenceKind, FolderSink};
use crate::compare::entry::{self, BothEntries};
use crate::compare::found::{Compared, Halt, RootDifference};
use crate::compare::walk;
use crate::request::CompareBy;

/// Compares one pair of roots, and passes every folder with differences to `sink`.
pub(crate) fn compare(
    comparison: &Comparison<'_>,
    sink: &mut (dyn FolderSink + Send),
) -> Result<Compared, Halt> {
    let mut findings = walk::go(comparison, sink);
    if let Some(halt) = findings.halt.take() {
        return Err(halt);
    }
    if comparison.observer.stop_requested() {
        return Err(Halt::Stopped);
    }
    let mut tallies = findings.tallies;
    // A source that is copied into the destination under its own name is a folder like any other.
    let takes_root = comparison.pair.prefix.as_bytes().is_empty()
        || !comparison.terms.selection.is_choosy()
        || tallies.source.entries() > 0;
    let root = if takes_root { compare_roots(comparison) } else { Ok(None) };
    if takes_root && comparison.pair.single.is_none() {
        tallies.count_root(comparison.pair.destination.exists(), matches!(root, Ok(None)));
    }
    let root = root.unwrap_or_else(|error| {
        findings.problem(TreePath::default(), Operation::Compare, error.into());
        None
    });
    findings.notes.extend(tallies.ahead(comparison.terms.now));
    let from_memory = comparison.reads.from_memory.load(Ordering::Relaxed);
    findings.notes.extend((from_memory > 0).then_some(Note::ReadFromMemory(from_memory)));
    findings.problems.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(Compared {
        problems: findings.problems,
        notes: findings.notes,
        source: tallies.source,
        newest: tallies.newest,
        destination: tallies.destination,
        unchanged: tallies.unchanged,
        sampled: *comparison.reads.sampled.lock(),
        left_behind: findings.left_behind,
        takes_root,
        root,
    })
}

/// Compares only the two roots, if nothing depends on their entries.
pub(crate) fn compare_roots_alone(comparison: &Comparison<'_>) -> io::Result<Compared> {
    Ok(Compared { root: compare_roots(comparison)?, takes_root: true, ..Compared::default() })
}

/// Compares the two roots themselves; `None` if they are equal, or the source is a single entry.
fn compare_roots(comparison: &Comparison<'_>) -> io::Result<Option<RootDifference>> {
    let pair = comparison.pair;
    if pair.single.is_some() {
        return Ok(None);
    }
    let source = State::from(&pair.source_stat);
    if !pair.destination.exists() {
        return Ok(Some(RootDifference { source, destination: None, what: DifferenceKind::New }));
    }
    if comparison.terms.scope.by == CompareBy::Presence {
        return Ok(None);
    }
    let there = &pair.destination.anchor_stat;
    let sides = BothEntries {
        source: (Entry::Pinned(pair.source.as_fd()), &pair.source_stat),
        destination: (Entry::Pinned(pair.destination.anchor.as_fd()), there),
        unflushed: None,
        attributes: comparison.terms.scope.attributes,
        at: None,
    };
    let drive = comparison.drives.root();
    let mut attributes = entry::differing_attributes(comparison, &drive.capabilities, &sides)?;
    if !drive.capabilities.keeps_top_times(pair.destination.exists()) {
        attributes = attributes.without(Attribute::Times).without(Attribute::Atime);
    }
    let what = DifferenceKind::Attributes(attributes);
    Ok((!attributes.is_empty()).then(|| RootDifference {
        source,
        destination: Some(there.into()),
        what,
    }))
}
