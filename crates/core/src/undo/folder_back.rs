//! What goes back from one folder of a move.

use std::collections::HashSet;
use std::io;
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_drives::before::look_here;
use utter_echo_drives::kinds;
use utter_echo_drives::map::DriveMap;
use utter_echo_files::listing::Listing;
use utter_echo_files::{exit_folder, hidden_names};
use utter_echo_model::identity::DriveId;
use utter_echo_model::note::WhyRootStays;
use utter_echo_model::path::{NameRange, TreePath};
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::{AttributesBefore, State};
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::{Entry, Flags, Kind, Stat, is_forbidden};

use crate::compare::FolderHead;
use crate::journal::PastPart;
use crate::plan;
use crate::policy::{self, Part, PlannedFolder, SourceNames, Step};
use crate::sides::{self, Pair};
use crate::undo::original_source::OriginalSource;
use crate::undo::past_run::PastRun;

/// The places of one part. Its source is the destination of the move.
pub(crate) struct PlacesBack<'a> {
    pub(crate) pair: &'a Pair,
    /// The drives below the source of the move.
    pub(crate) map: &'a DriveMap,
    /// Finds the drive that is mounted at a path there.
    pub(crate) find_drive: &'a (dyn Fn(&TreePath) -> DriveId + Sync),
    /// The root of the move's destination, if it may be removed.
    pub(crate) root: Result<State, Option<WhyRootStays>>,
}

/// Moving one part back.
pub(super) struct MovingBack<'a> {
    pub(super) run: &'a PastRun<'a>,
    pub(super) past: &'a PastPart,
    /// Of the move.
    pub(super) part: &'a Part,
    pub(super) places: &'a PlacesBack<'a>,
    pub(super) home: OriginalSource<'a>,
}

/// A folder that a move dealt with.
#[derive(Debug, Default)]
pub(super) struct MovedFolder {
    /// Its path in the source of the move.
    pub(super) here: TreePath,
    /// The same in its destination.
    pub(super) there: TreePath,
    /// Its index in the plan of the move.
    pub(super) planned: Option<usize>,
    /// The step that made it in the destination, or renamed it with everything in it.
    pub(super) made: Option<Step>,
    /// Its state, if the move removed it from the source.
    pub(super) was_taken: Option<State>,
}

impl MovedFolder {
    pub(super) fn is_whole(&self) -> bool {
        self.made.is_some_and(|step| step.is_taken_over())
    }
}

/// What is at the paths of a folder now.
#[derive(Clone, Copy, Default)]
pub(super) struct NowOnSides {
    pub(super) here: Option<Stat>,
    pub(super) there: Option<Stat>,
    /// All entries of the source's folder count for one quota project, and it takes none of another by a rename.
    pub(super) has_account: bool,
}

/// What looking at a folder turned up besides its steps.
#[derive(Default)]
pub(super) struct FoundBeside {
    pub(super) problems: Vec<Problem>,
    /// Folders in which a killed move left entries on their way.
    pub(super) exits: Vec<(Side, TreePath)>,
}

/// The same now, with the steps that move its entries back.
#[derive(Default)]
pub(super) struct FolderBack {
    pub(super) moved: MovedFolder,
    pub(super) now: NowOnSides,
    /// The step that restores its attributes in the source.
    pub(super) adjusts: Option<Step>,
    pub(super) head: FolderHead,
    pub(super) comes: Vec<Step>,
    pub(super) leaves: Vec<Step>,
    pub(super) names_there: SourceNames,
    /// The names in the destination's folder, if it may leave.
    holds: Vec<Vec<u8>>,
    /// Something stays in it.
    stays: bool,
    pub(super) found: FoundBeside,
}

impl FolderBack {
    /// Adds steps of an entry with these names on both sides.
    pub(super) fn add(
        &mut self,
        (here, there): (&[u8], &[u8]),
        comes: Option<Step>,
        leaves: Option<Step>,
    ) {
        let name = self.head.names.add(here);
        if here != there {
            self.names_there.add(here, there);
        }
        let named = |mut step: Step| {
            step.name = name;
            step
        };
        self.comes.extend(comes.map(named));
        self.leaves.extend(leaves.map(named));
    }

    /// Nothing is renamed back from this folder: it is on another mount.
    pub(super) fn copy_all(&mut self) {
        for step in self.comes.iter_mut().filter(|step| step.is_taken_over()) {
            if let (Some(now), false) = (step.source, step.takes_a_folder_over()) {
                self.leaves.push(policy::leave(now, None, step.name));
                *step = policy::copy_back(now, step.name);
            }
        }
    }

