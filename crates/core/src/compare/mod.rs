//! Station: facts. Both sides are gone through side by side, folder by folder, and each folder is given
//! to the next station once all in it is known.
//!
//! It knows neither the command nor the kinds of step: a [`Scope`] of questions tells what to look at.
//! What only its contents can settle (does a folder take part for what it holds) is settled when the
//! last folder below it ends; a folder in which nothing differs leaves nothing behind.

mod beside;
mod content;
mod difference;
mod entry;
mod find;
mod look;
mod node;
pub(crate) mod passage;
mod proof;
mod sweep;
mod walk;

use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

use crate::aside::Earlier;
use crate::aspect::Aspect;
use crate::drives::DriveMap;
use crate::head::Heads;
use crate::observe::Observer;
use crate::os::{Entry, Identity, Stat, System, Time};
use crate::path::TreePath;
use crate::plan::{Count, Note, Tally};
use crate::pool::Crew;
use crate::problem::{Cause, Operation, Problem};
use crate::reach::Reach;
use crate::request::{By, Running};
use crate::scope::Scope;
use crate::select::Selection;
use crate::sides::Pair;
use crate::state::State;

pub(crate) use difference::{
    Below, Change, Difference, Folder, Linked, Named, Obstacle, Presence, Seen, Station, Stays,
    What,
};
pub(crate) use proof::{Likely, Moved, Proof, Proven, Wanted};
pub(crate) use sweep::sweep;
use sweep::{Contents, Known};

/// What this station needs to know.
pub(crate) struct Comparison<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    pub(crate) scope: Scope,
    pub(crate) selection: &'a Selection,
    pub(crate) pair: &'a Pair,
    /// The drives below the destination; those that are found are added.
    pub(crate) drives: &'a DriveMap,
    /// Finds out what can be carried to the drive with this number, on which a folder lies.
    pub(crate) reach_of: &'a (dyn Fn(BorrowedFd<'_>, u64) -> Reach + Sync),
    pub(crate) reads: Reads,
    /// Of a move, whether what arrives gets another name beside what is there.
    pub(crate) keeps_both: Option<&'a (dyn Fn(&TreePath) -> bool + Sync)>,
    /// What a move that was cut short left.
    pub(crate) earlier: Option<&'a Earlier>,
    /// A folder that takes no part, wherever it is met.
    pub(crate) own: Option<&'a Own>,
    /// The time of this machine's clock.
    pub(crate) now: Time,
    pub(crate) running: Running,
    /// Those who do it.
    pub(crate) crew: Crew,
}

/// How contents are read, and what came of that.
#[derive(Debug)]
pub(crate) struct Reads {
    /// Of the drives that the roots lie on.
    pub(crate) heads: Heads,
    pub(crate) contents: Contents,
    /// Entries that were told of, and will be gone through again.
    scanned_before: AtomicU64,
    /// Files under other names that were the same.
    pub(crate) renamed: OnceLock<Known>,
    /// Files that could not be read past the cache.
    pub(crate) from_memory: AtomicU64,
    /// Files of the sample that were read, and found to be the same.
    pub(crate) sampled: Mutex<Count>,
}

impl Reads {
    /// How many of so many entries were not scanned before, to note what is to be read.
    fn scanned(&self, entries: u64) -> u64 {
        if self.contents.is_noted() {
            self.scanned_before.fetch_add(entries, Ordering::Relaxed);
            return entries;
        }
        let rest = |before: u64| Some(before.saturating_sub(entries));
        let order = Ordering::Relaxed;
        let before = self.scanned_before.fetch_update(order, order, rest).unwrap_or_default();
        entries.saturating_sub(before)
    }

    /// True if it is known that these are the same to the last byte.
    fn know(&self, source: &Stat, destination: &Stat) -> bool {
        let renamed = || self.renamed.get().is_some_and(|known| known.has(source, destination));
        self.contents.are_the_same(source, destination) || renamed()
    }

    /// Nothing was read yet.
    pub(crate) fn new(heads: Heads) -> Self {
        Self {
            heads,
            contents: Contents::default(),
            scanned_before: AtomicU64::new(0),
            renamed: OnceLock::new(),
            from_memory: AtomicU64::new(0),
            sampled: Mutex::default(),
        }
    }
}

