//! Which files will be read to prove renames, as far as that can be said before any is: so that they can be read
//! in the order in which they lie.

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

/// A new file and an extra one, by their folders and slots.
type RenamePair = [(u32, u32); 2];

/// What is found to be likely.
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

/// Pairs that are likely, each entry in one of them.
struct PairFinder<'d, 'p> {
    draft: &'d Draft<'p>,
    pairs: Vec<RenamePair>,
    taken: HashSet<StepSlot>,
    /// New folders that are taken for renamed as a whole.
    whole: HashSet<usize>,
}

impl Candidates {
    /// Tells the proof what is going to be asked.
    pub(super) fn tell(&mut self, draft: &Draft<'_>, proof: &dyn Proof) {
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
        // Nothing is taken yet.
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

    /// All that two folders hold that are alike.
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