    /// True if nothing of it stays in the destination.
    pub(super) fn is_emptied(&self) -> bool {
        let renamed = self.comes.iter().filter(|step| step.is_taken_over());
        let names = renamed.chain(&self.leaves).map(|step| {
            let here = self.head.names.get(step.name);
            self.names_there.get(here).unwrap_or(here)
        });
        let gone: HashSet<&[u8]> = names.collect();
        !self.stays && self.holds.iter().all(|name| gone.contains(&**name))
    }

    pub(super) fn has_steps(&self) -> bool {
        !self.comes.is_empty() || !self.leaves.is_empty()
    }

    /// Nothing happens in it.
    pub(super) fn hold_back(&mut self) {
        self.comes.clear();
        self.leaves.clear();
        self.stays = true;
    }

    pub(super) fn into_planned(mut self, parent: u32, source_stays: bool) -> PlannedFolder {
        let names = &self.head.names;
        self.comes.sort_unstable_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
        self.leaves.sort_unstable_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
        PlannedFolder {
            head: self.head,
            parent,
            steps: self.comes.into(),
            source_removals: self.leaves.into(),
            source_stays,
            source_names: self.names_there,
            ..PlannedFolder::default()
        }
    }
}

/// What is where the move put an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum PlacedEntry {
    /// That entry.
    Same,
    /// Another one, or the same after somebody changed it.
    Other,
    /// Nothing.
    Gone,
}

/// One folder while its entries are looked at.
struct FolderSearch<'a> {
    back: &'a MovingBack<'a>,
    planned: &'a PlannedFolder,
    here: Option<OwnedFd>,
    there: Option<OwnedFd>,
    folder: FolderBack,
}

