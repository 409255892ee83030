//! Files read once more on both sides after they were written. On drives with heads each side is read in the order
//! in which it lies.

use parking_lot::Mutex;
use std::collections::HashSet;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_drives::disk_order::{
    self, Prefetch, Prefetched, RotationalDisk, RotationalDisks, Sweep,
};
use utter_echo_os::{Advice, Entry};

use crate::execute::stages::disk_order::{OpenFolders, OrderedStep};
use crate::execute::stages::run::PartRun;
use crate::policy::PlannedFolder;

/// What is read back of a part: files by their folders and slots, those in the source after the others.
pub(super) struct ReadBack<'r, 'a> {
    run: &'r PartRun<'a>,
    root: BorrowedFd<'r>,
    pub(super) places: OpenFolders,
    /// Files of the destination that were read from its drive, and not compared yet.
    fresh: Mutex<HashSet<(usize, usize)>>,
    /// The source's files are read from their drive as well.
    forgets_source: bool,
}

impl<'r, 'a> ReadBack<'r, 'a> {
    pub(super) fn new(run: &'r PartRun<'a>, root: BorrowedFd<'r>, forgets_source: bool) -> Self {
        let (places, fresh) = (OpenFolders::default(), Mutex::default());
        Self { run, root, places, fresh, forgets_source }
    }

    /// True once for a file of the destination that is in memory as its drive holds it.
    pub(super) fn was_brought(&self, which: (usize, usize)) -> bool {
        self.fresh.lock().remove(&which)
    }

    /// Works on all of these in the order in which they lie; returns false where there is none.
    pub(super) fn in_order(
        &self,
        wanted: impl Fn(&PlannedFolder, usize) -> bool,
        work: impl Fn((usize, usize)) + Sync,
    ) -> bool {
        let RotationalDisks { source, destination } = &self.run.disks;
        let is_cold = self.forgets_source || source.is_some() && self.is_cold(&wanted);
        let disks = RotationalDisks {
            source: source.clone().filter(|_| is_cold),
            destination: destination.clone(),
        };
        let place = |which| match &disks {
            RotationalDisks { source: Some(here), .. } => self.place_here(here, which),
            RotationalDisks { destination: Some(there), .. } => self.place_there(there, which),
            RotationalDisks { .. } => 0,
        };
        let Some(all) = disks.any().then(|| self.order(wanted, place)).flatten() else {
            return false;
        };
        let sweep = Sweep {
            all,
            bring_source: &|step: OrderedStep| self.bring_source(step.which()),
            bring_destination: &|step: OrderedStep| self.bring_destination(step.which()),
            place_there: &|disk: &RotationalDisk, step: OrderedStep| {
                self.place_there(disk, step.which())
            },
            work: &|step: OrderedStep| work(step.which()),
        };
        sweep.run(&self.run.context.pool, &disks);
        true
    }

    /// True if the source's files are not in memory since they were copied.
    fn is_cold(&self, wanted: &impl Fn(&PlannedFolder, usize) -> bool) -> bool {
        let all = || {
            let folders = self.run.part.folders.iter().enumerate();
            folders.flat_map(|(at, folder)| {
                let slots = 0..folder.steps.len() + folder.vacates.len();
                slots.filter(|slot| wanted(folder, *slot)).map(move |slot| (at, slot))
            })
        };
        let open = |which| self.open_source(which).ok();
        !disk_order::are_in_memory(self.run.system(), (all(), all().count()), open)
    }

    fn order(
        &self,
        wanted: impl Fn(&PlannedFolder, usize) -> bool,
        place: impl Fn((usize, usize)) -> u64,
    ) -> Option<Vec<OrderedStep>> {
        let mut order = Vec::new();
        for (at, folder) in self.run.part.folders.iter().enumerate() {
            let slots = 0..folder.steps.len() + folder.vacates.len();
            for slot in slots.filter(|slot| wanted(folder, *slot)) {
                order.push(OrderedStep::new(place((at, slot)), at, slot)?);
            }
        }
        order.sort_by_key(|placed| placed.place);
        (order.len() > 1).then_some(order)
    }

    /// What cannot be opened comes first, and tells for itself.
    fn place_here(&self, disk: &RotationalDisk, which: (usize, usize)) -> u64 {
        let file = self.open_source(which);
        file.map_or(0, |file| disk.place_of(self.run.system(), file.as_fd(), 0))
    }

    fn place_there(&self, disk: &RotationalDisk, which: (usize, usize)) -> u64 {
        let file = self.open_destination(which);
        file.map_or(0, |file| disk.place_of(self.run.system(), file.as_fd(), 0))
    }

    fn open_source(&self, which: (usize, usize)) -> io::Result<OwnedFd> {
        self.run.open_source(which)
    }

    fn open_destination(&self, (at, slot): (usize, usize)) -> io::Result<OwnedFd> {
        let (system, part) = (self.run.system(), &self.run.part);
        let folder = &part.folders[at];
        let name = folder.step(slot).map(|step| folder.head.names.get(step.name));
        let above = system.open_folder(self.root, part.folder_path(at).as_bytes())?;
        system.open_file(above.as_fd(), name.unwrap_or_default())
    }

    fn bring_source(&self, which: (usize, usize)) -> Prefetched {
        let brought = self.open_source(which).and_then(|file| {
            if self.forgets_source {
                // A drive that is read from alone has nothing to write out.
                let _ = forget(self.run, file.as_fd());
            }
            self.bring(&file)
        });
        // What fails shows once more when it is compared.
        brought.unwrap_or(Prefetched { ahead: Prefetch::Read, bytes: 0 })
    }

    fn bring_destination(&self, which: (usize, usize)) -> Prefetched {
        let brought = self.open_destination(which).and_then(|file| {
            forget(self.run, file.as_fd())?;
            self.bring(&file)
        });
        if brought.is_ok() {
            self.fresh.lock().insert(which);
        }
        brought.unwrap_or(Prefetched { ahead: Prefetch::Read, bytes: 0 })
    }

    fn bring(&self, file: &OwnedFd) -> io::Result<Prefetched> {
        let system = self.run.system();
        let bytes = system.stat(Entry::Open(file.as_fd()))?.size;
        let stops = self.run.context.observer.stop_requested();
        let ahead =
            if stops { Prefetch::Read } else { disk_order::prefetch(system, file.as_fd(), bytes)? };
        Ok(Prefetched { ahead, bytes })
    }
}

/// Only what is on the drive can go from the cache, and is then read from the drive. What somebody changed since all
/// was flushed is flushed by itself.
pub(super) fn forget(run: &PartRun<'_>, file: BorrowedFd<'_>) -> io::Result<()> {
    let system = run.system();
    if run.has_flushed() && !run.was_flushed(&system.stat(Entry::Open(file))?) {
        system.flush_file(file)?;
    } else {
        system.write_back(file)?;
    }
    // Advice that is not taken changes nothing but what stays in the cache.
    let _ = system.advise(file, Advice::Drop, 0, 0);
    Ok(())
}
