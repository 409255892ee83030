//! Files copied in the order in which they lie on a source whose drive has a head, over all folders.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::sync::atomic::Ordering;

use utter_echo_drives::disk_order::{
    self, Prefetch, Prefetched, RotationalDisk, RotationalDisks, Sweep,
};
use utter_echo_model::observe::StepOutcome;
use utter_echo_os::Kind;

use crate::execute::stages::run::PartRun;
use crate::execute::writer::FolderPair;
use crate::policy::Step;

/// A step where its file lies: sixteen bytes each, since there may be millions.
#[derive(Clone, Copy, Debug)]
pub(super) struct OrderedStep {
    pub(super) place: u64,
    folder: u32,
    slot: u32,
}

impl OrderedStep {
    /// `None` beyond four billion folders, or steps in one.
    pub(super) fn new(place: u64, folder: usize, slot: usize) -> Option<Self> {
        let number = |at: usize| u32::try_from(at).ok();
        Some(Self { place, folder: number(folder)?, slot: number(slot)? })
    }

    pub(super) fn which(self) -> (usize, usize) {
        (self.folder as usize, self.slot as usize)
    }
}

/// Folders that are kept open: each takes two handles, and a process has a thousand.
const OPEN_AT_MOST: usize = 128;

/// Folders that steps happened in, for those that come there next.
#[derive(Default)]
pub(super) struct OpenFolders(Mutex<OpenFoldersKept>);

#[derive(Default)]
struct OpenFoldersKept {
    by_folder: HashMap<usize, Vec<FolderPair>>,
    count: usize,
}

impl OpenFolders {
    /// One worker has a place at a time.
    pub(super) fn take(&self, at: usize) -> Option<FolderPair> {
        let mut kept = self.0.lock();
        let place = kept.by_folder.get_mut(&at).and_then(Vec::pop);
        kept.count -= usize::from(place.is_some());
        place
    }

    pub(super) fn give_back(&self, at: usize, place: FolderPair) {
        let mut kept = self.0.lock();
        if kept.count >= OPEN_AT_MOST {
            *kept = OpenFoldersKept::default();
        }
        kept.by_folder.entry(at).or_default().push(place);
        kept.count += 1;
    }
}

