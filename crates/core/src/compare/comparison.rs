//! The context of a comparison.

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

/// The terms of a comparison.
pub(crate) struct ComparisonTerms<'a> {
    pub(crate) scope: Scope,
    pub(crate) selection: &'a Selection,
    /// For a move: whether an arriving entry gets another name beside the existing one.
    pub(crate) keeps_both: Option<&'a (dyn Fn(&TreePath) -> bool + Sync)>,
    /// What an interrupted move left.
    pub(crate) interrupted: Option<&'a InterruptedMove>,
    /// A folder that is always left out.
    pub(crate) own: Option<&'a OwnFolder>,
    /// The time of this machine's clock.
    pub(crate) now: Time,
    pub(crate) running: Running,
}

/// The context of a comparison.
pub(crate) struct Comparison<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    /// Decisions of the selection in this walk.
    pub(crate) counts: RuleCounts<'a>,
    pub(crate) pair: &'a Pair,
    /// The drives below the destination. The walk adds those that it finds.
    pub(crate) drives: &'a DriveMap,
    /// The capabilities for the drive of a folder, by the drive's number.
    pub(crate) capabilities_of: &'a (dyn Fn(BorrowedFd<'_>, u64) -> Capabilities + Sync),
    pub(crate) reads: ContentReads,
    /// The workers.
    pub(crate) pool: WorkerPool,
    pub(crate) terms: ComparisonTerms<'a>,
}

/// How contents are read, and the results.
#[derive(Debug)]
pub(crate) struct ContentReads {
    /// The rotational disks of the roots.
    pub(crate) disks: RotationalDisks,
    /// Bytes to read at a time of each of two files.
    pub(crate) block: usize,
    pub(crate) contents: Contents,
    /// Entries that were reported as scanned, and will be scanned again.
    scanned_before: AtomicU64,
    /// Equal files under different names.
    pub(crate) renamed: OnceLock<SameFiles>,
    /// Files that could not be read past the cache.
    pub(crate) from_memory: AtomicU64,
    /// By drive numbers, whether the cache of the device below was dropped.
    pub(crate) devices: Mutex<HashMap<u64, bool>>,
    /// Files of the random sample that were read, and are equal.
    pub(crate) sampled: Mutex<Count>,
}

impl ContentReads {
    /// How many of these entries were not reported as scanned before.
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

    /// True if these files are known to have equal contents.
    pub(crate) fn know(&self, source: &Stat, destination: &Stat) -> bool {
        let renamed = || self.renamed.get().is_some_and(|known| known.has(source, destination));
        self.contents.are_the_same(source, destination) || renamed()
    }

    /// Nothing was read yet. At most this many workers will read.
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

/// A folder that utter itself changes during the run.
#[derive(Debug)]
pub(crate) struct OwnFolder {
    pub(crate) identity: Identity,
    /// Its real path.
    pub(crate) path: PathBuf,
}
