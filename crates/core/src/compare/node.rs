//! A folder while it is compared, and the order its results are put into.

use std::collections::HashSet;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use crate::os::{Stat, Time};
use crate::path::TreePath;
use crate::plan::{
    Count, Folder, Leader, NameRange, Names, Note, Part, Reason, State, Step, Tally, Verb,
};
use crate::problem::{Cause, Operation, Problem};
use crate::request::Task;

/// What each side holds, and what is as it should be.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Tallies {
    pub(super) source: Tally,
    pub(super) destination: Tally,
    pub(super) unchanged: Count,
    pub(super) spared_newer: u64,
    pub(super) held_back: u64,
    /// Files of the destination changed in the future, and the newest of their times.
    pub(super) ahead: (u64, Time),
}

impl Tallies {
    pub(super) fn merge(&mut self, other: &Self) {
        self.source.merge(&other.source);
        self.destination.merge(&other.destination);
        self.unchanged.entries += other.unchanged.entries;
        self.unchanged.bytes += other.unchanged.bytes;
        self.spared_newer += other.spared_newer;
        self.held_back += other.held_back;
        self.ahead = (self.ahead.0 + other.ahead.0, self.ahead.1.max(other.ahead.1));
    }

    pub(super) fn ahead(&self, now: Time) -> Option<Note> {
        let (count, newest) = self.ahead;
        let ahead = u64::try_from(newest.secs.saturating_sub(now.secs)).unwrap_or(0);
        (count > 0).then(|| Note::Ahead(count, Duration::from_secs(ahead)))
    }
}

/// On which sides a folder exists.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Presence {
    Both,
    Source,
    Destination,
}

/// A folder that was begun and whose contents are not all known yet.
#[derive(Debug)]
pub(super) struct Node {
    parent: Option<Arc<Node>>,
    name: Box<[u8]>,
    pub(super) presence: Presence,
    /// The folder itself on the side that decides: the source's unless it has none.
    state: Option<State>,
    /// Its own step among those of the folder above.
    slot: Option<usize>,
    /// It takes part only if something in it does.
    conditional: bool,
    /// A pattern took it with all it holds.
    pub(super) all_below: bool,
    /// Why it goes with all it holds, whatever that is.
    pub(super) goes: Option<Reason>,
    /// The destination's folder, if it goes should nothing in it take part.
    pub(super) spare: Option<State>,
    /// Levels below the root.
    pub(super) depth: u32,
    /// The drive it lies on, on the side that decides.
    pub(super) drive: u64,
    /// Itself while being visited, and folders in it that are not closed.
    open: AtomicUsize,
    inner: Mutex<Inner>,
    position: OnceLock<usize>,
}

#[derive(Debug, Default)]
struct Inner {
    names: Names,
    steps: Vec<Option<Step>>,
    children: Vec<usize>,
    /// Something in it takes part, on the source's and on the destination's side.
    taken: (bool, bool),
    /// Something in the destination's folder stays.
    keeps: bool,
    /// Something in the destination's folder goes.
    removes: bool,
    must_stay: bool,
}

/// A folder whose contents are all known.
#[derive(Debug)]
pub(super) struct Closed {
    pub(super) name: Box<[u8]>,
    source: Option<State>,
    pub(super) names: Names,
    pub(super) steps: Vec<Option<Step>>,
    /// Names of the steps, once they were sorted by them; a step may be gone by then.
    order: Vec<NameRange>,
    children: Vec<usize>,
}

impl Closed {
    fn sort(&mut self) {
        let names = &self.names;
        self.steps.retain(Option::is_some);
        let name_of = |step: &Option<Step>| step.map(|step| names.get(step.name));
        self.steps.sort_by(|a, b| name_of(a).cmp(&name_of(b)));
        self.order = self.steps.iter().flatten().map(|step| step.name).collect();
    }

    /// Where the step of this name stands or stood; known once they are sorted.
    pub(super) fn slot_of(&self, name: &[u8]) -> Option<usize> {
        self.order.binary_search_by(|range| self.names.get(*range).cmp(name)).ok()
    }
}

impl Node {
    pub(super) fn root(
        presence: Presence,
        state: Option<State>,
        drive: u64,
        all_below: bool,
    ) -> Self {
        Self {
            parent: None,
            name: Box::default(),
            presence,
            state,
            slot: None,
            conditional: false,
            all_below,
            goes: None,
            spare: None,
            depth: 0,
            drive,
            open: AtomicUsize::new(1),
            inner: Mutex::new(Inner { must_stay: true, ..Inner::default() }),
            position: OnceLock::new(),
        }
    }

    pub(super) fn below(
        parent: &Arc<Node>,
        name: &[u8],
        presence: Presence,
        stat: &Stat,
        all_below: bool,
    ) -> Self {
        Self {
            parent: Some(Arc::clone(parent)),
            name: name.into(),
            depth: parent.depth + 1,
            inner: Mutex::default(),
            ..Self::root(presence, Some(stat.into()), stat.identity.drive, all_below)
        }
    }

