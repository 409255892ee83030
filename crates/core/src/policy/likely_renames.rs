//! Predicting which files will be read to prove renames, so that they can be read in disk order.

use crate::policy::rename_candidates;
use std::collections::HashSet;

use utter_echo_model::path::TreePath;
use utter_echo_model::state::State;
use utter_echo_model::verb::Verb;
use utter_echo_os::Kind;

use crate::compare::{LikelyRenames, Proof};
use crate::policy::draft::{Draft, DraftFolder, path_in};
use crate::policy::rename_candidates::{Candidates, StepSlot};
use crate::policy::step::Step;

/// A new file and an extra file, by their folders and indexes.
type RenamePair = [(u32, u32); 2];

/// The likely renames.
struct RenamePairs<'d> {
    folders: &'d [DraftFolder],
    pairs: Vec<RenamePair>,
}

impl RenamePairs<'_> {
    fn path(&self, (at, slot): (u32, u32)) -> TreePath {
        let name = self.folders[at as usize].name_at(slot as usize);
        path_in(self.folders, at as usize).join(name)
    }

    fn step(&self, (at, slot): (u32, u32)) -> Option<&Step> {
        self.folders[at as usize].steps[slot as usize].as_ref()
    }
}

impl LikelyRenames for RenamePairs<'_> {
    fn count(&self) -> usize {
        self.pairs.len()
    }

    fn paths(&self, number: usize) -> (TreePath, TreePath) {
        let [new, old] = self.pairs[number];
        (self.path(new), self.path(old))
    }

    fn inodes(&self, number: usize) -> (u64, u64) {
        let [new, old] = self.pairs[number].map(|place| self.step(place));
        let source = new.and_then(|step| step.source);
        let destination = old.and_then(|step| step.destination);
        let inode = |state: Option<State>| state.map_or(0, |state| state.inode);
        (inode(source), inode(destination))
    }
}

/// Likely pairs; each entry is in at most one.
struct PairFinder<'d, 'p> {
    draft: &'d Draft<'p>,
    pairs: Vec<RenamePair>,
    taken: HashSet<StepSlot>,
    /// New folders that are likely renamed as a whole.
    whole: HashSet<usize>,
}

impl Candidates {
    /// Announces to the proof what it will be asked.
    pub(super) fn announce(&mut self, draft: &Draft<'_>, proof: &dyn Proof) {
        if !proof.expects() {
            return;
        }
        let (taken, whole) = (HashSet::new(), HashSet::new());
        let mut likely = PairFinder { draft, pairs: Vec::new(), taken, whole };
        for kind in [Kind::Folder, Kind::File] {
            for at in 0..draft.folders.len() {
                likely.folder(self, at, kind);
            }
        }
        proof.expect(&RenamePairs { folders: &draft.folders, pairs: likely.pairs });
        // No rename is decided yet.
        self.extra.begins.clear();
        self.extra_by_name.begins.clear();
    }
}

impl PairFinder<'_, '_> {
    fn folder(&mut self, found: &mut Candidates, at: usize, kind: Kind) {
        if self.whole.contains(&at) {
            return;
        }
        let draft = self.draft;
        for (slot, step) in draft.folders[at].steps.iter().enumerate() {
            let sought = |step: &&Step| step.kind() == kind && step.verb == Verb::Add;
            let Some(step) = step.as_ref().filter(sought) else { continue };
            let Some((mark, drive)) = found.mark_of_new(draft, (at, slot), step) else { continue };
            let name = draft.folders[at].name_at(slot);
            let taken = &self.taken;
            let is_free =
                |place: StepSlot| !taken.contains(&place) && draft.drive_of_place(place) == drive;
            let Some(old) = found.candidates(mark, name, is_free).first().copied() else {
                continue;
            };
            self.taken.insert(old);
            match (found.below.get(&(at, slot)), found.below.get(&old)) {
                (Some(new), Some(old)) => self.whole(found, *new, *old),
                _ => self.pairs.push([narrow((at, slot)), narrow(old)]),
            }
        }
    }

    /// Adds the entries of two folders that are likely the same.
    fn whole(&mut self, found: &Candidates, new: usize, old: usize) {
        self.whole.insert(new);
        let draft = self.draft;
        for (slot, step) in draft.folders[new].steps.iter().enumerate() {
            let other = draft.folders[old].slot_of(draft.folders[new].name_at(slot));
            let (Some(step), Some(other)) = (step, other) else { continue };
            let below = (found.below.get(&(new, slot)), found.below.get(&(old, other)));
            match below {
                (Some(new), Some(old)) => self.whole(found, *new, *old),
                _ if step.kind() == Kind::File && step.bytes() > 0 => {
                    self.pairs.push([narrow((new, slot)), narrow((old, other))]);
                }
                _ => {}
            }
        }
    }
}

fn narrow((folder, slot): StepSlot) -> (u32, u32) {
    (rename_candidates::narrow(folder), rename_candidates::narrow(slot))
}
