//! Copying files in disk order, over all folders of the source.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::os::fd::AsFd as _;

use utter_echo_drives::disk_order::{
    self, Prefetch, Prefetched, RotationalDisk, RotationalDisks, Sweep,
};
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::verb::Side;
use utter_echo_os::Kind;

use crate::execute::stages::run::PartRun;
use crate::execute::writer::FolderPair;
use crate::policy::{Step, StepId};

/// A step with the position of its file. Sixteen bytes, since there may be millions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct OrderedStep {
    pub(super) place: u64,
    pub(super) id: StepId,
}

/// The most folders that are kept open. Each takes two handles, and a process has a thousand.
const OPEN_AT_MOST: usize = 128;

/// Open folders, kept for the next step in them.
#[derive(Default)]
pub(super) struct OpenFolders(Mutex<OpenFoldersKept>);

#[derive(Default)]
struct OpenFoldersKept {
    by_folder: HashMap<usize, Vec<FolderPair>>,
    count: usize,
}

impl OpenFolders {
    /// Takes an open folder for one worker.
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

/// The steps of this stage in the order of the source's disk.
pub(super) struct InDiskOrder<'r, 'a> {
    run: &'r PartRun<'a>,
    due: &'r (dyn Fn(&Step) -> bool + Sync),
    order: Vec<OrderedStep>,
    places: OpenFolders,
}

impl<'r, 'a> InDiskOrder<'r, 'a> {
    /// `None` if disk order gains nothing.
    pub(super) fn of(
        run: &'r PartRun<'a>,
        due: &'r (dyn Fn(&Step) -> bool + Sync),
    ) -> Option<Self> {
        let disk = run.site.disks.source.as_deref()?;
        // An undo renames most entries and does not read them.
        if run.site.part.brings_back {
            return None;
        }
        let reads = || {
            let all = run.site.part.steps_on(Side::Destination);
            all.filter(|(_, step)| due(step) && step.bytes() > 0).map(|(id, _)| id)
        };
        let count = reads().count();
        let open = |id| run.site.open_source(id).ok();
        if count < 2 || disk_order::are_in_memory(run.system(), (reads(), count), open) {
            return None;
        }
        let mut order = Vec::new();
        for at in 0..run.site.part.folders.len() {
            place_all(run, disk, at, due, &mut order);
        }
        order.sort();
        Some(Self { run, due, order, places: OpenFolders::default() })
    }

    /// Does all steps in this order.
    pub(super) fn sweep(mut self) {
        let all = std::mem::take(&mut self.order);
        let prefetch_file = |step: OrderedStep| self.prefetch(step.id);
        let sweep = Sweep {
            all,
            prefetch_source: &prefetch_file,
            prefetch_destination: &prefetch_file,
            destination_position: &|_, step: OrderedStep| step.place,
            work: &|step: OrderedStep| self.write(step.id),
        };
        // The destination is written in any order.
        let source = self.run.site.disks.source.clone();
        let disks = RotationalDisks { source, destination: None };
        sweep.run(&self.run.site.context.pool, &disks);
    }

    /// Reads the file of a step into the cache.
    fn prefetch(&self, id: StepId) -> Prefetched {
        let (run, system) = (self.run, self.run.system());
        let file = run.site.step(id).filter(|(step, _)| holds_content(step) && !run.must_end());
        let Some((step, name)) = file else {
            return Prefetched { ahead: Prefetch::Read, bytes: 0 };
        };
        let place = self.places.take(id.folder());
        let known = place.as_ref().and_then(|place| Some((place, place.source.as_ref()?)));
        let file = match known {
            Some((place, source)) => system.open_file(source.as_fd(), place.source_name(name)),
            None => run.site.open_source(id),
        };
        let prefetched =
            file.and_then(|file| disk_order::prefetch(system, file.as_fd(), step.bytes()));
        if let Some(place) = place {
            self.places.give_back(id.folder(), place);
        }
        let ahead = prefetched.unwrap_or_else(|error| {
            // Not read again now. Other errors show when the step's turn comes.
            run.postpones(id, &error.into());
            Prefetch::Read
        });
        Prefetched { ahead, bytes: step.bytes() }
    }

    fn write(&self, id: StepId) {
        let (run, at) = (self.run, id.folder());
        if run.must_end() || run.postponed.has(id) || run.ledger.was_tried(id) {
            return;
        }
        if run.site.drive_of(at).is_closed() {
            return run.ledger.set(id, StepOutcome::Failed);
        }
        let place = self.places.take(at).map_or_else(|| run.enter_to_change(at), Ok);
        let Ok(place) = place else {
            // All steps of the folder fail with it, which is reported once.
            let slots = 0..run.site.part.folders[at].steps.len();
            return run.work_on(at, slots, self.due, &|at| at.write());
        };
        run.try_step(&place, id, &|at| at.write());
        run.has_changed(at, &place);
        self.places.give_back(at, place);
    }
}

fn holds_content(step: &Step) -> bool {
    step.kind() == Kind::File && step.bytes() > 0
}

/// Finds the positions of the files in a folder. Files that cannot be opened come first, and fail there.
fn place_all(
    run: &PartRun<'_>,
    disk: &RotationalDisk,
    at: usize,
    due: &dyn Fn(&Step) -> bool,
    order: &mut Vec<OrderedStep>,
) {
    let (site, system) = (run.site, run.system());
    let steps = site.part.steps_of(at, Side::Destination).filter(|(_, step)| due(step));
    let mut steps: Vec<(StepId, &Step)> = steps.collect();
    let inode = |step: &Step| step.source.map_or(0, |source| source.inode);
    steps.sort_by_key(|(_, step)| inode(step));
    let (path, names) = (site.part.source_path(at), site.source_names(at));
    let source = system.open_folder(site.pair.source.as_fd(), path.as_bytes());
    for (id, step) in steps {
        let name = site.part.folders[at].name(step);
        let name = names.get(name).unwrap_or(name);
        let open = || system.open_file(source.as_ref().ok()?.as_fd(), name).ok();
        let file = holds_content(step).then(open).flatten();
        let place = file.map_or(0, |file| disk.position_of(system, file.as_fd(), inode(step)));
        order.push(OrderedStep { place, id });
    }
}
