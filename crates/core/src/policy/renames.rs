//! Renames: an entry that is new in one place and extra in another is renamed instead of copied.
//!
//! Candidates are found by size and time, and whole folders by a sum over their entries, so that the work is linear
//! in the number of new and extra entries. Folders come before files, from the top down, so that entries are
//! renamed with their folder. Each candidate is then proven: all attributes, and every byte of both sides.

use std::collections::{HashMap, HashSet};

use utter_echo_model::identity::DriveId;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Kind;

use crate::compare::{ExpectedFolders, MovedEntry, Proof, ProvenRename};
use crate::policy::draft::{Draft, DraftFolder};
use crate::policy::may::Permission;
use crate::policy::rename_candidates::{Candidates, StepSlot};
use crate::policy::step::{Relation, Step};

impl Draft<'_> {
    /// Replaces pairs of steps that add and remove the same entry by renames. Entries that are renamed with their
    /// folder count as unchanged.
    pub(super) fn find_renames(&mut self, proof: &dyn Proof) {
        let holds = |wanted: Verb| {
            let mut steps = self.folders.iter().flat_map(|folder| folder.steps.iter().flatten());
            steps.any(|step| step.verb == wanted)
        };
        let example = Step::new(Verb::Rename, Reason::Moved, (None, None));
        let may = self.policy.may(&example, DriveId::default()) == Permission::Yes;
        if !may || !holds(Verb::Add) || !holds(Verb::Remove) {
            return;
        }
        self.sort();
        let mut found = Candidates::of(self);
        found.announce(self, proof);
        let mut search = RenameSearch { proof, found, gone: HashSet::new(), left: HashSet::new() };
        for wanted in [SearchPass::Folders, SearchPass::Files] {
            for at in 0..self.folders.len() {
                if !self.is_dead(at) {
                    search.folder(self, at, wanted);
                }
            }
        }
    }

    pub(crate) fn drive_of_place(&self, (folder, _): StepSlot) -> DriveId {
        self.folders[folder].drive()
    }
}

/// What one pass looks for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum SearchPass {
    Folders,
    Files,
}

struct RenameSearch<'p> {
    proof: &'p dyn Proof,
    found: Candidates,
    /// Removals that became renames.
    gone: HashSet<StepSlot>,
    /// Removals of folders out of which something was renamed, so that they are not what they were.
    left: HashSet<StepSlot>,
}

impl RenameSearch<'_> {
    /// The new entries of one folder.
    fn folder(&mut self, draft: &mut Draft<'_>, at: usize, sought: SearchPass) {
        for slot in 0..draft.folders[at].steps.len() {
            let Some(step) = draft.folders[at].steps[slot] else { continue };
            let is_sought = (step.kind() == Kind::Folder) == (sought == SearchPass::Folders);
            if is_sought && step.verb == Verb::Add && step.relation.is_none() {
                self.entry(draft, (at, slot), &step);
            }
        }
    }

    fn entry(&mut self, draft: &mut Draft<'_>, new: StepSlot, step: &Step) {
        let name: Box<[u8]> = draft.folders[new.0].head.names.get(step.name).into();
        let Some((mark, drive)) = self.found.mark_of_new(draft, new, step) else { return };
        let (gone, left) = (&self.gone, &self.left);
        let is_free = |place: StepSlot| {
            let alive = !draft.is_dead(place.0) && !gone.contains(&place) && !left.contains(&place);
            alive && draft.drive_of_place(place) == drive && !is_below_gone(gone, draft, place.0)
        };
        for old in self.found.candidates(mark, &name, is_free) {
            let moved = MovedEntry {
                source: draft.path(new.0).join(&name),
                destination: draft.path(old.0).join(draft.folders[old.0].name_at(old.1)),
                drive,
                folder: self.found.below.get(&new).copied(),
                wanted: &AddedFolders { folders: &draft.folders, below: &self.found.below },
            };
            if let Some(proven) = self.proof.same(&moved) {
                self.rename(draft, new, old, proven);
                return;
            }
        }
    }

    fn rename(
        &mut self,
        draft: &mut Draft<'_>,
        new: StepSlot,
        old: StepSlot,
        proven: ProvenRename,
    ) {
        let name: Box<[u8]> = draft.folders[old.0].name_at(old.1).into();
        let Some(removal) = draft.step(old).take() else { return };
        self.gone.insert(old);
        self.note_left(draft, old.0);
        let from = draft.name(old.0, name);
        if let Some(step) = draft.step(new) {
            let sides = (step.source, removal.destination);
            *step = Step {
                attributes: proven.attributes,
                relation: Some(Relation::RenameOf(from)),
                name: step.name,
                ..Step::new(Verb::Rename, Reason::Moved, sides)
            };
        }
        if let Some(below) = self.found.below.get(&new).copied() {
            for state in draft.drop_subtree(below) {
                draft.count_unchanged(&state);
            }
        }
        if let Some(below) = self.found.below.get(&old).copied() {
            draft.drop_subtree(below);
        }
    }

    /// The folders above a renamed entry can no longer be renamed as a whole.
    fn note_left(&mut self, draft: &Draft<'_>, mut at: usize) {
        while at != 0 {
            let folder = &draft.folders[at];
            let parent = folder.place.parent as usize;
            if let Some(slot) = draft.folders[parent].slot_of(&folder.head.name) {
                self.left.insert((parent, slot));
            }
            at = parent;
        }
    }
}

/// The planned entries of new folders.
struct AddedFolders<'d> {
    folders: &'d [DraftFolder],
    below: &'d HashMap<StepSlot, usize>,
}

impl ExpectedFolders for AddedFolders<'_> {
    fn names(&self, folder: usize) -> Vec<(&[u8], Option<usize>)> {
        let drafted = &self.folders[folder];
        let steps = drafted.steps.iter().enumerate();
        let named = steps.filter_map(|(slot, step)| {
            let name = drafted.head.names.get((*step)?.name);
            Some((name, self.below.get(&(folder, slot)).copied()))
        });
        named.collect()
    }
}

/// True if a folder above is renamed already.
fn is_below_gone(gone: &HashSet<StepSlot>, draft: &Draft<'_>, mut at: usize) -> bool {
    while at != 0 {
        let folder = &draft.folders[at];
        let parent = folder.place.parent as usize;
        let own = draft.folders[parent].slot_of(&folder.head.name);
        if own.is_none_or(|slot| gone.contains(&(parent, slot))) {
            // Without a step of its own it stays, and so do the folders above.
            return own.is_some();
        }
        at = parent;
    }
    false
}
