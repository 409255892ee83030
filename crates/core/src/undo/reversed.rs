//! The plan that undoes a run: it removes what the steps created, and puts back what they displaced.

use std::collections::HashMap;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, OwnedFd};
use std::path::Path;

use utter_echo_drives::before::look_before;
use utter_echo_drives::map::DriveMap;
use utter_echo_files::{hidden_names, leftovers};
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::{NameArena, NameRange, TreePath};
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::{AttributesBefore, FolderIdentity, State};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Entry, Kind, Stat, System};
use utter_echo_workers::pool::WorkerPool;

use crate::compare::FolderHead;
use crate::journal::PastPart;
use crate::plan;
use crate::policy::{
    self, BackProof, NameElsewhere, NameId, Part, PlannedFolder, Reversal, Step, StepTraces,
};
use crate::sides::{self, CallError, Pair};
use crate::undo::original_source::OriginalSource;
use crate::undo::past_run::PastRun;
use crate::undo::same_content::same_content;

impl PastRun<'_> {
    /// Entries of one part that differ from their state before the run, according to the journal.
    pub(crate) fn unlike(&self, at: usize, pair: &Pair, map: &DriveMap) -> Vec<Problem> {
        let (system, memory) = (self.system, &self.parts[at]);
        if !pair.destination.exists() {
            return Vec::new();
        }
        let back = Reversing {
            system,
            pair,
            map,
            memory,
            part: &self.plan.parts[at],
            was_begun: self.was_begun(),
            is_move: self.is_move(),
        };
        let mut unlike: Vec<Problem> = back.unlike().collect();
        unlike.sort_by(|a, b| a.path.cmp(&b.path));
        unlike
    }

    /// The destination, as the source of moving back.
    pub(crate) fn pairs(&self) -> Result<Vec<Pair>, CallError> {
        // If its siblings exist, an entry that the run was to create was never created, or is gone again.
        let may_be_missing = self.is_move() || !self.is_gone();
        let parts = self.parts.iter().zip(&self.plan.parts);
        parts
            .map(|(past, part)| {
                let may_be_missing = may_be_missing || !self.has_reached(past);
                let is_missed = !(may_be_missing && part.makes_root());
                self.pair(past, part.has_steps() && is_missed)
            })
            .collect()
    }

    /// `is_needed`: something is to be done in the destination.
    fn pair(&self, part: &PastPart, is_needed: bool) -> Result<Pair, CallError> {
        let system = self.system;
        let shown = || part.root.to_string_lossy().into_owned();
        let destination = sides::find_place(system, &part.root)?;
        if !destination.exists() && is_needed {
            return Err(CallError::Gone(shown()));
        }
        let closed = |cause| CallError::Closed { path: self.path.to_string_lossy().into(), cause };
        let source = system.open_folder(self.folder.as_fd(), &part.prefix).map_err(closed)?;
        let source_stat = system.stat(Entry::Open(source.as_fd())).map_err(closed)?;
        Ok(Pair {
            source,
            source_stat,
            destination,
            single: None,
            prefix: (&*part.prefix).into(),
            source_shown: self.path.to_string_lossy().into_owned(),
            destination_shown: shown(),
            destination_path: part.root.clone(),
        })
    }

    /// The steps that undo one part of the run, as far as it is not undone yet.
    pub(crate) fn reversed(
        &self,
        at: usize,
        pair: &Pair,
        map: &DriveMap,
        pool: &WorkerPool,
    ) -> (Part, Vec<Problem>) {
        let (system, memory) = (self.system, &self.parts[at]);
        let (part, was_begun, is_move) = (&self.plan.parts[at], self.was_begun(), self.is_move());
        if !pair.destination.exists() {
            return (Part::default(), Vec::new());
        }
        Reversing { system, pair, map, memory, part, was_begun, is_move }.go(pool)
    }

    /// Mount points below the destination of a part that the run crossed.
    pub(crate) fn drives(&self, at: usize) -> &[TreePath] {
        self.plan.drives.get(at).map_or(&[], Vec::as_slice)
    }

    /// Empty folders that the run created above a destination.
    pub(crate) fn remove_new_roots(&self) -> io::Result<()> {
        let system = self.system;
        for past in &self.parts {
            let is_gone = past.root.ancestors().take(past.made).try_fold(true, |gone, path| {
                Ok::<_, io::Error>(gone && remove_made(system, path)?)
            })?;
            let above = past.root.ancestors().nth(past.made);
            if let (true, Some(time), Some(above)) = (is_gone, past.above, above) {
                let above = system.open_folder(system.open_root(above)?.as_fd(), b"")?;
                let accessed = system.stat(Entry::Open(above.as_fd()))?.accessed;
                system.set_times(Entry::Open(above.as_fd()), time, Some(accessed))?;
            }
        }
        Ok(())
    }
}

