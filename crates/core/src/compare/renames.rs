//! What only moved: an entry that is new in one place and extra in another is renamed there and not
//! copied anew.
//!
//! Candidates are found by size and time, whole folders by a sum over all they hold, so the work
//! grows with the number of new and extra entries and not with its square. What was found is then
//! looked at: all attributes, and every byte of both sides.

use std::collections::{HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::abilities::Ability;
use crate::os::{Entry, Identity, Kind, Stat};
use crate::path::TreePath;
use crate::plan::{Count, Leader, LeaderId, Reason, State, Step, Verb};
use crate::pool;
use crate::request::Task;

use super::node::Arranged;
use super::{Comparison, content, entry};

/// Puts renames in the place of steps that add and remove the same. What is renamed along with its
/// folder counts as unchanged.
pub(super) fn find(context: &Comparison<'_>, arranged: &mut Arranged, unchanged: &mut Count) {
    let drive = &context.reach.drive;
    let able = [Ability::RenamedFolders, Ability::RenamedTimes].into_iter().all(|a| drive.holds(a));
    let allowed = context.task == Task::Mirror && context.changed.steps.has(Verb::Rename);
    if !able || !allowed || context.pair.single.is_some() {
        return;
    }
    let holds = |wanted: Verb| {
        let mut steps =
            arranged.folders.iter().flat_map(|(_, folder)| folder.steps.iter().flatten());
        steps.any(|step| step.verb == wanted)
    };
    if !holds(Verb::Add) || !holds(Verb::Remove) {
        return;
    }
    arranged.sort();
    let found = Candidates::of(context, arranged);
    let mut search = Search { context, found, gone: HashSet::new(), unchanged };
    for at in 0..arranged.folders.len() {
        if !arranged.is_dead(at) {
            search.folder(arranged, at);
        }
    }
}

/// How many of one size and time are read before it is given up.
const TRIED: usize = 4;

/// A step, by its folder and its place among that folder's steps.
type Place = (usize, usize);

/// What tells entries apart that cannot be the same.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Mark(u64);

fn mark(parts: impl Hash) -> Mark {
    let mut hasher = DefaultHasher::new();
    parts.hash(&mut hasher);
    Mark(hasher.finish())
}

impl Mark {
    fn with(self, name: &[u8]) -> Self {
        mark((self.0, name))
    }
}

/// Steps by their marks. What is taken is passed over once and never looked at again, so that many of
/// one mark cost no more than as many of different ones.
#[derive(Default)]
struct Pool {
    steps: Vec<(Mark, u32, u32)>,
    /// Where the first of a mark stands that may be free.
    begins: HashMap<u64, usize>,
}

impl Pool {
    fn add(&mut self, mark: Mark, (folder, slot): Place) {
        self.steps.push((mark, narrow(folder), narrow(slot)));
    }

    fn sort(&mut self) {
        self.steps.sort_unstable();
    }

    /// The first few of a mark that are free, in tree order.
    fn free(&mut self, mark: Mark, is_free: impl Fn(Place) -> bool) -> Vec<Place> {
        let steps = &self.steps;
        let begin = self.begins.entry(mark.0);
        let begin = begin.or_insert_with(|| steps.partition_point(|(other, ..)| *other < mark));
        let place = |(_, folder, slot): &(Mark, u32, u32)| (*folder as usize, *slot as usize);
        let fits = |at: usize| steps.get(at).filter(|(other, ..)| *other == mark).map(place);
        while fits(*begin).is_some_and(|place| !is_free(place)) {
            *begin += 1;
        }
        (*begin..*begin + TRIED).map_while(fits).filter(|place| is_free(*place)).collect()
    }
}

/// The removals that may be renames, by their marks, and the marks of all folders that are new.
struct Candidates {
    extra: Pool,
    /// The same by marks that take in the name.
    extra_by_name: Pool,
    new_folders: HashMap<Place, Mark>,
    /// The folder that a step adds or removes, where it holds steps.
    below: HashMap<Place, usize>,
    /// Names that others are linked to, with their folders.
    leaders: HashSet<(usize, Box<[u8]>)>,
}

impl Candidates {
    fn of(context: &Comparison<'_>, arranged: &Arranged) -> Self {
        let leaders = arranged.leaders.iter();
        let mut found = Self {
            extra: Pool::default(),
            extra_by_name: Pool::default(),
            new_folders: HashMap::new(),
            below: HashMap::new(),
            leaders: leaders.map(|leader| (leader.folder as usize, leader.name.clone())).collect(),
        };
        for (at, (parent, folder)) in arranged.folders.iter().enumerate().skip(1) {
            let parent = *parent as usize;
            if let Some(slot) = arranged.folders[parent].1.slot_of(&folder.name) {
                found.below.insert((parent, slot), at);
            }
        }
        // From the deepest up, so that a folder's mark is known before that of the one above.
        let mut sums: HashMap<usize, Option<u64>> = HashMap::new();
        for at in (0..arranged.folders.len()).rev() {
            let sum = found.sum(context, arranged, at, &sums);
            sums.insert(at, sum);
        }
        for (at, (_, folder)) in arranged.folders.iter().enumerate() {
            for (slot, step) in folder.steps.iter().enumerate() {
                let Some(step) = step else { continue };
                let Some(mark) = found.mark(context, (at, slot), step, &sums) else { continue };
                match (step.verb, step.kind()) {
                    (Verb::Remove, _) => {
                        let name = folder.names.get(step.name);
                        found.extra.add(mark, (at, slot));
                        found.extra_by_name.add(mark.with(name), (at, slot));
                    }
                    (_, Kind::Folder) => drop(found.new_folders.insert((at, slot), mark)),
                    _ => {}
                }
            }
        }
        found.extra.sort();
        found.extra_by_name.sort();
        found
    }

    /// A sum over what a folder holds, the same whatever the order; `None` if not all of it is new,
    /// or not all of it extra.
    fn sum(
        &self,
        context: &Comparison<'_>,
        arranged: &Arranged,
        at: usize,
        sums: &HashMap<usize, Option<u64>>,
    ) -> Option<u64> {
        let folder = &arranged.folders[at].1;
        let verb = folder.steps.iter().flatten().next()?.verb;
        folder.steps.iter().enumerate().try_fold(0_u64, |sum, (slot, step)| {
            let Some(step) = step else { return Some(sum) };
            let name = folder.names.get(step.name);
            if step.verb != verb {
                return None;
            }
            let Mark(own) = if step.kind() == Kind::File {
                let state = step.source.or(step.destination)?;
                mark((state.size, time_of(context, step)?))
            } else {
                self.mark(context, (at, slot), step, sums)?
            };
            Some(sum.wrapping_add(mark((name, own)).0))
        })
    }

    /// The mark of an entry that is new or extra, as far as it can be found again by one.
    fn mark(
        &self,
        context: &Comparison<'_>,
        place: Place,
        step: &Step,
        sums: &HashMap<usize, Option<u64>>,
    ) -> Option<Mark> {
        let plain = matches!(step.verb, Verb::Add)
            || step.verb == Verb::Remove && step.reason == Reason::Extra;
        if !plain || step.leader.is_some() {
            return None;
        }
        let kind = step.kind();
        if kind != Kind::Folder {
            return Some(mark((kind, step.bytes(), time_of(context, step)?)));
        }
        // One that holds nothing is made as fast as it is renamed.
        let sum = match self.below.get(&place) {
            Some(below) => (*sums.get(below)?)?,
            None => 0,
        };
        Some(mark((kind, sum)))
    }
}

/// A number of a folder or a step, as plans hold them.
fn narrow(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

/// A modification time as the destination's drive keeps it.
fn time_of(context: &Comparison<'_>, step: &Step) -> Option<crate::os::Time> {
    match step.verb {
        Verb::Add => step.source.map(|state| context.reach.drive.nearest(state.modified())),
        _ => step.destination.map(|state| state.modified()),
    }
}

struct Search<'a, 'c> {
    context: &'a Comparison<'c>,
    found: Candidates,
    /// Removals that a rename took the place of.
    gone: HashSet<Place>,
    unchanged: &'a mut Count,
}

impl Search<'_, '_> {
    /// The new entries of one folder.
    fn folder(&mut self, arranged: &mut Arranged, at: usize) {
        for slot in 0..arranged.folders[at].1.steps.len() {
            let Some(step) = arranged.folders[at].1.steps[slot] else { continue };
            if step.verb == Verb::Add && step.leader.is_none() {
                self.entry(arranged, (at, slot), &step);
            }
        }
    }

    fn entry(&mut self, arranged: &mut Arranged, new: Place, step: &Step) {
        let folder = &arranged.folders[new.0].1;
        let name: Box<[u8]> = folder.names.get(step.name).into();
        let mark = match step.kind() {
            // Empty ones are alike everywhere.
            Kind::Folder if self.found.below.contains_key(&new) => {
                self.found.new_folders.get(&new).copied()
            }
            Kind::File
                if step.bytes() > 0 && !self.found.leaders.contains(&(new.0, name.clone())) =>
            {
                time_of(self.context, step).map(|time| mark((Kind::File, step.bytes(), time)))
            }
            _ => None,
        };
        let Some(mark) = mark else { return };
        let (context, gone) = (self.context, &self.gone);
        let is_free = |place: Place| {
            let alive = !arranged.is_dead(place.0) && !gone.contains(&place);
            alive && !is_below_gone(gone, arranged, place.0)
        };
        // The one that kept its name comes first.
        let mut found = self.found.extra_by_name.free(mark.with(&name), is_free);
        found.extend(self.found.extra.free(mark, is_free));
        for old in found {
            // What cannot be looked at is not the same as far as is known.
            if let Ok(Some(aspects)) = self.found.same(context, arranged, new, old, step.kind()) {
                self.rename(arranged, new, old, aspects);
                return;
            }
        }
    }
}

/// True if a folder above was taken for a rename already.
fn is_below_gone(gone: &HashSet<Place>, arranged: &Arranged, mut at: usize) -> bool {
    while at != 0 {
        let parent = arranged.folders[at].0 as usize;
        let name = &arranged.folders[at].1.name;
        let own = arranged.folders[parent].1.slot_of(name);
        if own.is_none_or(|slot| gone.contains(&(parent, slot))) {
            // Without a step of its own it stays, and so does what is above it.
            return own.is_some();
        }
        at = parent;
    }
    false
}

impl Candidates {
    /// The aspects, of the entry itself, that have to be changed after it was renamed; `None` if the
    /// two are not the same.
    fn same(
        &self,
        context: &Comparison<'_>,
        arranged: &Arranged,
        new: Place,
        old: Place,
        kind: Kind,
    ) -> io::Result<Option<crate::aspect::Aspects>> {
        let pair = context.pair;
        let (from, to) = (arranged.path(new.0), arranged.path(old.0));
        let (name, other) = (arranged.name_at(new), arranged.name_at(old));
        let system = context.system;
        let source = system.open_folder(pair.source.as_fd(), from.as_bytes())?;
        let destination = system.open_folder(pair.destination.anchor.as_fd(), to.as_bytes())?;
        let own = compare(context, (&source, name), (&destination, other))?;
        let aspects = match own.differs {
            // Its other names would have to move as well.
            _ if own.linked.is_some() => return Ok(None),
            None => crate::aspect::Aspects::NONE,
            Some(step) if step.verb == Verb::Adjust => step.aspects,
            Some(_) => return Ok(None),
        };
        if kind == Kind::Folder
            && !self.same_below(context, arranged, (new, &from.join(name)), (old, &to.join(other)))
        {
            return Ok(None);
        }
        Ok(Some(aspects))
    }

    /// True if all that two folders hold is the same, to the last byte and attribute.
    fn same_below(
        &self,
        context: &Comparison<'_>,
        arranged: &Arranged,
        (new, from): (Place, &TreePath),
        (old, to): (Place, &TreePath),
    ) -> bool {
        let (Some(new), Some(old)) = (self.below.get(&new), self.below.get(&old)) else {
            return false;
        };
        let same = AtomicBool::new(true);
        let groups = Mutex::new(Vec::new());
        let first = vec![(*new, from.clone(), *old, to.clone(), 0..usize::MAX)];
        pool::run(context.running.workers, first, |(new, from, old, to, slots), stack| {
            if !same.load(Ordering::Relaxed) || context.observer.stop_requested() {
                same.store(false, Ordering::Relaxed);
                return;
            }
            // A wide folder is shared among the workers.
            let steps = &arranged.folders[new].1.steps;
            let end = steps.len().min(slots.end);
            let cut = end.min(slots.start.saturating_add(1024));
            if cut < end {
                stack.push([(new, from.clone(), old, to.clone(), cut..end)].into_iter());
            }
            let slots = slots.start..cut;
            match self.same_entries(context, arranged, (new, &from), (old, &to), slots, &groups) {
                Ok(Some(below)) => stack.push(below.into_iter().map(|(new, name, old)| {
                    (new, from.join(&name), old, to.join(&name), 0..usize::MAX)
                })),
                _ => same.store(false, Ordering::Relaxed),
            }
        });
        same.into_inner()
            && same_groups(&groups.into_inner().unwrap_or_else(PoisonError::into_inner))
    }

    /// Compares some entries of two folders; returns the folders among them, `None` if one differs.
    #[allow(clippy::type_complexity, reason = "a folder on both sides and its name")]
    fn same_entries(
        &self,
        context: &Comparison<'_>,
        arranged: &Arranged,
        (new, from): (usize, &TreePath),
        (old, to): (usize, &TreePath),
        slots: std::ops::Range<usize>,
        groups: &Mutex<Vec<(Stat, Stat)>>,
    ) -> io::Result<Option<Vec<(usize, Box<[u8]>, usize)>>> {
        let (system, pair) = (context.system, context.pair);
        let source = system.open_folder(pair.source.as_fd(), from.as_bytes())?;
        let destination = system.open_folder(pair.destination.anchor.as_fd(), to.as_bytes())?;
        let mut below = Vec::new();
        for slot in slots {
            let folder = &arranged.folders[new].1;
            let Some(step) = folder.steps[slot] else { continue };
            let name = folder.names.get(step.name);
            let compared = compare(context, (&source, name), (&destination, name))?;
            match compared {
                Compared { differs: Some(_), .. } => return Ok(None),
                Compared { linked: Some(both), .. } => {
                    groups.lock().unwrap_or_else(PoisonError::into_inner).push(both);
                }
                Compared { .. } => {}
            }
            if step.kind() == Kind::Folder {
                let other = arranged.folders[old].1.slot_of(name);
                let pair = (self.below.get(&(new, slot)), other);
                match pair {
                    (None, Some(other)) if !self.below.contains_key(&(old, other)) => {}
                    (Some(new), Some(other)) => match self.below.get(&(old, other)) {
                        Some(old) => below.push((*new, name.into(), *old)),
                        None => return Ok(None),
                    },
                    _ => return Ok(None),
                }
            }
        }
        Ok(Some(below))
    }
}

impl Search<'_, '_> {
    fn rename(
        &mut self,
        arranged: &mut Arranged,
        new: Place,
        old: Place,
        aspects: crate::aspect::Aspects,
    ) {
        let name = arranged.name_at(old).into();
        let removal = arranged.folders[old.0].1.steps[old.1].take();
        let Some(removal) = removal else { return };
        self.gone.insert(old);
        let from = LeaderId(narrow(arranged.leaders.len()));
        arranged.leaders.push(Leader { folder: narrow(old.0), name });
        if let Some(step) = &mut arranged.folders[new.0].1.steps[new.1] {
            *step = Step {
                verb: Verb::Rename,
                reason: Reason::Moved,
                destination: removal.destination,
                leader: Some(from),
                aspects,
                ..*step
            };
        }
        if let Some(below) = self.found.below.get(&new).copied() {
            for state in arranged.kill(below) {
                self.unchanged.add(state.bytes());
            }
        }
        if let Some(below) = self.found.below.get(&old).copied() {
            arranged.kill(below);
        }
    }
}

/// What became of comparing two entries with every byte read.
struct Compared {
    /// The step that would make the one as the other.
    differs: Option<Step>,
    /// Both, if they have other names.
    linked: Option<(Stat, Stat)>,
}

fn compare(
    context: &Comparison<'_>,
    (source, name): (&OwnedFd, &[u8]),
    (destination, other): (&OwnedFd, &[u8]),
) -> io::Result<Compared> {
    let system = context.system;
    let (from, to) = (Entry::Named(source.as_fd(), name), Entry::Named(destination.as_fd(), other));
    let (here, there): (Stat, Stat) = (system.stat(from)?, system.stat(to)?);
    let replace = || Step::new(Verb::Replace, Reason::Kind, Some(State::from(&here)), None);
    let linked = here.kind == Kind::File && (here.links > 1 || there.links > 1);
    let linked = linked.then_some((here, there));
    if here.kind != there.kind {
        return Ok(Compared { differs: Some(replace()), linked });
    }
    let sides = entry::Sides { source: (from, &here), destination: (to, &there) };
    let mut differs = entry::compare(context, &sides)?;
    if here.kind == Kind::File && differs.is_none_or(|step| step.verb == Verb::Adjust) {
        let from = system.open_file(source.as_fd(), name)?;
        let to = system.open_file(destination.as_fd(), other)?;
        if content::first_difference(context, from.as_fd(), to.as_fd())?.is_some() {
            differs = Some(replace());
        }
    }
    Ok(Compared { differs, linked })
}

/// True if the same names share a file on both sides, and no name elsewhere does.
fn same_groups(pairs: &[(Stat, Stat)]) -> bool {
    let mut counts: HashMap<Identity, (Identity, u32)> = HashMap::new();
    let mut taken = HashMap::new();
    for (here, there) in pairs {
        let known = counts.entry(here.identity).or_insert((there.identity, 0));
        known.1 += 1;
        let back = *taken.entry(there.identity).or_insert(here.identity);
        if known.0 != there.identity || back != here.identity || here.links != there.links {
            return false;
        }
    }
    pairs.iter().all(|(here, _)| counts[&here.identity].1 == here.links)
}