impl MovingBack<'_> {
    /// Looks at a folder on both sides, and at the entries that the move put into it or took from it.
    pub(super) fn look(&self, moved: &MovedFolder) -> FolderBack {
        let MovedFolder { planned, made, was_taken, .. } = *moved;
        let (own_here, own_there) = (moved.here.clone(), moved.there.clone());
        let moved = MovedFolder { here: own_here, there: own_there, planned, made, was_taken };
        let (name, name_there) = (moved.here.split_last().1, moved.there.split_last().1);
        let source_name = (name != name_there).then(|| name_there.into());
        let head = FolderHead { name: name.into(), source_name, ..FolderHead::default() };
        let mut folder = FolderBack { moved, head, ..FolderBack::default() };
        let pair = self.places.pair;
        let anchor = Some(&pair.destination.anchor).filter(|_| pair.destination.exists());
        let here = anchor.map_or(Ok((None, None)), |anchor| self.open(anchor, &folder.moved.here));
        let both = here.and_then(|here| Ok((here, self.open(&pair.source, &folder.moved.there)?)));
        let ((here, now_here), (there, now_there)) = match both {
            Ok(both) => both,
            // What cannot be read allows no conclusion.
            Err(error) => {
                let path = folder.moved.there.clone();
                folder.found.problems.push(problem(path, Operation::LookAtSource, error.into()));
                folder.stays = true;
                return folder;
            }
        };
        (folder.now.here, folder.now.there) = (now_here, now_there);
        if let Some(was) = self.past.moved.here.get(folder.moved.here.as_bytes()) {
            folder.adjusts = here.as_ref().and_then(|here| self.adjusts(was, here));
            folder.head.before = Some(was.state);
        } else {
            folder.head.before = now_here.as_ref().map(State::from);
        }
        let flags = here.as_ref().and_then(|here| self.run.system.flags(here.as_fd()).ok());
        let is_root = folder.moved.here.as_bytes().is_empty();
        let has_account = flags.is_some_and(|flags| !flags.and(Flags::ONE_ACCOUNT).is_empty());
        folder.now.has_account = has_account && !is_root;
        self.find_exits((&here, &there), &mut folder);
        let planned = planned.map(|at| &self.part.folders[at]);
        self.list(there.as_ref(), planned, &mut folder);
        if folder.moved.is_whole() && now_here.is_some() {
            self.rename_all((&here, &there), &mut folder);
        }
        let Some(planned) = planned else { return folder };
        let mut search = FolderSearch { back: self, planned, here, there, folder };
        search.look_at_all();
        search.folder
    }

    /// An open folder, and what has its path.
    fn open(&self, root: &OwnedFd, path: &TreePath) -> io::Result<(Option<OwnedFd>, Option<Stat>)> {
        let system = self.run.system;
        if let Some(folder) = plan::folder(system, root, path)? {
            let now = system.stat(Entry::Open(folder.as_fd()))?;
            return Ok((Some(folder), Some(now)));
        }
        let (above, name) = path.split_last();
        let above = plan::folder(system, root, &above.into())?;
        Ok((None, plan::state(system, above.as_ref(), name)?))
    }

    /// The step that restores the attributes of a folder of the source. Only its time changes by what leaves it, unless
    /// it was removed and is made anew.
    fn adjusts(&self, was: &AttributesBefore, here: &OwnedFd) -> Option<Step> {
        let system = self.run.system;
        let now = look_here(system, &system.caller().ok()?, here.as_fd()).ok()?;
        let of = |before: &AttributesBefore| {
            let state = before.state;
            (state.uid, state.gid, state.mode(), before.flags, before.xattrs.clone())
        };
        let is_new = was.state.inode != now.state.inode || self.run.is_begun();
        if is_new && of(&now) != of(was) {
            Some(policy::adjusted(was.state, now.state, NameRange::default()))
        } else {
            let differs = was.state.modified() != now.state.modified();
            differs.then(|| policy::timed(was.state, now.state, NameRange::default()))
        }
    }

    /// Folders in which a killed move, or its undo, left entries on their way.
    fn find_exits(
        &self,
        (here, there): (&Option<OwnedFd>, &Option<OwnedFd>),
        folder: &mut FolderBack,
    ) {
        let name = exit_folder::name();
        let MovedFolder { here: own_here, there: own_there, .. } = &folder.moved;
        let sides =
            [(Side::Destination, here, own_here.clone()), (Side::Source, there, own_there.clone())];
        for (side, open, path) in sides {
            // What cannot be seen is met again when the run removes something.
            if let Ok(Some(_)) = plan::state(self.run.system, open.as_ref(), &name) {
                folder.found.exits.push((side, path));
            }
        }
    }

    /// Lists a folder that leaves the destination, unless something stays in it. Leftovers of killed runs leave with
    /// it.
    fn list(
        &self,
        there: Option<&OwnedFd>,
        planned: Option<&PlannedFolder>,
        folder: &mut FolderBack,
    ) {
        let Some(there) = there.filter(|_| folder.moved.made.is_some()) else { return };
        let knows = |name: &[u8]| {
            let step = planned.and_then(|planned| Some(&planned.steps[planned.find(name)?]));
            step.is_some_and(|step| step.verb != Verb::Remove)
        };
        match Listing::read(self.run.system, there.as_fd()) {
            Ok(listing) => {
                let names = listing.names();
                let names = names.filter(|name| !hidden_names::is_hidden_name(name) || knows(name));
                folder.holds = names.map(<[u8]>::to_vec).collect();
            }
            // Its removal shows what is in it.
            Err(_) => folder.stays = true,
        }
    }

    /// Renames the entries of a folder back that was renamed as a whole, if there is another in its place by now.
    fn rename_all(
        &self,
        (here, there): (&Option<OwnedFd>, &Option<OwnedFd>),
        folder: &mut FolderBack,
    ) {
        for name in folder.holds.clone() {
            let now = |side: &Option<OwnedFd>| plan::state(self.run.system, side.as_ref(), &name);
            let (operation, cause) = match now(there).and_then(|there| Ok((there, now(here)?))) {
                Ok((Some(there), None)) => {
                    let step = policy::rename_back(State::from(&there), NameRange::default());
                    folder.add((&name, &name), Some(step), None);
                    continue;
                }
                Ok((None, _)) => continue,
                Ok(_) => (Operation::PutBack, Cause::PlaceTaken),
                Err(error) => (Operation::LookAtSource, error.into()),
            };
            folder.found.problems.push(problem(folder.moved.there.join(&name), operation, cause));
        }
    }

    /// What is where the move put an entry.
    pub(super) fn placed(&self, step: &Step, path: &TreePath, now: Option<&Stat>) -> PlacedEntry {
        let Some(now) = now else { return PlacedEntry::Gone };
        let is_same = match self.past.left_at(path.as_bytes()) {
            Some(left) => {
                left.state.still(now) && !left.has_other_attributes(now, self.run.was_begun())
            }
            // The run was killed before it could record it. A rename keeps the inode.
            None => step.source.is_none_or(|was| {
                was.kind == now.kind && (!step.is_taken_over() || was.still(now))
            }),
        };
        if is_same { PlacedEntry::Same } else { PlacedEntry::Other }
    }
}