/// Removes an empty folder. False if it is not empty any more.
fn remove_made(system: &dyn System, path: &Path) -> io::Result<bool> {
    let (Some(name), Some(above)) = (path.file_name(), path.parent()) else { return Ok(false) };
    let name = name.as_encoded_bytes();
    let removed = system.open_root(above).and_then(|above| {
        // Leftovers of killed runs do not prevent it.
        match system.open_folder(above.as_fd(), name) {
            Ok(folder) if leftovers::holds_nothing_else(system, folder.as_fd())? => {
                leftovers::clear_all_leftovers(system, folder.as_fd())?;
            }
            _ => {}
        }
        system.remove_folder(above.as_fd(), name)
    });
    match removed {
        Err(e) if e.kind() == ErrorKind::DirectoryNotEmpty => Ok(false),
        Err(e) if e.kind() == ErrorKind::NotFound => Ok(true),
        other => other.map(|()| true),
    }
}

/// Adds steps to the lists of their folders.
fn add_steps(part: &mut Part, added: HashMap<usize, Vec<Step>>) {
    for (at, more) in added {
        let PlannedFolder { head: FolderHead { names, .. }, steps, .. } = &mut part.folders[at];
        *steps = std::mem::take(steps).into_iter().chain(more).collect();
        steps.sort_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
    }
}

struct Reversing<'a> {
    system: &'a dyn System,
    pair: &'a Pair,
    map: &'a DriveMap,
    memory: &'a PastPart,
    part: &'a Part,
    /// An undo began earlier.
    was_begun: bool,
    is_move: bool,
}

