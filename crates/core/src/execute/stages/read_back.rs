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
use crate::execute::stages::site::OnDrive;
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
    drops_source_cache: bool,
}

impl<'r, 'a> ReadBack<'r, 'a> {
    /// For files that were written.
    pub(super) fn of_written(run: &'r PartRun<'a>) -> Self {
        let (places, fresh) = (OpenFolders::default(), Mutex::default());
        Self { run, side: Side::Destination, places, fresh, drops_source_cache: true }
    }

    /// For files that are to be removed from the source.
    pub(super) fn of_leaving(run: &'r PartRun<'a>) -> Self {
        Self { side: Side::Source, drops_source_cache: false, ..Self::of_written(run) }
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
        let is_cold = self.drops_source_cache || source.is_some() && self.is_cold(&wanted);
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
            prefetch_source: &|step: OrderedStep| self.prefetch_source(step.id),
            prefetch_destination: &|step: OrderedStep| self.prefetch_destination(step.id),
            destination_position: &|disk: &RotationalDisk, step: OrderedStep| {
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
        file.map_or(0, |file| disk.position_of(self.run.system(), file.as_fd(), 0))
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

    fn prefetch_source(&self, id: StepId) -> Prefetched {
        let prefetched = self.open_source(id).and_then(|file| {
            if self.drops_source_cache {
                // The source needs no flush.
                let _ = drop_cache(self.run, None, file.as_fd());
            }
            self.prefetch(&file)
        });
        // An error shows again when the file is compared.
        prefetched.unwrap_or(Prefetched { ahead: Prefetch::Read, bytes: 0 })
    }

    fn prefetch_destination(&self, id: StepId) -> Prefetched {
        let prefetched = self.open_destination(id).and_then(|file| {
            let on = self.run.site.drive_of(id.folder());
            let is_fresh = drop_cache(self.run, Some(on), file.as_fd())?;
            Ok((self.prefetch(&file)?, is_fresh))
        });
        if prefetched.as_ref().is_ok_and(|(_, is_fresh)| *is_fresh) {
            self.fresh.lock().insert(id);
        }
        prefetched
            .map_or(Prefetched { ahead: Prefetch::Read, bytes: 0 }, |(prefetched, _)| prefetched)
    }

    fn prefetch(&self, file: &OwnedFd) -> io::Result<Prefetched> {
        let system = self.run.system();
        let bytes = system.stat(Entry::Open(file.as_fd()))?.size;
        let stops = self.run.site.context.observer.stop_requested();
        let ahead =
            if stops { Prefetch::Read } else { disk_order::prefetch(system, file.as_fd(), bytes)? };
        Ok(Prefetched { ahead, bytes })
    }
}

/// Drops a file from the cache, after flushing one of the destination that was changed since the flush of its drive.
/// Returns true if it is read from the drive from now on, except for what is in the cache of the device.
pub(super) fn drop_cache(
    run: &PartRun<'_>,
    on: Option<&OnDrive<'_>>,
    file: BorrowedFd<'_>,
) -> io::Result<bool> {
    let system = run.system();
    match on.filter(|_| run.flushed.is_complete()) {
        Some(on) if !on.has_flushed(&system.stat(Entry::Open(file))?) => system.flush_file(file)?,
        _ => system.write_back(file)?,
    }
    Ok(drive_handle::drop_file_cache(system, file) || kinds::is_in_memory(system, file))
}