    /// With its own step above, and whether it takes part only if something in it does.
    pub(super) fn owning(self, slot: Option<usize>, conditional: bool) -> Self {
        Self { slot, conditional, ..self }
    }

    /// Why it goes with all it holds, or that it goes should nothing in it take part.
    pub(super) fn going(self, goes: Option<Reason>, spare: Option<State>) -> Self {
        Self { goes, spare, ..self }
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn is_root(&self) -> bool {
        self.parent.is_none()
    }

    pub(super) fn above(&self) -> Option<Arc<Node>> {
        self.parent.clone()
    }

    pub(super) fn path(&self) -> TreePath {
        let mut at = Some(self);
        TreePath::from_deepest(std::iter::from_fn(|| {
            let here = at?;
            at = here.parent.as_deref();
            Some(&*here.name)
        }))
    }

    /// Adds a step for the entry `name`; returns where it stands.
    pub(super) fn add(&self, name: &[u8], step: Step) -> usize {
        let mut inner = self.inner();
        let name = inner.names.add(name);
        inner.steps.push(Some(Step { name, ..step }));
        inner.steps.len() - 1
    }

    pub(super) fn keep_all(&self) {
        self.inner().keeps = true;
    }

    pub(super) fn note_removal(&self) {
        self.inner().removes = true;
    }

    pub(super) fn note_taken(&self, (source, destination): (bool, bool)) {
        let taken = &mut self.inner().taken;
        *taken = (taken.0 | source, taken.1 | destination);
    }

    /// Keeps its place in the plan even if it holds no step.
    pub(super) fn must_stay(&self) {
        self.inner().must_stay = true;
    }

    pub(super) fn expect(&self, folders: usize) {
        self.open.fetch_add(folders, Ordering::Relaxed);
    }

    /// True if that was the last thing it waited for.
    pub(super) fn one_less(&self) -> bool {
        self.open.fetch_sub(1, Ordering::AcqRel) == 1
    }

    /// Where [`arrange`] finds it; only for a node that holds something.
    pub(super) fn position(&self) -> Option<usize> {
        self.position.get().copied()
    }

    /// Settles what depended on its contents and hands the rest up.
    pub(super) fn close(
        &self,
        task: Task,
        closed: &mut Vec<Closed>,
        tallies: &mut Tallies,
        problems: &mut Vec<Problem>,
    ) {
        let inner = std::mem::take(&mut *self.inner());
        let wanted = match self.presence {
            Presence::Both | Presence::Source => !self.conditional || inner.taken.0,
            Presence::Destination => !inner.keeps && (!self.conditional || inner.removes),
        };
        self.count(&inner, tallies);
        let above = self.parent.as_ref().map(|parent| parent.inner());
        let Some(mut above) = above else {
            self.hand_over(inner, closed);
            return;
        };
        above.taken = (above.taken.0 | inner.taken.0, above.taken.1 | inner.taken.1);
        if self.presence == Presence::Destination {
            above.keeps |= !wanted;
            above.removes |= wanted || inner.removes;
        }
        if let Some(slot) = self.slot.filter(|_| !wanted) {
            let dropped = above.steps[slot].take();
            if self.presence == Presence::Destination
                && dropped.is_some_and(|s| s.verb == Verb::Replace)
            {
                let cause =
                    if task == Task::Copy { Cause::FolderInTheWay } else { Cause::LeftOutInTheWay };
                problems.push(Problem { path: self.path(), operation: Operation::Write, cause });
            }
        }
        if let Some(spare) = self.spare.filter(|_| !wanted) {
            above.keeps |= inner.keeps;
            if !inner.keeps {
                let name = above.names.add(&self.name);
                let step = Step::new(Verb::Remove, Reason::Unselected, None, Some(spare));
                above.steps.push(Some(Step { name, ..step }));
            }
        }
        if inner.must_stay || !inner.children.is_empty() || inner.steps.iter().any(Option::is_some)
        {
            above.children.push(closed.len());
            self.hand_over(inner, closed);
        }
    }

    fn count(&self, inner: &Inner, tallies: &mut Tallies) {
        if self.is_root() {
            return;
        }
        if self.conditional {
            tallies.source.folders += u64::from(inner.taken.0);
            tallies.destination.folders += u64::from(inner.taken.1);
        }
        let as_it_should_be = self.presence == Presence::Both && self.slot.is_none();
        if as_it_should_be && (!self.conditional || inner.taken.0) {
            tallies.unchanged.add(0);
        }
    }

    fn hand_over(&self, mut inner: Inner, closed: &mut Vec<Closed>) {
        // What is kept until the run ends takes no more than it needs.
        inner.names.shrink();
        inner.steps.shrink_to_fit();
        // Set once: a node closes once.
        let _ = self.position.set(closed.len());
        closed.push(Closed {
            name: self.name.clone(),
            source: self.state.filter(|_| self.presence != Presence::Destination),
            names: inner.names,
            steps: inner.steps,
            order: Vec::new(),
            children: inner.children,
        });
    }
}

/// A part of a plan while its steps may still change.
#[derive(Debug, Default)]
pub(super) struct Arranged {
    pub(super) folders: Vec<(u32, Closed)>,
    /// Folders that a rename took along, with all they held.
    dead: HashSet<usize>,
    /// From a node's position to its folder's.
    places: Vec<u32>,
    pub(super) leaders: Vec<Leader>,
    /// Steps that replace may be planned.
    pub(super) replaces: bool,
}

/// Puts folders into tree order. The root closed last.
pub(super) fn arrange(closed: Vec<Closed>) -> Arranged {
    let mut arranged = Arranged { places: vec![0; closed.len()], ..Arranged::default() };
    let mut closed: Vec<_> = closed.into_iter().map(Some).collect();
    let mut waiting: Vec<(usize, u32)> =
        closed.len().checked_sub(1).map(|root| (root, 0)).into_iter().collect();
    while let Some((position, parent)) = waiting.pop() {
        let here = u32::try_from(arranged.folders.len()).unwrap_or(u32::MAX);
        arranged.places[position] = here;
        let mut children = match &closed[position] {
            Some(folder) => folder.children.clone(),
            None => continue,
        };
        children.sort_unstable_by(|a, b| name_of(&closed, *b).cmp(name_of(&closed, *a)));
        waiting.extend(children.into_iter().map(|child| (child, here)));
        arranged.folders.extend(closed[position].take().map(|folder| (parent, folder)));
    }
    arranged
}

fn name_of(closed: &[Option<Closed>], position: usize) -> &[u8] {
    closed[position].as_ref().map_or(b"", |folder| &folder.name)
}

impl Arranged {
    pub(super) fn folder_of(&self, node: &Node) -> Option<u32> {
        node.position().map(|position| self.places[position])
    }