impl Reversing<'_> {
    fn go(&self, pool: &WorkerPool) -> (Part, Vec<Problem>) {
        let mut problems = Vec::new();
        let mut reversed = Part { root: self.root(&mut problems), ..Part::default() };
        let folders = pool.map(self.part.folders.len(), |at| self.folder(at));
        for (folder, found) in folders {
            reversed.folders.push(folder);
            problems.extend(found);
        }
        self.rename_back(&mut reversed, &mut problems);
        self.close_again(&mut reversed, &mut problems);
        reversed.memory = Some(self.memory.before.clone());
        reversed.brings_back = true;
        (reversed, problems)
    }

    /// The steps in one folder, except for what comes back under another name.
    fn folder(&self, at: usize) -> (PlannedFolder, Vec<Problem>) {
        let mut problems = Vec::new();
        let folder = &self.part.folders[at];
        let path = self.part.folder_path(at);
        let both = self.open(&self.pair.destination.anchor, &path);
        let both = both.and_then(|there| Ok((there, self.open(&self.pair.source, &path)?)));
        // What cannot be read allows no conclusion.
        let is_seen = both.is_ok();
        let (there, aside) = both.unwrap_or_else(|error| {
            problems.push(self.problem(&path, error));
            (None, None)
        });
        let alike =
            |wanted: &State, there: &Stat| self.alike(folder.head.known.drive, wanted, there);
        let (mut names, mut steps) = (NameArena::default(), Vec::new());
        // What a move created goes back by a move.
        let home = self.is_move.then(|| self.memory.home(self.system));
        let goes_back = |step: &Step| {
            let own = || self.part.source_path(at).join(folder.name_in_source(step));
            let stays = |home: &OriginalSource<'_>| home.still_has(&own(), step);
            step.verb == Verb::Add && home.as_ref().is_some_and(|home| !stays(home))
        };
        let undone = |step: &&Step| step.reason != Reason::Leftover && is_seen && !goes_back(step);
        for step in folder.steps.iter().filter(undone) {
            let name = folder.head.names.get(step.name);
            match self.look(step, &path.join(name), (&there, &aside)) {
                Ok(taken) => {
                    let own = names.add(name);
                    let hold_the_same = || {
                        let of = step.destination.map(|was| (was.kind, was.size));
                        let both = there.as_ref().zip(aside.as_ref()).zip(of);
                        both.is_some_and(|((there, aside), of)| {
                            let (there, aside) = ((there.as_fd(), name), (aside.as_fd(), name));
                            same_content(self.system, there, aside, of)
                        })
                    };
                    let proof = BackProof { is_alike: &alike, hold_the_same: &hold_the_same };
                    let back = policy::reverse(step, own, &taken, &proof);
                    match back {
                        Some(_) if self.has_other_attributes(step, &taken) => {
                            problems.push(self.stale(&path.join(name)));
                        }
                        Some(back) if is_lost(&back, &taken) => {
                            problems.push(self.lost(&path.join(name)));
                        }
                        back => steps.extend(back),
                    }
                }
                Err(error) => problems.push(self.problem(&path.join(name), error)),
            }
        }
        let known = self.known(folder.head.known.drive, there.as_ref());
        let before = self.memory.before.get(path.as_bytes()).map(|before| before.state);
        let (parent, name, steps) = (folder.parent, folder.head.name.clone(), steps.into());
        (
            PlannedFolder {
                parent,
                steps,
                head: FolderHead { name, known, before, names, ..FolderHead::default() },
                ..PlannedFolder::default()
            },
            problems,
        )
    }

    fn open(&self, root: &OwnedFd, path: &TreePath) -> io::Result<Option<OwnedFd>> {
        plan::folder(self.system, root, path)
    }

    /// True if somebody changed attributes after the run, which the undo would lose.
    fn has_other_attributes(&self, step: &Step, taken: &StepTraces<'_>) -> bool {
        let Some((after, there)) = taken.after.zip(taken.there) else { return false };
        // The step itself detects other content.
        let is_made = after.state.still(&there);
        // An adjustment takes several calls, and an earlier undo may have been killed between them.
        let half_undone = self.was_begun && step.verb == Verb::Adjust;
        // What was moved back may be another name of the same file.
        let ours = self.was_begun || self.is_move;
        is_made && !half_undone && after.has_other_attributes(&there, ours)
    }

    fn stale(&self, path: &TreePath) -> Problem {
        let path = self.pair.prefix.join(path.as_bytes());
        let (operation, cause) = (Operation::LookAtDestination, Cause::Stale("the destination"));
        Problem { path, operation, cause }
    }

    fn lost(&self, path: &TreePath) -> Problem {
        let path = self.pair.prefix.join(path.as_bytes());
        Problem { path, operation: Operation::PutBack, cause: Cause::NotSetAside }
    }

    fn problem(&self, path: &TreePath, error: io::Error) -> Problem {
        let path = self.pair.prefix.join(path.as_bytes());
        Problem { path, operation: Operation::LookAtDestination, cause: error.into() }
    }

    fn unlike(&self) -> impl Iterator<Item = Problem> {
        // A root that the run created is removed once it is empty.
        let made_root = self.part.root.is_some_and(|step| step.verb == Verb::Add);
        let before = self.memory.before.iter();
        let before = before.filter(move |(path, _)| !path.is_empty() || !made_root);
        // Leftovers of killed runs that this run cleared do not come back.
        let is_leftover =
            |path: &[u8]| path.split(|b| *b == b'/').any(hidden_names::is_hidden_name);
        let before = before.filter(move |(path, _)| !is_leftover(path));
        before.filter_map(|(path, before)| {
            let path = TreePath::from(&**path);
            match self.is_as_before(&path, before) {
                Ok(true) => None,
                Ok(false) => {
                    let path = self.pair.prefix.join(path.as_bytes());
                    Some(Problem { path, operation: Operation::PutBack, cause: Cause::NotBack })
                }
                Err(error) => Some(self.problem(&path, error)),
            }
        })
    }

    fn is_as_before(&self, path: &TreePath, before: &AttributesBefore) -> io::Result<bool> {
        let (above, name) = path.split_last();
        let Some(above) = self.open(&self.pair.destination.anchor, &above.into())? else {
            return Ok(false);
        };
        let is_root = path.as_bytes().is_empty();
        let named = Entry::Named(above.as_fd(), name);
        let entry = if is_root { Entry::Open(above.as_fd()) } else { named };
        let drive = self.map.root();
        let now = match look_before(self.system, &drive.capabilities, entry) {
            Err(e) if e.kind() == ErrorKind::NotFound => return Ok(false),
            other => other?,
        };
        let of = |state: &State| (state.kind, state.uid, state.gid, state.mode());
        let keeps_time =
            !is_root || drive.capabilities.keeps_top_times(self.pair.destination.exists());
        // The time was read from this drive, so the drive can store it exactly.
        let same_time = before.state.modified() == now.state.modified();
        let size = |state: &State| if state.kind == Kind::Folder { 0 } else { state.size };
        let same_flags = before.flags.zip(now.flags).is_none_or(|(was, is)| was == is);
        Ok(of(&before.state) == of(&now.state)
            && size(&before.state) == size(&now.state)
            && (same_time || !keeps_time)
            && same_flags
            && before.xattrs == now.xattrs)
    }

    /// The former and the present state of an existing entry, if they differ.
    fn unfinished(&self, path: &TreePath) -> io::Result<Option<(State, State)>> {
        let Some(before) = self.memory.before.get(path.as_bytes()) else { return Ok(None) };
        let (above, name) = path.split_last();
        let above = self.open(&self.pair.destination.anchor, &above.into())?;
        let now = plan::state(self.system, above.as_ref(), name)?;
        let is_whole = self.is_as_before(path, before)?;
        Ok(now.filter(|_| !is_whole).map(|now| (before.state, State::from(&now))))
    }

    /// The present state of the folder that an entry goes back to.
    fn known(&self, drive: DriveId, there: Option<&OwnedFd>) -> FolderIdentity {
        let inode = there.and_then(|there| {
            let stat = self.system.stat(Entry::Open(there.as_fd())).ok()?;
            Some(stat.identity.inode)
        });
        FolderIdentity { source: None, destination: inode, drive }
    }

    fn look<'m>(
        &'m self,
        step: &Step,
        path: &TreePath,
        (there, aside): (&Option<OwnedFd>, &Option<OwnedFd>),
    ) -> io::Result<StepTraces<'m>> {
        let name = path.split_last().1;
        let look = |folder: &Option<OwnedFd>| plan::state(self.system, folder.as_ref(), name);
        let there = look(there)?;
        // The inode itself is back, so nothing is taken from what is set aside.
        let is_back =
            step.destination.zip(there).is_some_and(|(was, now)| was.inode != 0 && was.still(&now));
        let puts_back = matches!(step.verb, Verb::Remove | Verb::Replace) && !is_back;
        Ok(StepTraces {
            there,
            aside: if puts_back { look(aside)? } else { None },
            before: self.memory.before.get(path.as_bytes()),
            is_whole: self.is_whole(path)?,
            after: self.memory.after.get(path.as_bytes()).copied(),
        })
    }

    /// True for what has its former state according to the journal, or is not in the journal.
    fn is_whole(&self, path: &TreePath) -> io::Result<bool> {
        match self.memory.before.get(path.as_bytes()) {
            Some(before) => self.is_as_before(path, before),
            None => Ok(true),
        }
    }

    /// The step of a renamed entry stands at its former path.
    fn rename_back(&self, reversed: &mut Part, problems: &mut Vec<Problem>) {
        let mut added: HashMap<usize, Vec<Step>> = HashMap::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            let path = self.part.folder_path(at);
            for step in &folder.steps {
                let Some(was) = step.renamed_from().map(|id| self.part.name(id)) else { continue };
                let name = folder.head.names.get(step.name);
                let there = self.open(&self.pair.destination.anchor, &path);
                let now = there.and_then(|there| plan::state(self.system, there.as_ref(), name));
                let now = match now {
                    Ok(Some(now)) => now,
                    // Never renamed, or renamed back by an earlier undo that may have ended there.
                    Ok(None) => {
                        let (to, name) = (was.folder as usize, &*was.name);
                        let path = self.part.folder_path(to).join(name);
                        match self.unfinished(&path) {
                            Ok(Some((before, now))) => {
                                let name = reversed.folders[to].head.names.add(name);
                                added
                                    .entry(to)
                                    .or_default()
                                    .push(policy::adjusted(before, now, name));
                            }
                            Ok(None) => {}
                            Err(error) => problems.push(self.problem(&path, error)),
                        }
                        continue;
                    }
                    Err(error) => {
                        problems.push(self.problem(&path.join(name), error));
                        continue;
                    }
                };
                let after = self.memory.after.get(path.join(name).as_bytes());
                let after = after.map(|after| after.state);
                let seen = step.destination.filter(|seen| seen.still(&now));
                let now = after.or(seen).unwrap_or_else(|| State::from(&now));
                let to = self.part.folder_path(was.folder as usize).join(&was.name);
                let before = self.memory.before.get(to.as_bytes()).map(|before| before.state);
                let id = u32::try_from(reversed.elsewhere.len()).unwrap_or(u32::MAX);
                let own = u32::try_from(at).unwrap_or(u32::MAX);
                reversed.elsewhere.push(NameElsewhere { folder: own, name: name.into() });
                let to = was.folder as usize;
                let name = reversed.folders[to].head.names.add(&was.name);
                let back = Reversal { from: NameId(id), name, before, now };
                added.entry(to).or_default().push(back.step(step));
            }
        }
        add_steps(reversed, added);
    }

    /// Folders whose mode was widened during changes when the run, or an earlier undo, was killed.
    fn close_again(&self, reversed: &mut Part, problems: &mut Vec<Problem>) {
        let mut added: HashMap<usize, Vec<Step>> = HashMap::new();
        for at in 1..reversed.folders.len() {
            if reversed.own_step(at).is_some() {
                continue;
            }
            let path = reversed.folder_path(at);
            let Some(before) = self.memory.before.get(path.as_bytes()) else { continue };
            let there = self.open(&self.pair.destination.anchor, &path);
            let now = there.and_then(|there| {
                there.map(|there| self.system.stat(Entry::Open(there.as_fd()))).transpose()
            });
            match now {
                Ok(Some(now)) => {
                    let parent = reversed.folders[at].parent as usize;
                    let name: Box<[u8]> = reversed.folders[at].head.name.clone();
                    let name = reversed.folders[parent].head.names.add(&name);
                    let closed = policy::close(before, &now, name);
                    let timed = || self.gets_its_time(before, &now, name);
                    added.entry(parent).or_default().extend(closed.or_else(timed));
                }
                Ok(None) => {}
                Err(error) => problems.push(self.problem(&path, error)),
            }
        }
        add_steps(reversed, added);
    }

    /// Moving back changed the folder's time, or a killed run left another time.
    fn gets_its_time(
        &self,
        before: &AttributesBefore,
        now: &Stat,
        name: NameRange,
    ) -> Option<Step> {
        let differs = before.state.modified() != now.modified;
        (self.is_move && differs).then(|| policy::timed(before.state, State::from(now), name))
    }

    /// The root of the destination: if the run created it, it is removed at the end.
    fn root(&self, problems: &mut Vec<Problem>) -> Option<Step> {
        let stat = self.system.stat(Entry::Pinned(self.pair.destination.anchor.as_fd())).ok()?;
        let Some(step) = self.part.root.filter(|step| step.verb == Verb::Adjust) else {
            let before = self.memory.before.get(&[][..]).filter(|_| self.part.root.is_none())?;
            return self.gets_its_time(before, &stat, NameRange::default());
        };
        let taken = StepTraces {
            there: Some(stat),
            aside: None,
            before: self.memory.before.get(&[][..]),
            is_whole: self.is_whole(&TreePath::default()).ok()?,
            after: self.memory.after.get(&[][..]).copied(),
        };
        let alike = |wanted: &State, there: &Stat| self.alike(DriveId::default(), wanted, there);
        let proof = BackProof { is_alike: &alike, hold_the_same: &|| true };
        let back = policy::reverse(&step, NameRange::default(), &taken, &proof)?;
        if self.has_other_attributes(&step, &taken) {
            problems.push(self.stale(&TreePath::default()));
            return None;
        }
        Some(back)
    }

    fn alike(&self, drive: DriveId, wanted: &State, there: &Stat) -> bool {
        let same_time =
            || self.map.get(drive).capabilities.agree(wanted.modified(), there.modified);
        wanted.kind == there.kind
            && (there.kind == Kind::Folder || wanted.size == there.size && same_time())
    }
}

/// True if what the step would put back is missing from the set-aside folder. Folders are created anew.
fn is_lost(back: &Step, taken: &StepTraces<'_>) -> bool {
    let puts_back = back.reason == Reason::Before && matches!(back.verb, Verb::Add | Verb::Replace);
    puts_back && back.kind() != Kind::Folder && taken.aside.is_none()
}