impl PartRun<'_> {
    /// The order of all that is to be filled in, if it is worth one.
    pub(super) fn order(&self, due: &dyn Fn(&Step) -> bool) -> Option<Vec<OrderedStep>> {
        let disk = self.disks.source.as_deref()?;
        // What is taken back is renamed, most of it, and not read.
        if self.takes_back() {
            return None;
        }
        let reads = || {
            let folders = self.part.folders.iter().enumerate();
            let slots = folders.flat_map(|(at, f)| (0..f.steps.len()).map(move |slot| (at, slot)));
            slots.filter(|(at, slot)| {
                let step = &self.part.folders[*at].steps[*slot];
                due(step) && step.bytes() > 0
            })
        };
        let count = reads().count();
        let open = |which| self.open_source(which).ok();
        if count < 2 || disk_order::are_in_memory(self.system(), (reads(), count), open) {
            return None;
        }
        let mut order = Vec::new();
        for at in 0..self.part.folders.len() {
            self.place_all(disk, at, due, &mut order)?;
        }
        order.sort_by_key(|placed| placed.place);
        Some(order)
    }

    /// The source's file of a step.
    pub(super) fn open_source(&self, (at, slot): (usize, usize)) -> io::Result<OwnedFd> {
        let folder = &self.part.folders[at];
        let name = folder.step(slot).map(|step| folder.name_of_source(step));
        let path = self.part.source_path(at);
        let above = self.system().open_folder(self.pair.source.as_fd(), path.as_bytes())?;
        self.system().open_file(above.as_fd(), name.unwrap_or_default())
    }

    /// Finds out where the files of a folder lie. What cannot be asked comes first, and tells for itself.
    fn place_all(
        &self,
        disk: &RotationalDisk,
        at: usize,
        due: &dyn Fn(&Step) -> bool,
        order: &mut Vec<OrderedStep>,
    ) -> Option<()> {
        let (system, folder) = (self.system(), &self.part.folders[at]);
        let mut slots: Vec<usize> = (0..folder.steps.len()).collect();
        slots.retain(|slot| due(&folder.steps[*slot]));
        slots.sort_by_key(|slot| folder.steps[*slot].source.map(|source| source.inode));
        let path = self.part.source_path(at);
        let source = system.open_folder(self.pair.source.as_fd(), path.as_bytes());
        for slot in slots {
            let step = &folder.steps[slot];
            let holds = step.kind() == Kind::File && step.bytes() > 0;
            let name = folder.name_of_source(step);
            let open = || system.open_file(source.as_ref().ok()?.as_fd(), name).ok();
            let file = holds.then(open).flatten();
            let place = file.map_or(0, |file| {
                let inode = step.source.map_or(0, |source| source.inode);
                disk.place_of(system, file.as_fd(), inode)
            });
            order.push(OrderedStep::new(place, at, slot)?);
        }
        Some(())
    }

    /// Takes one step after the other in this order.
    pub(super) fn sweep(
        &self,
        root: BorrowedFd<'_>,
        order: Vec<OrderedStep>,
        due: &(dyn Fn(&Step) -> bool + Sync),
    ) {
        let places = OpenFolders::default();
        let bring = |step: OrderedStep| self.bring(&places, step.which());
        let sweep = Sweep {
            all: order,
            bring_source: &bring,
            bring_destination: &bring,
            place_there: &|_, step: OrderedStep| step.place,
            work: &|step: OrderedStep| self.sweep_one(root, &places, step.which(), due),
        };
        // The destination is written to, in whatever order.
        let disks = RotationalDisks { source: self.disks.source.clone(), destination: None };
        sweep.run(&self.context.pool, &disks);
    }

    /// Brings the file of a step into memory.
    fn bring(&self, places: &OpenFolders, (at, slot): (usize, usize)) -> Prefetched {
        let folder = &self.part.folders[at];
        let step = &folder.steps[slot];
        if step.kind() != Kind::File || step.bytes() == 0 || self.context.must_end() {
            return Prefetched { ahead: Prefetch::Read, bytes: 0 };
        }
        let (system, name) = (self.system(), folder.name_of_source(step));
        let place = places.take(at);
        let known = place.as_ref().and_then(|place| place.source.as_ref());
        let file = match known {
            Some(source) => system.open_file(source.as_fd(), name),
            None => self.open_source((at, slot)),
        };
        let brought =
            file.and_then(|file| disk_order::prefetch(system, file.as_fd(), step.bytes()));
        if let Some(place) = place {
            places.give_back(at, place);
        }
        let ahead = brought.unwrap_or_else(|error| {
            // Not read once more now; whatever else it is shows when the step's turn comes.
            self.puts_off(self.drive_of(at), (at, slot), &error.into());
            Prefetch::Read
        });
        Prefetched { ahead, bytes: step.bytes() }
    }

    fn sweep_one(
        &self,
        root: BorrowedFd<'_>,
        places: &OpenFolders,
        (at, slot): (usize, usize),
        due: &dyn Fn(&Step) -> bool,
    ) {
        let folder = &self.part.folders[at];
        let waits = self.progress.put_off.has((at, slot));
        if self.context.must_end() || waits || self.was_tried(folder, slot) {
            return;
        }
        if self.drive_of(at).closed.load(Ordering::Relaxed) {
            self.ledger.set(folder.first + slot, StepOutcome::Failed);
            return;
        }
        match places.take(at).map_or_else(|| self.enter_to_change(root, at), Ok) {
            Ok(place) => {
                self.try_step(&place, at, slot, &Self::write_entry);
                places.give_back(at, place);
            }
            // All of the folder shares its fate, which is told once.
            Err(_) => self.work_on(root, at, 0..folder.steps.len(), due, &Self::write_entry),
        }
    }
}
