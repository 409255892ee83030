//! The plan that moves entries back: from the journal of the move, and from what is on both sides now.

use std::collections::BTreeMap;
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_drives::features::Feature;
use utter_echo_files::hidden_names;
use utter_echo_model::attribute::Attribute;
use utter_echo_model::identity::DriveId;
use utter_echo_model::note::Note;
use utter_echo_model::path::{NameRange, TreePath};
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::{FolderIdentity, State};
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::{Kind, Stat};
use utter_echo_workers::pool::WorkerPool;

use crate::journal::PastPart;
use crate::policy::{self, Linker, Part, PlannedFolder, Step};
use crate::undo::folder_back::{
    FolderBack, MovedFolder, MovingBack, PlacedEntry, PlacesBack, problem,
};
use crate::undo::past_run::PastRun;

/// The plan of one part.
#[derive(Default)]
pub(crate) struct PartBack {
    pub(crate) part: Part,
    pub(crate) problems: Vec<Problem>,
    /// Why the root of the move's destination stays, although everything in it leaves.
    pub(crate) note: Option<Note>,
    /// Folders in which a killed move left entries on their way.
    pub(crate) exits: Vec<(Side, TreePath)>,
}

impl PastRun<'_> {
    /// The steps that move one part back, as far as it is not back yet.
    pub(crate) fn moved_back(
        &self,
        (past, part): (&PastPart, &Part),
        places: &PlacesBack<'_>,
        pool: &WorkerPool,
    ) -> PartBack {
        let home = past.home(self.system);
        MovingBack { run: self, past, part, places, home }.go(pool)
    }
}

/// Where a folder is, or will be, on both sides: the drive, and the mount by which it is reached. Entries are renamed
/// only within both, since a drive can be mounted twice, and a mount can have several subvolumes.
#[derive(Clone, Default)]
struct FolderMounts {
    drive: DriveId,
    here: Mount,
    there: Mount,
}

/// The drive's number and the mount; of the mount `None` if that cannot be found out.
type Mount = (u64, Option<Vec<u8>>);

