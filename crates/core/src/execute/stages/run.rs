//! One part of a plan while it is carried out.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::os::fd::OwnedFd;
use std::sync::OnceLock;
use std::sync::atomic::AtomicBool;

use utter_echo_drives::disk_order::RotationalDisks;
use utter_echo_drives::map::DriveBelow;
use utter_echo_files::dirty_marker::MarkerSet;
use utter_echo_model::identity::DriveId;
use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::observe::Observer;
use utter_echo_model::path::TreePath;
use utter_echo_model::running::Running;
use utter_echo_model::state::State;
use utter_echo_os::{Flags, System, Time};

use crate::execute::stages::ledger::Ledger;
use crate::execute::stages::put_off::PutOff;
use crate::execute::writer::{WriteContext, Writer};
use crate::journal::SetAsideRun;
use crate::plan::Plan;
use crate::policy::{Part, PlannedFolder, Step};
use crate::sides::Pair;

/// How a folder was before it was opened for changes.
#[derive(Clone, Copy, Debug)]
pub(super) struct Opening {
    pub(crate) mode: Option<u32>,
    pub(crate) flags: Option<Flags>,
}

/// On what terms a plan is carried out.
pub(crate) struct Terms<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    pub(crate) running: Running,
    /// Files are removed before anything arrives.
    pub(crate) remove_first: bool,
    /// Where what is displaced goes, if it is not lost.
    pub(crate) aside: Option<&'a SetAsideRun<'a>>,
    /// For each part, what a move that was cut short left.
    pub(crate) interrupted: &'a [InterruptedMove],
    pub(crate) removal: RemovalTerms,
}

/// On what terms something goes from the source.
#[derive(Clone, Copy)]
pub(crate) struct RemovalTerms {
    /// It was brought there by a move that is taken back.
    pub(crate) moves_back: bool,
    /// It may have lost what the destination's drive does not hold.
    pub(crate) may_lose: bool,
}

/// What a part is carried out under.
pub(super) struct PartTerms<'a> {
    /// A move from here to there that was cut short, if there was one.
    pub(crate) interrupted: Option<&'a InterruptedMove>,
    pub(crate) remove_first: bool,
    pub(crate) removal: RemovalTerms,
    /// The plan holds whatever was to be in it.
    pub(crate) knows_all: bool,
}

/// What changes while a part is carried out.
pub(super) struct PartProgress {
    /// Folders that are open for the time of the changes.
    pub(crate) opened: Mutex<HashMap<usize, Opening>>,
    /// When folders of the source were changed, before something went from them.
    pub(crate) times_here: Mutex<HashMap<usize, State>>,
    pub(crate) put_off: PutOff,
    /// Held while names are given to a file that is locked.
    pub(crate) linking: Mutex<()>,
}

/// One part while it is carried out.
pub(super) struct PartRun<'a> {
    pub(crate) context: &'a WriteContext<'a>,
    pub(crate) ledger: &'a Ledger,
    pub(crate) pair: &'a Pair,
    pub(crate) part: &'a Part,
    pub(crate) prefix: &'a TreePath,
    /// By [`DriveId`].
    pub(crate) drives: Vec<OnDrive<'a>>,
    /// Of the drives that the roots lie on.
    pub(crate) disks: RotationalDisks,
    pub(crate) flush_state: FlushState<'a>,
    pub(super) terms: PartTerms<'a>,
    pub(super) progress: PartProgress,
}

/// A drive of the destination while a part is carried out.
pub(super) struct OnDrive<'a> {
    pub(crate) mounted: &'a DriveBelow,
    pub(crate) writer: Writer<'a>,
    /// Its topmost folder, opened before the first writing: a handle is told of the errors of
    /// write-back that come after it was opened, and of each only once. Whoever flushes by it must
    /// report what it was told.
    pub(crate) handle: OnceLock<OwnedFd>,
    /// Set once nothing more can be written to it.
    pub(crate) closed: AtomicBool,
}

impl PartRun<'_> {
    pub(crate) fn system(&self) -> &dyn System {
        self.context.system
    }

    fn drive(&self, id: DriveId) -> &OnDrive<'_> {
        self.drives.get(usize::from(id.0)).unwrap_or(&self.drives[0])
    }

    /// The drive that a folder of the plan lies on.
    pub(crate) fn drive_of(&self, at: usize) -> &OnDrive<'_> {
        let id = self
            .part
            .folders
            .get(at)
            .map_or_else(DriveId::default, |folder| folder.head.known.drive);
        self.drive(id)
    }

    pub(crate) fn takes_back(&self) -> bool {
        self.part.memory.is_some()
    }

    pub(crate) fn sets_aside(&self) -> bool {
        self.drives[0].writer.aside.is_some()
    }
}

pub(super) fn name_of<'f>(folder: &'f PlannedFolder, step: &Step) -> &'f [u8] {
    folder.head.names.get(step.name)
}

/// What is in doubt about one part.
pub(super) struct FlushState<'a> {
    /// The mark that this run left.
    pub(crate) own: Mutex<MarkerSet>,
    /// Marks of earlier runs below the root.
    pub(crate) interrupted: &'a [TreePath],
    /// Once all steps are done nothing of theirs is in doubt any more.
    pub(crate) settles: bool,
    /// All drives were flushed.
    pub(crate) flushed: AtomicBool,
    /// When that began.
    pub(crate) flushed_at: OnceLock<Time>,
}

impl<'a> FlushState<'a> {
    pub(super) fn new(plan: &'a Plan, part: usize) -> Self {
        Self {
            own: Mutex::new(MarkerSet::Impossible),
            interrupted: plan.marked_folders.get(part).map_or(&[], Vec::as_slice),
            settles: plan.settles,
            flushed: AtomicBool::new(false),
            flushed_at: OnceLock::new(),
        }
    }
}
