//! What a comparison works with.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::os::fd::BorrowedFd;
use std::path::PathBuf;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use utter_echo_drives::capabilities::Capabilities;
use utter_echo_drives::disk_order::RotationalDisks;
use utter_echo_drives::map::DriveMap;
use utter_echo_model::count::Count;
use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::observe::Observer;
use utter_echo_model::path::TreePath;
use utter_echo_model::running::Running;
use utter_echo_os::{Identity, Stat, System, Time};
use utter_echo_select::{RuleCounts, Selection};
use utter_echo_workers::pool::WorkerPool;

use crate::compare::noted::{Contents, SameFiles};
use crate::request::Scope;
use crate::sides::Pair;

/// What a comparison was asked for.
pub(crate) struct ComparisonTerms<'a> {
    pub(crate) scope: Scope,
    pub(crate) selection: &'a Selection,
    /// Of a move, whether what arrives gets another name beside what is there.
    pub(crate) keeps_both: Option<&'a (dyn Fn(&TreePath) -> bool + Sync)>,
    /// What a move that was cut short left.
    pub(crate) interrupted: Option<&'a InterruptedMove>,
    /// A folder that takes no part, wherever it is met.
    pub(crate) own: Option<&'a OwnFolder>,
    /// The time of this machine's clock.
    pub(crate) now: Time,
    pub(crate) running: Running,
}

/// What comparing needs to know.
pub(crate) struct Comparison<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    /// What its rules decided in this pass over the trees.
    pub(crate) counts: RuleCounts<'a>,
    pub(crate) pair: &'a Pair,
    /// The drives below the destination; those that are found are added.
    pub(crate) drives: &'a DriveMap,
    /// Finds out what can be carried to the drive with this number, on which a folder lies.
    pub(crate) capabilities_of: &'a (dyn Fn(BorrowedFd<'_>, u64) -> Capabilities + Sync),
    pub(crate) reads: ContentReads,
    /// Those who do it.
    pub(crate) pool: WorkerPool,
    pub(crate) terms: ComparisonTerms<'a>,
}

/// How contents are read, and what came of that.
#[derive(Debug)]
pub(crate) struct ContentReads {
    /// Of the drives that the roots lie on.
    pub(crate) disks: RotationalDisks,
    /// Bytes that are read at a time of each of two files.
    pub(crate) block: usize,
    pub(crate) contents: Contents,
    /// Entries that were reported, and will be gone through again.
    scanned_before: AtomicU64,
    /// Files under other names that were the same.
    pub(crate) renamed: OnceLock<SameFiles>,
    /// Files that could not be read past the cache.
    pub(crate) from_memory: AtomicU64,
    /// By the numbers of drives, whether the system remembers nothing of their devices.
    pub(crate) devices: Mutex<HashMap<u64, bool>>,
    /// Files of the sample that were read, and found to be the same.
    pub(crate) sampled: Mutex<Count>,
}

impl ContentReads {
    /// How many of so many entries were not scanned before, to note what is to be read.
    pub(crate) fn scanned(&self, entries: u64) -> u64 {
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
    pub(crate) fn know(&self, source: &Stat, destination: &Stat) -> bool {
        let renamed = || self.renamed.get().is_some_and(|known| known.has(source, destination));
        self.contents.are_the_same(source, destination) || renamed()
    }

    /// Nothing was read yet, by so many workers at most.
    pub(crate) fn new(disks: RotationalDisks, workers: usize) -> Self {
        Self {
            block: disks.block(workers),
            disks,
            contents: Contents::default(),
            scanned_before: AtomicU64::new(0),
            renamed: OnceLock::new(),
            from_memory: AtomicU64::new(0),
            devices: Mutex::default(),
            sampled: Mutex::default(),
        }
    }
}

/// A folder that whoever asked writes to meanwhile.
#[derive(Debug)]
pub(crate) struct OwnFolder {
    pub(crate) identity: Identity,
    /// Without links.
    pub(crate) path: PathBuf,
}