impl FolderSearch<'_> {
    fn look_at_all(&mut self) {
        let planned = self.planned;
        let is_file = |step: &&Step| step.kind() != Kind::Folder;
        let was_put = |step: &&Step| match step.verb {
            Verb::Add | Verb::Replace | Verb::Rename => true,
            // What was in the destination already was only removed from the source.
            Verb::Adjust | Verb::Remove | Verb::RemoveSource => false,
        };
        let was_kept = |step: &&Step| {
            let own = planned.find(planned.name(step)).map(|slot| planned.steps[slot].verb);
            !matches!(own, Some(Verb::Add | Verb::Replace))
        };
        let put = planned.steps.iter().filter(is_file).filter(was_put);
        let kept = planned.source_removals.iter().filter(is_file).filter(was_kept);
        for (step, stays) in put.map(|step| (step, false)).chain(kept.map(|step| (step, true))) {
            let path = self.folder.moved.there.join(planned.name(step));
            match self.entry(step, &path, stays) {
                Ok(None) => {}
                Ok(Some((operation, cause))) => {
                    self.folder.found.problems.push(problem(path, operation, cause));
                }
                Err(error) => {
                    let operation = Operation::LookAtSource;
                    self.folder.found.problems.push(problem(path, operation, error.into()));
                    self.folder.stays = true;
                }
            }
        }
        let leaves =
            !self.folder.leaves.is_empty() || self.folder.comes.iter().any(Step::is_taken_over);
        if let Some(cause) = leaves.then(|| self.lock()).flatten() {
            let path = self.folder.moved.there.clone();
            self.folder.found.problems.push(problem(path, Operation::RemoveSource, cause));
            self.folder.hold_back();
        }
    }

    /// Why nothing can be removed from the destination's folder.
    fn lock(&self) -> Option<Cause> {
        if self.folder.now.there.is_some_and(|now| !now.flags.and(Flags::LOCKS).is_empty()) {
            return Some(Cause::SourceFlagged);
        }
        let may = self.back.run.system.may_change(self.there.as_ref()?.as_fd());
        may.err().filter(is_forbidden).map(Cause::SourceLocked)
    }

    /// Adds the steps of an entry other than a folder, which the move put there, or found there if it `stays`. Returns
    /// why it cannot go back.
    fn entry(
        &mut self,
        step: &Step,
        path: &TreePath,
        stays: bool,
    ) -> io::Result<Option<(Operation, Cause)>> {
        let MovingBack { run, places, .. } = self.back;
        let own_there = self.planned.name(step);
        let single = places.pair.single.as_ref().map(|single| &*single.destination);
        let own_here = single.unwrap_or_else(|| self.planned.name_in_source(step));
        let here = plan::state(run.system, self.here.as_ref(), own_here)?;
        let there = plan::state(run.system, self.there.as_ref(), own_there)?;
        let is_here = here.is_some();
        let never_left = step.source.zip(here).is_some_and(|(was, now)| was.still(&now));
        let there = match (self.back.placed(step, path, there.as_ref()), there) {
            // It is removed where it was created.
            _ if never_left => return Ok(None),
            // What it displaced may be back already.
            (PlacedEntry::Other, _) if is_here && (stays || step.verb == Verb::Replace) => {
                return Ok(None);
            }
            (PlacedEntry::Same, Some(_)) if is_here && stays => return Ok(None),
            (PlacedEntry::Gone, _) if is_here => return Ok(None),
            (PlacedEntry::Same, Some(there)) => there,
            (PlacedEntry::Other, _) => return Ok(Some((Operation::PutBack, Cause::ChangedSince))),
            _ => return Ok(Some((Operation::PutBack, Cause::GoneSince))),
        };
        let numbers = self.there.as_ref().map(|there| kinds::numbers(run.system, there.as_fd()));
        let now = numbers.map_or(State::from(&there), |numbers| State::seen(&there, numbers));
        let name = NameRange::default();
        let caller = &places.map.root().capabilities.caller;
        let only_of = self.folder.now.there.and_then(|folder| caller.bound_to(&folder));
        if let Some(cause) = sides::why_kept(&now, only_of).filter(|_| !stays) {
            return Ok(Some((Operation::RemoveSource, cause)));
        }
        let (comes, leaves) = match here {
            None if stays => (Some(policy::copy_back(now, name)), None),
            None => (Some(policy::rename_back(now, name)), None),
            // An undo that was killed before it could remove the entry here.
            Some(here) if self.is_alike(&now, &here) => {
                (None, Some(policy::leave(now, Some(State::from(&here)), name)))
            }
            Some(_) => return Ok(Some((Operation::PutBack, Cause::PlaceTaken))),
        };
        self.folder.add((own_here, own_there), comes, leaves);
        Ok(None)
    }

    /// True for what looks like the entry that came back.
    fn is_alike(&self, wanted: &State, here: &Stat) -> bool {
        let drive = self.back.places.map.root();
        let same_time = || drive.capabilities.agree(wanted.modified(), here.modified);
        (wanted.kind, wanted.size) == (here.kind, here.size) && same_time()
    }
}

pub(super) fn problem(path: TreePath, operation: Operation, cause: Cause) -> Problem {
    Problem { path, operation, cause }
}
