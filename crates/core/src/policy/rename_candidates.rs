//! Removals that may belong to a rename.

use std::collections::{HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};

use utter_echo_model::identity::DriveId;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Kind, Time};

use crate::policy::draft::{Draft, DraftFolder, folders_by_step};
use crate::policy::step::Step;

/// The most candidates of one size and time that are read.
const TRIED: usize = 4;

/// A step, by its folder and index.
pub(super) type StepSlot = (usize, usize);

/// A hash that differs for entries that cannot be the same.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct RenameMark(u64);

pub(super) fn mark(parts: impl Hash) -> RenameMark {
    let mut hasher = DefaultHasher::new();
    parts.hash(&mut hasher);
    RenameMark(hasher.finish())
}

impl RenameMark {
    fn with(self, name: &[u8]) -> Self {
        mark((self.0, name))
    }
}

/// Steps by their marks. Used steps are skipped once and never checked again, so that equal marks cost no more than
/// different ones.
#[derive(Default)]
pub(super) struct RemovalsByMark {
    steps: Vec<(RenameMark, u32, u32)>,
    /// The index of the first step of a mark that may be free.
    pub(crate) begins: HashMap<u64, usize>,
}

impl RemovalsByMark {
    fn add(&mut self, mark: RenameMark, (folder, slot): StepSlot) {
        self.steps.push((mark, narrow(folder), narrow(slot)));
    }

    fn sort(&mut self) {
        self.steps.sort_unstable();
    }

    /// The first free steps of a mark, in tree order.
    fn free(&mut self, mark: RenameMark, is_free: impl Fn(StepSlot) -> bool) -> Vec<StepSlot> {
        let steps = &self.steps;
        let begin = self.begins.entry(mark.0);
        let begin = begin.or_insert_with(|| steps.partition_point(|(other, ..)| *other < mark));
        let place = |(_, folder, slot): &(RenameMark, u32, u32)| (*folder as usize, *slot as usize);
        let fits = |at: usize| steps.get(at).filter(|(other, ..)| *other == mark).map(place);
        while fits(*begin).is_some_and(|place| !is_free(place)) {
            *begin += 1;
        }
        (*begin..*begin + TRIED).map_while(fits).filter(|place| is_free(*place)).collect()
    }
}

/// Removals that may belong to renames, by their marks, and the marks of new folders.
pub(super) struct Candidates {
    pub(crate) extra: RemovalsByMark,
    /// The same by marks that include the name.
    pub(crate) extra_by_name: RemovalsByMark,
    new_folders: HashMap<StepSlot, RenameMark>,
    /// The folder that a step adds or removes, if there are steps in it.
    pub(crate) below: HashMap<StepSlot, usize>,
    /// Names that others are linked to.
    spoken_of: HashSet<(usize, Box<[u8]>)>,
}

impl Candidates {
    pub(crate) fn of(draft: &Draft<'_>) -> Self {
        let spoken_of = draft.elsewhere.iter();
        let mut found = Self {
            extra: RemovalsByMark::default(),
            extra_by_name: RemovalsByMark::default(),
            new_folders: HashMap::new(),
            below: folders_by_step(&draft.folders),
            spoken_of: spoken_of.map(|name| (name.folder as usize, name.name.clone())).collect(),
        };
        // From the deepest up, so that the marks of a folder's entries are known.
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
                        let name = folder.head.names.get(step.name);
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

    /// A sum over the entries of a folder, independent of their order; `None` unless all of them are new, or all
    /// are extra.
    fn sum(&self, draft: &Draft<'_>, at: usize, sums: &HashMap<usize, Option<u64>>) -> Option<u64> {
        let folder = &draft.folders[at];
        let verb = folder.steps.iter().flatten().next()?.verb;
        folder.steps.iter().enumerate().try_fold(0_u64, |sum, (slot, step)| {
            let Some(step) = step else { return Some(sum) };
            let name = folder.head.names.get(step.name);
            if step.verb != verb {
                return None;
            }
            let RenameMark(own) = if step.kind() == Kind::File {
                let state = step.source.or(step.destination)?;
                mark((state.size, time_of(draft, folder, step)?))
            } else {
                self.mark(draft, (at, slot), step, sums)?
            };
            Some(sum.wrapping_add(mark((name, own)).0))
        })
    }

    /// The mark of a new entry that may have been renamed, and its drive.
    pub(crate) fn mark_of_new(
        &self,
        draft: &Draft<'_>,
        new: StepSlot,
        step: &Step,
    ) -> Option<(RenameMark, DriveId)> {
        let folder = &draft.folders[new.0];
        let name = folder.head.names.get(step.name);
        let is_spoken_of = || self.spoken_of.contains(&(new.0, name.into()));
        let mark = match step.kind() {
            // All empty folders are equal.
            Kind::Folder if self.below.contains_key(&new) => self.new_folders.get(&new).copied(),
            Kind::File if step.bytes() > 0 && !is_spoken_of() => {
                time_of(draft, folder, step).map(|time| mark((Kind::File, step.bytes(), time)))
            }
            _ => None,
        };
        let drive = draft.drive_of_place(new);
        Some((mark.filter(|_| draft.policy.drives.renames(drive))?, drive))
    }

    /// The candidates for a new entry with this mark and name. One with the same name comes first.
    pub(crate) fn candidates(
        &mut self,
        mark: RenameMark,
        name: &[u8],
        is_free: impl Fn(StepSlot) -> bool,
    ) -> Vec<StepSlot> {
        let mut candidates = self.extra_by_name.free(mark.with(name), &is_free);
        candidates.extend(self.extra.free(mark, is_free));
        candidates
    }

    /// The mark of a new or extra entry, if it can be part of a rename.
    fn mark(
        &self,
        draft: &Draft<'_>,
        place: StepSlot,
        step: &Step,
        sums: &HashMap<usize, Option<u64>>,
    ) -> Option<RenameMark> {
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
        // An empty folder is made as fast as renamed.
        let sum = match self.below.get(&place) {
            Some(below) => (*sums.get(below)?)?,
            None => 0,
        };
        Some(mark((kind, sum)))
    }
}

/// A number of a folder or a step, as plans hold them.
pub(crate) fn narrow(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

/// A modification time as the destination's drive keeps it.
fn time_of(draft: &Draft<'_>, folder: &DraftFolder, step: &Step) -> Option<Time> {
    let kept = |time| draft.policy.drives.nearest(folder.drive(), time);
    match step.verb {
        Verb::Add => step.source.map(|state| kept(state.modified())),
        _ => step.destination.map(|state| state.modified()),
    }
}