    pub(super) fn step(&mut self, folder: u32, slot: usize) -> &mut Option<Step> {
        &mut self.folders[folder as usize].1.steps[slot]
    }

    pub(super) fn add(&mut self, folder: u32, name: &[u8], step: Step) {
        let folder = &mut self.folders[folder as usize].1;
        let name = folder.names.add(name);
        folder.steps.push(Some(Step { name, ..step }));
    }

    pub(super) fn is_dead(&self, at: usize) -> bool {
        self.dead.contains(&at)
    }

    /// Sorts the steps of every folder by name; their slots are new ones then.
    pub(super) fn sort(&mut self) {
        self.folders.iter_mut().for_each(|(_, folder)| folder.sort());
    }

    /// The name of a step, once they are sorted, also of one that is gone.
    pub(super) fn name_at(&self, (folder, slot): (usize, usize)) -> &[u8] {
        let folder = &self.folders[folder].1;
        folder.names.get(folder.order[slot])
    }

    /// Path of a folder, relative to the root.
    pub(super) fn path(&self, at: usize) -> TreePath {
        let mut at = at;
        TreePath::from_deepest(std::iter::from_fn(|| {
            let (parent, folder) = &self.folders[at];
            (at != 0).then(|| {
                at = *parent as usize;
                &*folder.name
            })
        }))
    }

    /// Takes a folder and all below it out of the plan; returns what its steps were for.
    pub(super) fn kill(&mut self, top: usize) -> Vec<State> {
        let mut states = Vec::new();
        for at in top..self.folders.len() {
            let is_below = at == top || self.dead.contains(&(self.folders[at].0 as usize));
            // In tree order what is below comes right after.
            if !is_below {
                break;
            }
            self.dead.insert(at);
            let steps = self.folders[at].1.steps.iter_mut().filter_map(Option::take);
            states.extend(steps.filter_map(|step| step.source.or(step.destination)));
        }
        states
    }

    pub(super) fn finish(mut self) -> Part {
        let mut places = Vec::new();
        let mut next = 0;
        for at in 0..self.folders.len() {
            places.push(next);
            next += u32::from(!self.dead.contains(&at));
        }
        let dead = std::mem::take(&mut self.dead);
        for leader in &mut self.leaders {
            // What took its folder along took all names that were linked to it as well.
            let gone = dead.contains(&(leader.folder as usize));
            leader.folder = if gone { 0 } else { places[leader.folder as usize] };
        }
        let alive = self.folders.into_iter().enumerate().filter(|(at, _)| !dead.contains(at));
        let folders = alive.map(|(_, (parent, closed))| {
            let parent = places[parent as usize];
            let Closed { name, source, mut names, steps, .. } = closed;
            let mut steps: Vec<Step> = steps.into_iter().flatten().collect();
            steps.sort_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
            names.shrink();
            Folder { parent, name, source, names, steps: steps.into(), first: 0 }
        });
        Part { folders: folders.collect(), leaders: self.leaders, ..Part::default() }
    }
}
