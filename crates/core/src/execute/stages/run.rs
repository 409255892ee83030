//! One part of a plan during its execution.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::os::fd::BorrowedFd;
use std::sync::atomic::{AtomicBool, Ordering};

use utter_echo_files::dirty_marker::MarkerSet;
use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::observe::Observer;
use utter_echo_model::path::TreePath;
use utter_echo_model::running::Running;
use utter_echo_model::verb::Side;
use utter_echo_os::{Flags, System};

use crate::execute::stages::last_changes::LastChanges;
use crate::execute::stages::ledger::PartLedger;
use crate::execute::stages::postponed::Postponed;
use crate::execute::stages::site::PartSite;
use crate::execute::stages::source_times::SourceTimes;
use crate::execute::writer::FolderPair;
use crate::journal::SetAsideRun;
use crate::plan::Plan;
use crate::policy::PlannedFolder;

/// The terms of an execution.
pub(crate) struct Terms<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    pub(crate) running: Running,
    /// Whether files are removed before anything is added.
    pub(crate) remove_first: bool,
    /// Where displaced entries are kept, if they are.
    pub(crate) aside: Option<&'a SetAsideRun<'a>>,
    /// For each part, what a move that was cut short left.
    pub(crate) interrupted: &'a [InterruptedMove],
    /// Attributes that the destination's drive cannot store may be lost.
    pub(crate) may_lose: bool,
}

/// The terms of one part.
pub(super) struct PartTerms<'a> {
    /// An interrupted move between the same places, if any.
    pub(super) interrupted: Option<&'a InterruptedMove>,
    pub(super) remove_first: bool,
    pub(super) may_lose: bool,
    /// The plan has no problems.
    pub(super) knows_all: bool,
}

/// The mode and flags of a folder before it was opened for changes.
#[derive(Clone, Copy, Debug)]
pub(super) struct Opening {
    pub(super) mode: Option<u32>,
    pub(super) flags: Option<Flags>,
}

/// The shared state of the stages of one part.
pub(super) struct PartRun<'a> {
    pub(super) site: &'a PartSite<'a>,
    pub(super) ledger: PartLedger<'a>,
    /// The destination's root.
    pub(super) root: BorrowedFd<'a>,
    pub(super) terms: PartTerms<'a>,
    pub(super) flushed: FlushState<'a>,
    /// Folders of the destination that are opened for the time of the changes.
    pub(super) opened: Mutex<HashMap<usize, Opening>>,
    pub(super) postponed: Postponed,
    pub(super) source_times: SourceTimes,
    pub(super) last_changes: LastChanges,
}

impl PartRun<'_> {
    pub(super) fn system(&self) -> &dyn System {
        self.site.system()
    }

    /// Records a change in the destination's folder, and maybe in the source's.
    pub(super) fn has_changed(&self, at: usize, place: &FolderPair) {
        self.last_changes.note(self.system(), (Side::Destination, at), &place.destination);
        if self.source_times.has(at) {
            self.has_taken_from(at, place);
        }
    }

    /// Records a change in the source's folder.
    pub(super) fn has_taken_from(&self, at: usize, place: &FolderPair) {
        if let Some(source) = &place.source {
            self.last_changes.note(self.system(), (Side::Source, at), source);
        }
    }

    pub(super) fn must_end(&self) -> bool {
        self.site.context.must_end()
    }

    /// Stores the times of source folders from which something will be removed.
    pub(super) fn keep_source_times(&self, is_due: impl Fn(&PlannedFolder) -> bool) {
        self.source_times.keep((self.site, self.terms.interrupted), is_due);
    }

    pub(super) fn sets_aside(&self) -> bool {
        self.site.root_drive().writer.aside.is_some()
    }
}

/// What of a part may not be on its drives yet.
pub(super) struct FlushState<'a> {
    /// The marker that this run set.
    pub(super) own: Mutex<MarkerSet>,
    /// Folders with dirty markers of earlier runs.
    pub(super) marked_folders: &'a [TreePath],
    /// Once all steps are done, nothing of earlier runs is unfinished.
    pub(super) settles: bool,
    /// All drives were flushed.
    pub(super) all: AtomicBool,
}

impl<'a> FlushState<'a> {
    pub(super) fn new(plan: &'a Plan, part: usize) -> Self {
        Self {
            own: Mutex::new(MarkerSet::Impossible),
            marked_folders: plan.left_behind.get(part).map_or(&[], |left| &left.marked_folders),
            settles: plan.settles,
            all: AtomicBool::new(false),
        }
    }

    pub(super) fn is_complete(&self) -> bool {
        self.all.load(Ordering::Relaxed)
    }
}
