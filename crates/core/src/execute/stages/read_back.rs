//! Reading files again on both sides after they were written, in disk order on rotational disks.

use parking_lot::Mutex;
use std::collections::HashSet;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_drives::disk_order::{
    self, Prefetch, Prefetched, RotationalDisk, RotationalDisks, Sweep,
};
use utter_echo_drives::{drive_handle, kinds};
use utter_echo_model::verb::Side;
use utter_echo_os::Entry;

use crate::execute::stages::disk_order::{OpenFolders, OrderedStep};
use crate::execute::stages::run::PartRun;
use crate::policy::{Step, StepId};

/// Files of one part to read again on both sides.
pub(super) struct ReadBack<'r, 'a> {
    run: &'r PartRun<'a>,
    /// The side that their steps change.
    side: Side,
    pub(super) places: OpenFolders,
    /// Files whose copy was read from its drive and not compared yet.
    fresh: Mutex<HashSet<StepId>>,
    /// Whether the source's files are read from their drive as well.
    forgets_source: bool,
}

impl<'r, 'a> ReadBack<'r, 'a> {
    /// For files that were written.
    pub(super) fn of_written(run: &'r PartRun<'a>) -> Self {
        let (places, fresh) = (OpenFolders::default(), Mutex::default());
        Self { run, side: Side::Destination, places, fresh, forgets_source: true }
    }

    /// For files that are to be removed from the source.
    pub(super) fn of_leaving(run: &'r PartRun<'a>) -> Self {
        Self { side: Side::Source, forgets_source: false, ..Self::of_written(run) }
    }

    /// True, once, for a file of the destination that was just read from its drive.
    pub(super) fn is_fresh(&self, id: StepId) -> bool {
        self.fresh.lock().remove(&id)
    }

    /// Processes all wanted files in disk order. Returns false if no disk is rotational.
    pub(super) fn in_order(
        &self,
        wanted: impl Fn(&Step) -> bool,
        work: impl Fn(StepId) + Sync,
    ) -> bool {
        let RotationalDisks { source, destination } = &self.run.site.disks;
        let is_cold = self.forgets_source || source.is_some() && self.is_cold(&wanted);
        let disks = RotationalDisks {
            source: source.clone().filter(|_| is_cold),
            destination: destination.clone(),
        };
        let place = |id| match &disks {
            RotationalDisks { source: Some(here), .. } => self.place(here, self.open_source(id)),
            RotationalDisks { destination: Some(there), .. } => {
                self.place(there, self.open_destination(id))
            }
            RotationalDisks { .. } => 0,
        };
        let Some(all) = disks.any().then(|| self.order(wanted, place)).flatten() else {
            return false;
        };
        let sweep = Sweep {
            all,
            bring_source: &|step: OrderedStep| self.bring_source(step.id),
            bring_destination: &|step: OrderedStep| self.bring_destination(step.id),
            place_there: &|disk: &RotationalDisk, step: OrderedStep| {
                self.place(disk, self.open_destination(step.id))
            },
            work: &|step: OrderedStep| work(step.id),
        };
        sweep.run(&self.run.site.context.pool, &disks);
        true
    }

    fn wanted(&self, wanted: impl Fn(&Step) -> bool) -> impl Iterator<Item = StepId> {
        let all = self.run.site.part.steps_on(self.side);
        all.filter(move |(_, step)| wanted(step)).map(|(id, _)| id)
    }

    /// True if the source's files are no longer cached.
    fn is_cold(&self, wanted: &impl Fn(&Step) -> bool) -> bool {
        let open = |id| self.open_source(id).ok();
        let all = (self.wanted(wanted), self.wanted(wanted).count());
        !disk_order::are_in_memory(self.run.system(), all, open)
    }

    fn order(
        &self,
        wanted: impl Fn(&Step) -> bool,
        place: impl Fn(StepId) -> u64,
    ) -> Option<Vec<OrderedStep>> {
        let all = self.wanted(wanted).map(|id| OrderedStep { place: place(id), id });
        let mut order: Vec<OrderedStep> = all.collect();
        order.sort();
        (order.len() > 1).then_some(order)
    }

    /// The position of a file. One that cannot be opened comes first, and fails there.
    fn place(&self, disk: &RotationalDisk, file: io::Result<OwnedFd>) -> u64 {
        file.map_or(0, |file| disk.place_of(self.run.system(), file.as_fd(), 0))
    }

    fn open_source(&self, id: StepId) -> io::Result<OwnedFd> {
        self.run.site.open_source(id)
    }

    fn open_destination(&self, id: StepId) -> io::Result<OwnedFd> {
        let (run, system) = (self.run, self.run.system());
        let (_, name) = run.site.step(id).ok_or(io::ErrorKind::NotFound)?;
        let path = run.site.part.folder_path(id.folder());
        let above = system.open_folder(run.root, path.as_bytes())?;
        system.open_file(above.as_fd(), name)
    }

    fn bring_source(&self, id: StepId) -> Prefetched {
        let brought = self.open_source(id).and_then(|file| {
            if self.forgets_source {
                // The source needs no flush.
                let _ = forget(self.run, file.as_fd());
            }
            self.bring(&file)
        });
        // An error shows again when the file is compared.
        brought.unwrap_or(Prefetched { ahead: Prefetch::Read, bytes: 0 })
    }

    fn bring_destination(&self, id: StepId) -> Prefetched {
        let brought = self.open_destination(id).and_then(|file| {
            let is_fresh = forget(self.run, file.as_fd())?;
            Ok((self.bring(&file)?, is_fresh))
        });
        if brought.as_ref().is_ok_and(|(_, is_fresh)| *is_fresh) {
            self.fresh.lock().insert(id);
        }
        brought.map_or(Prefetched { ahead: Prefetch::Read, bytes: 0 }, |(brought, _)| brought)
    }

    fn bring(&self, file: &OwnedFd) -> io::Result<Prefetched> {
        let system = self.run.system();
        let bytes = system.stat(Entry::Open(file.as_fd()))?.size;
        let stops = self.run.site.context.observer.stop_requested();
        let ahead =
            if stops { Prefetch::Read } else { disk_order::prefetch(system, file.as_fd(), bytes)? };
        Ok(Prefetched { ahead, bytes })
    }
}

/// Drops a file from the cache, after flushing it if it was changed since the flush of its drive. Returns true if
/// it is read from the drive from now on, except for what is in the cache of the device.
pub(super) fn forget(run: &PartRun<'_>, file: BorrowedFd<'_>) -> io::Result<bool> {
    let system = run.system();
    if run.flushed.is_complete() && !run.flushed.holds(&system.stat(Entry::Open(file))?) {
        system.flush_file(file)?;
    } else {
        system.write_back(file)?;
    }
    Ok(drive_handle::forget_file(system, file) || kinds::is_in_memory(system, file))
}
