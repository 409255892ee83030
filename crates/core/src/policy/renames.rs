//! What only moved: an entry that is new in one place and extra in another is renamed there and not
//! copied anew.
//!
//! Candidates are found by size and time, whole folders by a sum over all they hold, so the work
//! grows with the number of new and extra entries and not with its square. Folders come before
//! files, from the top down, so that what moved with its folder is not taken out of it. What was found
//! is then proven: all attributes, and every byte of both sides.

mod likely;

use std::collections::{HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};

use crate::compare::{Moved, Proof, Proven, Wanted};
use crate::drives::DriveId;
use crate::os::{Kind, Time};

use super::draft::{Draft, Drafted, folders_by_step};
use super::may::Word;
use super::step::{Reason, Relation, Step, Verb};

impl Draft<'_> {
    /// Puts renames in the place of steps that add and remove the same. What is renamed along with its
    /// folder counts as unchanged.
    pub(super) fn find_renames(&mut self, proof: &dyn Proof) {
        let holds = |wanted: Verb| {
            let mut steps = self.folders.iter().flat_map(|folder| folder.steps.iter().flatten());
            steps.any(|step| step.verb == wanted)
        };
        let example = Step::new(Verb::Rename, Reason::Moved, (None, None));
        let may = self.policy.may(&example, DriveId::default()) == Word::Yes;
        if !may || !holds(Verb::Add) || !holds(Verb::Remove) {
            return;
        }
        self.sort();
        let mut found = Candidates::of(self);
        found.tell(self, proof);
        let mut search = Search { proof, found, gone: HashSet::new(), left: HashSet::new() };
        for wanted in [Sought::Folders, Sought::Files] {
            for at in 0..self.folders.len() {
                if !self.is_dead(at) {
                    search.folder(self, at, wanted);
                }
            }
        }
    }

    fn drive_of_place(&self, (folder, _): Place) -> DriveId {
        self.folders[folder].drive()
    }
}

/// What one pass looks for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Sought {
    Folders,
    Files,
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
    spoken_of: HashSet<(usize, Box<[u8]>)>,
}