impl MovingBack<'_> {
    fn go(self, pool: &WorkerPool) -> PartBack {
        let mut back = PartBack::default();
        let whole = self.part.root.filter(Step::is_taken_over);
        if let Some(step) = whole.filter(|_| !self.places.pair.destination.exists()) {
            let now = State::from(&self.places.pair.source_stat);
            back.part.root = Some(policy::rename_back(now, step.name));
            return back;
        }
        let moved = self.folders();
        let mut folders = pool.map(moved.len(), |at| self.look(&moved[at]));
        for folder in &mut folders {
            back.problems.append(&mut folder.found.problems);
            back.exits.append(&mut folder.found.exits);
        }
        let parents = parents(&folders);
        self.find_mounts(&mut folders, &parents);
        let mut leaving = vec![false; folders.len()];
        for at in (1..folders.len()).rev() {
            let (above, own) = folders.split_at_mut(at);
            let (above, own) = (&mut above[parents[at]], &mut own[0]);
            leaving[at] = self.settle(above, own, &mut back);
        }
        if let Some(root) = folders.first_mut().filter(|_| self.places.pair.single.is_none()) {
            leaving[0] = self.settle_root(root, &mut back);
        }
        back.part.folders = planned(folders, &parents, &leaving);
        let groups = self.home.groups((self.part, self.past, self.places.pair));
        let mut linker = Linker::new(&mut back.part);
        for group in &groups {
            linker.restore(group, None);
        }
        back.part.memory = Some(self.past.moved.here.clone());
        back.part.no_leftovers = self.hidden_names().collect();
        let prefix = &self.places.pair.prefix;
        let problems = back.problems.drain(..);
        let placed = |it: Problem| Problem { path: prefix.join(it.path.as_bytes()), ..it };
        back.problems = problems.map(placed).collect();
        back.problems.sort_by(|a, b| a.path.cmp(&b.path));
        back
    }

    /// The folders that the move dealt with, in the order of their paths in the source.
    fn folders(&self) -> Vec<MovedFolder> {
        let mut folders: BTreeMap<TreePath, MovedFolder> = BTreeMap::new();
        let mut add = |here: &TreePath, there: TreePath, tell: &dyn Fn(&mut MovedFolder)| {
            let folder = folders.entry(here.clone()).or_default();
            (folder.here, folder.there) = (here.clone(), there);
            tell(folder);
        };
        for (at, planned) in self.part.folders.iter().enumerate() {
            let (here, there) = (self.part.source_path(at), self.part.folder_path(at));
            add(&here, there.clone(), &|folder| folder.planned = Some(at));
            let steps = planned.steps.iter().chain(&planned.source_removals);
            for step in steps.filter(|step| step.kind() == Kind::Folder) {
                let here = here.join(planned.name_in_source(step));
                add(&here, there.join(planned.name(step)), &|own| match step.verb {
                    Verb::Add | Verb::Replace | Verb::Rename => own.made = Some(*step),
                    Verb::RemoveSource => own.was_taken = step.source.map(without_inode),
                    Verb::Adjust | Verb::Remove => {}
                });
            }
        }
        add(&TreePath::default(), TreePath::default(), &|root| {
            let removal = self.part.root_source_removal;
            root.was_taken = removal.and_then(|step| step.source).map(without_inode);
            root.made = self.part.root.filter(|_| self.part.makes_root());
        });
        folders.into_values().collect()
    }

    /// What the move took although it looked like a leftover.
    fn hidden_names(&self) -> impl Iterator<Item = TreePath> {
        self.part.folders.iter().enumerate().flat_map(move |(at, planned)| {
            let steps = planned.steps.iter().chain(&planned.source_removals);
            let names = steps.map(|step| planned.name_in_source(step));
            let hidden = names.filter(|name| hidden_names::is_hidden_name(name));
            hidden.map(move |name| self.part.source_path(at).join(name))
        })
    }

    /// Finds the drive of each folder in the source. Where source and destination are not on one mount, or the drive
    /// does not keep what it renames, entries are copied.
    fn find_mounts(&self, folders: &mut [FolderBack], parents: &[usize]) {
        let system = self.run.system;
        let PlacesBack { pair, map, find_drive, .. } = self.places;
        let mount = |root: &OwnedFd, path: &TreePath, drive: u64| {
            let folder = system.open_folder(root.as_fd(), path.as_bytes());
            (drive, folder.and_then(|folder| system.mount_session(folder.as_fd())).ok())
        };
        let crosses = |now: &Stat, above: &Mount| now.mounted || now.identity.drive != above.0;
        let mut mounts: Vec<FolderMounts> = Vec::new();
        for (at, folder) in folders.iter_mut().enumerate() {
            let is_root = at == 0;
            let mut own = mounts.get(parents[at]).cloned().unwrap_or_default();
            let (here, there) = (&folder.moved.here, &folder.moved.there);
            let now = folder.now.here.unwrap_or(pair.destination.anchor_stat);
            if is_root || folder.now.here.is_some() && crosses(&now, &own.here) {
                own.drive = if is_root { DriveId::default() } else { find_drive(here) };
                own.here = mount(&pair.destination.anchor, here, now.identity.drive);
            }
            let now = folder.now.there.unwrap_or(pair.source_stat);
            if is_root || folder.now.there.is_some() && crosses(&now, &own.there) {
                own.there = mount(&pair.source, there, now.identity.drive);
            }
            let features = &map.get(own.drive).capabilities.drive;
            let keeps_all = [Feature::RenamedFolders, Feature::RenamedTimes];
            let keeps_all = keeps_all.iter().all(|feature| features.holds(*feature));
            let is_apart = own.here.1.is_none() || own.here != own.there;
            if !keeps_all || is_apart || folder.now.has_account {
                folder.copy_all();
            }
            folder.head.known = FolderIdentity {
                source: folder.now.there.map(|now| now.identity.inode),
                destination: folder.now.here.map(|now| now.identity.inode),
                drive: own.drive,
            };
            mounts.push(own);
        }
    }

    /// Adds the steps of a folder itself to the folder above it. Returns true if it leaves the destination.
    fn settle(&self, above: &mut FolderBack, own: &mut FolderBack, back: &mut PartBack) -> bool {
        let moved = &own.moved;
        let ((_, here), (_, there)) = (moved.here.split_last(), moved.there.split_last());
        let names = (here, there);
        let is_folder = |now: &Option<Stat>| now.filter(|now| now.kind == Kind::Folder);
        let (is_here, there_now) = (is_folder(&own.now.here), is_folder(&own.now.there));
        let placed = moved.made.map(|step| self.placed(&step, &moved.there, there_now.as_ref()));
        let comes_back = own.has_steps() || moved.was_taken.is_some() || moved.is_whole();
        let mut left_alone = |cause| {
            back.problems.push(problem(moved.there.clone(), Operation::PutBack, cause));
        };
        if is_here.is_none() && own.now.here.is_some() {
            if comes_back && there_now.is_some() {
                left_alone(Cause::PlaceTaken);
                own.hold_back();
            }
            return false;
        }
        let is_same = placed == Some(PlacedEntry::Same);
        if is_here.is_none() && comes_back {
            match (there_now, placed) {
                (Some(now), Some(PlacedEntry::Same)) if moved.is_whole() => {
                    let now = State::from(&now);
                    above.add(names, Some(policy::rename_back(now, NameRange::default())), None);
                    return true;
                }
                (Some(_), Some(PlacedEntry::Other)) => left_alone(Cause::ChangedSince),
                (None, _) if own.now.there.is_some() => left_alone(Cause::ChangedSince),
                (None, _) => left_alone(Cause::GoneSince),
                _ => {}
            }
        }
        let is_due =
            own.has_steps() || moved.was_taken.is_some() && placed != Some(PlacedEntry::Other);
        let comes = match (is_here, there_now) {
            (Some(_), _) => own.adjusts,
            (None, Some(now)) if is_due => {
                let was = own.head.before.or(moved.was_taken).unwrap_or(State::from(&now));
                Some(policy::copy_back(was, NameRange::default()))
            }
            (None, _) => None,
        };
        let is_back = is_here.is_some() || comes.is_some();
        let leaves = there_now.filter(|_| is_same && is_back && own.is_emptied());
        let leaves = leaves.map(|now| {
            policy::leave(
                State::from(&now),
                is_here.as_ref().map(State::from),
                NameRange::default(),
            )
        });
        let goes = leaves.is_some();
        if comes.is_some() || goes {
            above.add(names, comes, leaves);
        }
        goes
    }

    /// The steps of both roots. Returns true if that of the destination leaves.
    fn settle_root(&self, root: &mut FolderBack, back: &mut PartBack) -> bool {
        let (pair, name) = (self.places.pair, NameRange::default());
        let now = State::from(&pair.source_stat);
        let is_here = pair.destination.exists();
        let comes_back = root.has_steps() || root.moved.was_taken.is_some();
        back.part.root = if is_here {
            let keeps = self.places.map.root().capabilities.keeps_top_times(true);
            root.adjusts
                .filter(|step| keeps || !step.attributes.without(Attribute::Times).is_empty())
        } else {
            let was = root.head.before.or(root.moved.was_taken).unwrap_or(now);
            comes_back.then(|| policy::copy_back(was, name))
        };
        let is_back = is_here || back.part.root.is_some();
        if root.moved.made.is_none() || !is_back || !root.is_emptied() {
            return false;
        }
        match &self.places.root {
            Ok(state) => {
                let here = is_here.then_some(*state);
                back.part.root_source_removal = Some(policy::leave(*state, here, name));
                true
            }
            Err(why) => {
                back.note = why.map(|why| Note::RootStays(pair.source_shown.clone(), why));
                false
            }
        }
    }
}