/// A folder that whoever asked writes to meanwhile.
#[derive(Debug)]
pub(crate) struct Own {
    pub(crate) identity: Identity,
    /// Without links.
    pub(crate) path: PathBuf,
}

/// What this station finds beyond the folders that it gives to the next.
#[derive(Debug, Default)]
pub(crate) struct Compared {
    pub(crate) problems: Vec<Problem>,
    pub(crate) notes: Vec<Note>,
    pub(crate) source: Tally,
    pub(crate) newest: Option<Time>,
    pub(crate) destination: Tally,
    pub(crate) unchanged: Count,
    pub(crate) sampled: Count,
    /// Folders of the destination that hold the mark of an earlier run.
    pub(crate) doubts: Vec<TreePath>,
    /// The source's root takes part itself.
    pub(crate) takes_root: bool,
    /// `None` where it takes no part, or both roots agree.
    pub(crate) root: Option<Root>,
}

/// What is to be known of the two roots themselves.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Root {
    pub(crate) source: State,
    pub(crate) destination: Option<State>,
    pub(crate) what: What,
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

impl Halt {
    pub(crate) fn source_closed(error: io::Error) -> Self {
        Self::SourceClosed(error.into())
    }
}

/// Compares one pair of roots, and gives every folder in which something differs to `station`.
pub(crate) fn compare(
    comparison: &Comparison<'_>,
    station: &mut (dyn Station + Send),
) -> Result<Compared, Halt> {
    let mut findings = walk::go(comparison, station);
    if let Some(halt) = findings.halt.take() {
        return Err(halt);
    }
    if comparison.observer.stop_requested() {
        return Err(Halt::Stopped);
    }
    let tallies = findings.tallies;
    // A source that goes inside under its own name is a folder like any other.
    let takes_root = comparison.pair.prefix.as_bytes().is_empty()
        || !comparison.selection.is_choosy()
        || comparison.selection.is_of_chosen()
        || tallies.source.entries() > 0;
    let root = if takes_root { compare_roots(comparison) } else { Ok(None) };
    let root = root.unwrap_or_else(|error| {
        findings.problem(TreePath::default(), Operation::Compare, error.into());
        None
    });
    findings.notes.extend(tallies.ahead(comparison.now));
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
        sampled: *comparison.reads.sampled.lock().unwrap_or_else(PoisonError::into_inner),
        doubts: findings.doubts,
        takes_root,
        root,
    })
}

/// Only the two roots, where nothing depends on what they hold.
pub(crate) fn compare_roots_alone(comparison: &Comparison<'_>) -> io::Result<Compared> {
    Ok(Compared { root: compare_roots(comparison)?, takes_root: true, ..Compared::default() })
}

/// The two roots themselves; `None` where they agree, or a single entry is meant.
fn compare_roots(comparison: &Comparison<'_>) -> io::Result<Option<Root>> {
    let pair = comparison.pair;
    if pair.single.is_some() {
        return Ok(None);
    }
    let source = State::from(&pair.source_stat);
    if !pair.destination.exists() {
        return Ok(Some(Root { source, destination: None, what: What::New }));
    }
    if comparison.scope.by == By::Presence {
        return Ok(None);
    }
    let there = &pair.destination.anchor_stat;
    let sides = entry::Sides {
        source: (Entry::Pinned(pair.source.as_fd()), &pair.source_stat),
        destination: (Entry::Pinned(pair.destination.anchor.as_fd()), there),
        doubt: None,
        attributes: comparison.scope.attributes,
        at: None,
    };
    let drive = comparison.drives.root();
    let mut aspects = entry::differing_aspects(comparison, &drive.reach, &sides)?;
    if !drive.reach.keeps_top_times(pair) {
        aspects = aspects.without(Aspect::Times).without(Aspect::Atime);
    }
    let what = What::Aspects(aspects);
    Ok((!aspects.is_empty()).then(|| Root { source, destination: Some(there.into()), what }))
}
