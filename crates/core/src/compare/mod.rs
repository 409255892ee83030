//! Station: both sides side by side, folder by folder, into the steps of one part of a plan.
//!
//! A task is one folder of either side or both. What only its contents can decide (is a folder
//! needed, can it be removed) is settled when the last task below it ends; a folder in which
//! nothing differs leaves nothing behind.

mod content;
mod entry;
mod links;
mod node;
mod renames;
mod walk;
mod weigh;

use std::io;
use std::os::fd::AsFd;
use std::sync::{Mutex, PoisonError};

use crate::aspect::Aspect;
use crate::mark;
use crate::observe::Observer;
use crate::os::{Entry, Stat, System, Time};
use crate::pair::Pair;
use crate::path::TreePath;
use crate::plan::{Count, Note, Part, Reason, State, Step, Tally, Verb};
use crate::problem::{Cause, Operation, Problem};
use crate::reach::Reach;
use crate::request::{By, Changed, Running, Task};
use crate::select::Selection;

/// What this station needs to know.
pub(crate) struct Comparison<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    pub(crate) task: Task,
    pub(crate) changed: &'a Changed,
    pub(crate) selection: &'a Selection,
    pub(crate) reach: &'a Reach,
    pub(crate) pair: &'a Pair,
    /// Files of the sample that were read, and found to be the same.
    pub(crate) sampled: Mutex<Count>,
    /// What cannot be carried is a problem.
    pub(crate) strictly: bool,
    /// The time of this machine's clock.
    pub(crate) now: Time,
    /// An earlier run did not come to its end.
    pub(crate) interrupted: Option<mark::Left>,
    pub(crate) running: Running,
}

impl Comparison<'_> {
    /// True if every attribute is looked at, whatever the change times say.
    fn distrusts(&self) -> bool {
        self.changed.all_aspects || self.task == Task::Verify || self.changed.by == By::Content
    }
}

/// What this station finds.
#[derive(Debug, Default)]
pub(crate) struct Compared {
    pub(crate) part: Part,
    pub(crate) problems: Vec<Problem>,
    pub(crate) notes: Vec<Note>,
    pub(crate) source: Tally,
    pub(crate) destination: Tally,
    pub(crate) unchanged: Count,
    pub(crate) spared_newer: u64,
    pub(crate) held_back: u64,
    pub(crate) sampled: Count,
}

/// Why comparing ended without a result.
#[derive(Debug)]
pub(crate) enum Halt {
    /// The source folder itself cannot be listed.
    SourceClosed(Cause),
    /// One side turned up within the other at this path.
    Overlap(TreePath),
    /// The observer asked to stop.
    Stopped,
}

/// Compares one pair of roots.
pub(crate) fn compare(comparison: &Comparison<'_>) -> Result<Compared, Halt> {
    let pair = comparison.pair;
    let mut findings = walk::go(comparison);
    if let Some(halt) = findings.halt.take() {
        return Err(halt);
    }
    if comparison.observer.stop_requested() {
        return Err(Halt::Stopped);
    }
    let mut part = node::arrange(findings.closed);
    part.replaces = comparison.changed.steps.has(Verb::Replace);
    links::resolve(
        std::mem::take(&mut findings.linked),
        &mut part,
        &mut findings.tallies.unchanged,
    );
    renames::find(comparison, &mut part, &mut findings.tallies.unchanged);
    let mut part = part.finish();
    // A source that goes inside under its own name is a folder like any other.
    let is_needed = pair.prefix.as_bytes().is_empty()
        || !comparison.selection.is_choosy()
        || findings.tallies.source.entries() > 0;
    if is_needed {
        let root = compare_roots(comparison).unwrap_or_else(|cause| {
            let (path, operation) = (TreePath::default(), Operation::Compare);
            findings.problems.push(Problem { path, operation, cause: cause.into() });
            None
        });
        part.root = root.filter(|step| comparison.changed.steps.has(step.verb));
    }
    findings.notes.extend(findings.tallies.ahead(comparison.now));
    findings.problems.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(Compared {
        part,
        problems: findings.problems,
        notes: findings.notes,
        source: findings.tallies.source,
        destination: findings.tallies.destination,
        unchanged: findings.tallies.unchanged,
        spared_newer: findings.tallies.spared_newer,
        held_back: findings.tallies.held_back,
        sampled: *comparison.sampled.lock().unwrap_or_else(PoisonError::into_inner),
    })
}

/// The step for the root folder itself, if it needs one.
fn compare_roots(comparison: &Comparison<'_>) -> io::Result<Option<Step>> {
    let pair = comparison.pair;
    if pair.single.is_some() {
        return Ok(None);
    }
    let source = &pair.source_stat;
    if !pair.destination.exists() {
        let content = comparison.reach.carry.has(Aspect::Content);
        return Ok(content.then(|| step(Verb::Add, Reason::New, Some(source), None)));
    }
    if comparison.changed.by == By::Presence {
        return Ok(None);
    }
    let destination = &pair.destination.anchor_stat;
    let sides = entry::Sides {
        source: (Entry::Pinned(pair.source.as_fd()), source),
        destination: (Entry::Pinned(pair.destination.anchor.as_fd()), destination),
    };
    let mut aspects = entry::differing_aspects(comparison, &sides)?;
    if !comparison.reach.keeps_top_times(pair) {
        aspects = aspects.without(Aspect::Times).without(Aspect::Atime);
    }
    Ok((!aspects.is_empty()).then(|| Step {
        aspects,
        ..step(Verb::Adjust, Reason::Aspects, Some(source), Some(destination))
    }))
}

fn step(verb: Verb, reason: Reason, source: Option<&Stat>, destination: Option<&Stat>) -> Step {
    Step::new(verb, reason, source.map(State::from), destination.map(State::from))
}