impl Candidates {
    fn of(draft: &Draft<'_>) -> Self {
        let spoken_of = draft.elsewhere.iter();
        let mut found = Self {
            extra: Pool::default(),
            extra_by_name: Pool::default(),
            new_folders: HashMap::new(),
            below: folders_by_step(&draft.folders),
            spoken_of: spoken_of.map(|name| (name.folder as usize, name.name.clone())).collect(),
        };
        // From the deepest up, so that a folder's mark is known before that of the one above.
        let mut sums: HashMap<usize, Option<u64>> = HashMap::new();
        for at in (0..draft.folders.len()).rev() {
            let sum = found.sum(draft, at, &sums);
            sums.insert(at, sum);
        }
        for (at, folder) in draft.folders.iter().enumerate() {
            for (slot, step) in folder.steps.iter().enumerate() {
                let Some(step) = step else { continue };
                let Some(mark) = found.mark(draft, (at, slot), step, &sums) else { continue };
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
    fn sum(&self, draft: &Draft<'_>, at: usize, sums: &HashMap<usize, Option<u64>>) -> Option<u64> {
        let folder = &draft.folders[at];
        let verb = folder.steps.iter().flatten().next()?.verb;
        folder.steps.iter().enumerate().try_fold(0_u64, |sum, (slot, step)| {
            let Some(step) = step else { return Some(sum) };
            let name = folder.names.get(step.name);
            if step.verb != verb {
                return None;
            }
            let Mark(own) = if step.kind() == Kind::File {
                let state = step.source.or(step.destination)?;
                mark((state.size, time_of(draft, folder, step)?))
            } else {
                self.mark(draft, (at, slot), step, sums)?
            };
            Some(sum.wrapping_add(mark((name, own)).0))
        })
    }

    /// The mark of a new entry that may have been renamed, and the drive on which that can be.
    fn mark_of_new(&self, draft: &Draft<'_>, new: Place, step: &Step) -> Option<(Mark, DriveId)> {
        let folder = &draft.folders[new.0];
        let name = folder.names.get(step.name);
        let is_spoken_of = || self.spoken_of.contains(&(new.0, name.into()));
        let mark = match step.kind() {
            // Empty ones are alike everywhere.
            Kind::Folder if self.below.contains_key(&new) => self.new_folders.get(&new).copied(),
            Kind::File if step.bytes() > 0 && !is_spoken_of() => {
                time_of(draft, folder, step).map(|time| mark((Kind::File, step.bytes(), time)))
            }
            _ => None,
        };
        let drive = draft.drive_of_place(new);
        Some((mark.filter(|_| draft.policy.drives.renames(drive))?, drive))
    }

    /// What may have been an entry with this mark and name; one that kept its name comes first.
    fn candidates(
        &mut self,
        mark: Mark,
        name: &[u8],
        is_free: impl Fn(Place) -> bool,
    ) -> Vec<Place> {
        let mut candidates = self.extra_by_name.free(mark.with(name), &is_free);
        candidates.extend(self.extra.free(mark, is_free));
        candidates
    }

    /// The mark of an entry that is new or extra, as far as it can be found again by one.
    fn mark(
        &self,
        draft: &Draft<'_>,
        place: Place,
        step: &Step,
        sums: &HashMap<usize, Option<u64>>,
    ) -> Option<Mark> {
        let plain =
            step.verb == Verb::Add || step.verb == Verb::Remove && step.reason == Reason::Extra;
        if !plain || step.relation.is_some() {
            return None;
        }
        let kind = step.kind();
        if kind != Kind::Folder {
            let time = time_of(draft, &draft.folders[place.0], step)?;
            return Some(mark((kind, step.bytes(), time)));
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
fn time_of(draft: &Draft<'_>, folder: &Drafted, step: &Step) -> Option<Time> {
    let kept = |time| draft.policy.drives.nearest(folder.drive(), time);
    match step.verb {
        Verb::Add => step.source.map(|state| kept(state.modified())),
        _ => step.destination.map(|state| state.modified()),
    }
}

struct Search<'p> {
    proof: &'p dyn Proof,
    found: Candidates,
    /// Removals that a rename took the place of.
    gone: HashSet<Place>,
    /// Removals of folders that something was renamed out of: they are not what they were.
    left: HashSet<Place>,
}

impl Search<'_> {
    /// The new entries of one folder.
    fn folder(&mut self, draft: &mut Draft<'_>, at: usize, sought: Sought) {
        for slot in 0..draft.folders[at].steps.len() {
            let Some(step) = draft.folders[at].steps[slot] else { continue };
            let is_sought = (step.kind() == Kind::Folder) == (sought == Sought::Folders);
            if is_sought && step.verb == Verb::Add && step.relation.is_none() {
                self.entry(draft, (at, slot), &step);
            }
        }
    }

    fn entry(&mut self, draft: &mut Draft<'_>, new: Place, step: &Step) {
        let name: Box<[u8]> = draft.folders[new.0].names.get(step.name).into();
        let Some((mark, drive)) = self.found.mark_of_new(draft, new, step) else { return };
        let (gone, left) = (&self.gone, &self.left);
        let is_free = |place: Place| {
            let alive = !draft.is_dead(place.0) && !gone.contains(&place) && !left.contains(&place);
            alive && draft.drive_of_place(place) == drive && !is_below_gone(gone, draft, place.0)
        };
        for old in self.found.candidates(mark, &name, is_free) {
            let moved = Moved {
                source: draft.path(new.0).join(&name),
                destination: draft.path(old.0).join(draft.folders[old.0].name_at(old.1)),
                drive,
                folder: self.found.below.get(&new).copied(),
                wanted: &ToBeMade { folders: &draft.folders, below: &self.found.below },
            };
            if let Some(proven) = self.proof.same(&moved) {
                self.rename(draft, new, old, proven);
                return;
            }
        }
    }

    fn rename(&mut self, draft: &mut Draft<'_>, new: Place, old: Place, proven: Proven) {
        let name: Box<[u8]> = draft.folders[old.0].name_at(old.1).into();
        let Some(removal) = draft.step(old).take() else { return };
        self.gone.insert(old);
        self.note_left(draft, old.0);
        let from = draft.name(old.0, name);
        if let Some(step) = draft.step(new) {
            let sides = (step.source, removal.destination);
            *step = Step {
                aspects: proven.aspects,
                relation: Some(Relation::RenameOf(from)),
                name: step.name,
                ..Step::new(Verb::Rename, Reason::Moved, sides)
            };
        }
        if let Some(below) = self.found.below.get(&new).copied() {
            for state in draft.kill(below) {
                draft.count_unchanged(&state);
            }
        }
        if let Some(below) = self.found.below.get(&old).copied() {
            draft.kill(below);
        }
    }

    /// The folders above what was renamed away cannot be renamed as a whole any more.
    fn note_left(&mut self, draft: &Draft<'_>, mut at: usize) {
        while at != 0 {
            let folder = &draft.folders[at];
            let parent = folder.parent as usize;
            if let Some(slot) = draft.folders[parent].slot_of(&folder.name) {
                self.left.insert((parent, slot));
            }
            at = parent;
        }
    }
}

/// What the folders of a draft that are new are to hold.
struct ToBeMade<'d> {
    folders: &'d [Drafted],
    below: &'d HashMap<Place, usize>,
}

impl Wanted for ToBeMade<'_> {
    fn names(&self, folder: usize) -> Vec<(&[u8], Option<usize>)> {
        let drafted = &self.folders[folder];
        let steps = drafted.steps.iter().enumerate();
        let named = steps.filter_map(|(slot, step)| {
            let name = drafted.names.get((*step)?.name);
            Some((name, self.below.get(&(folder, slot)).copied()))
        });
        named.collect()
    }
}

/// True if a folder above was taken for a rename already.
fn is_below_gone(gone: &HashSet<Place>, draft: &Draft<'_>, mut at: usize) -> bool {
    while at != 0 {
        let folder = &draft.folders[at];
        let parent = folder.parent as usize;
        let own = draft.folders[parent].slot_of(&folder.name);
        if own.is_none_or(|slot| gone.contains(&(parent, slot))) {
            // Without a step of its own it stays, and so does what is above it.
            return own.is_some();
        }
        at = parent;
    }
    false
}
