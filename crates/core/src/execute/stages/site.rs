//! The site of a part: its two roots, the drives below the destination's, and the names and paths of its steps on
//! either side.

use std::io;
use std::os::fd::{AsFd as _, OwnedFd};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use utter_echo_drives::disk_order::RotationalDisks;
use utter_echo_drives::drive_handle::DriveHandle;
use utter_echo_drives::map::DriveBelow;
use utter_echo_model::path::TreePath;
use utter_echo_model::verb::Side;
use utter_echo_os::{Stat, System, Time};

use crate::execute::writer::{WriteContext, Writer};
use crate::policy::{Part, SourceNames, Step, StepId};
use crate::sides::Pair;

/// A drive of the destination during the execution of a part.
pub(super) struct OnDrive<'a> {
    pub(super) mounted: &'a DriveBelow,
    pub(super) writer: Writer<'a>,
    /// Opened before the first write.
    pub(super) handle: OnceLock<DriveHandle>,
    /// The drive's own time at the beginning of its flush, if it is needed and known.
    pub(super) flushed_at: OnceLock<Time>,
    /// Set once nothing more can be written to it.
    pub(super) closed: AtomicBool,
    /// The cache of the device below its driver was dropped.
    pub(super) is_device_cache_dropped: AtomicBool,
}

impl OnDrive<'_> {
    /// True for an entry that was not changed since the flush, so that all of it is on the drive.
    pub(super) fn has_flushed(&self, entry: &Stat) -> bool {
        self.flushed_at.get().is_some_and(|at| entry.changed < *at)
    }

    pub(super) fn is_closed(&self) -> bool {
        self.closed.load(Ordering::Relaxed)
    }
}

/// The site of one part.
pub(super) struct PartSite<'a> {
    pub(super) context: &'a WriteContext<'a>,
    pub(super) pair: &'a Pair,
    pub(super) part: &'a Part,
    /// The prefix of displayed paths.
    pub(super) prefix: &'a TreePath,
    /// By `DriveId`; the drive of the root comes first.
    pub(super) drives: Vec<OnDrive<'a>>,
    /// The rotational disks of the roots.
    pub(super) disks: RotationalDisks,
}

impl PartSite<'_> {
    pub(super) fn system(&self) -> &dyn System {
        self.context.system
    }

    /// Bytes to read at a time of each of two compared files.
    pub(super) fn block(&self) -> usize {
        self.disks.block(self.context.pool.most())
    }

    /// The drive of the destination's root.
    pub(super) fn root_drive(&self) -> &OnDrive<'_> {
        &self.drives[0]
    }

    /// The drive of a folder of the plan.
    pub(super) fn drive_of(&self, folder: usize) -> &OnDrive<'_> {
        let folder = self.part.folders.get(folder);
        let id = folder.map_or(0, |folder| usize::from(folder.head.known.drive.0));
        self.drives.get(id).unwrap_or_else(|| self.root_drive())
    }

    /// The step and its name in the destination; `None` for the step of a root.
    pub(super) fn step(&self, id: StepId) -> Option<(&Step, &[u8])> {
        let step = self.part.step(id)?;
        Some((step, self.part.folders.get(id.in_folder()?)?.name(step)))
    }

    /// The names in a folder that differ in the source.
    pub(super) fn source_names(&self, folder: usize) -> SourceNames {
        let Some(single) = &self.pair.single else {
            return self.part.folders[folder].source_names.clone();
        };
        // A single entry may get another name beside an existing one.
        let folder = &self.part.folders[folder];
        let mut names = SourceNames::default();
        for step in folder.steps.iter().chain(&folder.source_removals) {
            names.add(folder.name(step), &single.source);
        }
        names
    }

    /// Opens the source's file of a step.
    pub(super) fn open_source(&self, id: StepId) -> io::Result<OwnedFd> {
        let (_, name) = self.step(id).ok_or(io::ErrorKind::NotFound)?;
        let names = self.source_names(id.folder());
        let path = self.part.source_path(id.folder());
        let above = self.system().open_folder(self.pair.source.as_fd(), path.as_bytes())?;
        self.system().open_file(above.as_fd(), names.get(name).unwrap_or(name))
    }

    /// All steps that change the destination, the root's first.
    pub(super) fn steps_there(&self) -> impl Iterator<Item = (StepId, &Step)> {
        let root = StepId::of_root(Side::Destination);
        let root = self.part.root.iter().map(move |step| (root, step));
        root.chain(self.part.steps_on(Side::Destination))
    }

    /// True for a part that undoes a run.
    pub(super) fn is_undo(&self) -> bool {
        self.part.memory.is_some()
    }

    /// True if the source's root is renamed to the destination's.
    pub(super) fn takes_root_over(&self) -> bool {
        self.part.root.is_some_and(|step| step.is_taken_over())
    }

    pub(super) fn report_start(&self, path: &TreePath) {
        self.context.observer.started(self.prefix.join(path.as_bytes()).as_bytes());
    }
}