/// A folder that is made anew gets another inode.
fn without_inode(mut was: State) -> State {
    was.inode = 0;
    was
}

/// The index of the folder above each folder, which comes before it. That of the root is its own.
fn parents(folders: &[FolderBack]) -> Vec<usize> {
    let above = |folder: &FolderBack| {
        let above = TreePath::from(folder.moved.here.split_last().0);
        folders.binary_search_by(|other| other.moved.here.cmp(&above)).unwrap_or(0)
    };
    folders.iter().map(above).collect()
}

/// The folders with steps, and those above them.
fn planned(folders: Vec<FolderBack>, parents: &[usize], leaving: &[bool]) -> Vec<PlannedFolder> {
    let mut needed: Vec<bool> = folders.iter().map(FolderBack::has_steps).collect();
    for at in (1..folders.len()).rev() {
        needed[parents[at]] |= needed[at];
    }
    if !needed.first().is_some_and(|root| *root) {
        return Vec::new();
    }
    let mut indexes = Vec::new();
    let mut planned = Vec::new();
    for (at, folder) in folders.into_iter().enumerate() {
        indexes.push(u32::try_from(planned.len()).unwrap_or(u32::MAX));
        if needed[at] {
            planned.push(folder.into_planned(indexes[parents[at]], !leaving[at]));
        }
    }
    planned
}
