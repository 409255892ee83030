//! Restoring hard links in an undo: an entry that comes back is linked to another name of its file that is there.

use std::cmp::Ordering;
use std::collections::HashMap;

use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::state::{FolderIdentity, State};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_select::{LinkPartner, RestoredLinks, Selection};

use crate::compare::FolderHead;
use crate::policy::draft::Draft;
use crate::policy::part::{NameElsewhere, Part, PlannedFolder};
use crate::policy::step::{NameId, Relation, Step};

/// The folder and index of a step.
type DraftStep = (usize, usize);

impl Draft<'_> {
    /// A future link cannot be renamed into its place, and all names of one file are moved in the same way.
    pub(super) fn copy_what_is_linked(&mut self) {
        let groups = self.policy.selection.groups();
        if groups.is_empty() {
            return;
        }
        let paths = (0..self.folders.len()).map(|at| (self.path(at), at));
        let places: HashMap<TreePath, usize> = paths.collect();
        for RestoredLinks { paths, partner } in groups {
            let found = |path: &TreePath| self.find_step(&places, path);
            let steps: Vec<Option<DraftStep>> = paths.iter().map(found).collect();
            let pass = |place: &DraftStep| {
                self.folders[place.0].steps[place.1]
                    .is_some_and(|step| step.reason == Reason::TakenOver)
            };
            let all_pass = steps.iter().all(|place| place.as_ref().is_some_and(pass));
            for (at, slot) in steps.into_iter().flatten() {
                let Some(step) = &mut self.folders[at].steps[slot] else { continue };
                let is_linked = || partner.as_ref().is_some_and(|p| is_like(step, &p.state));
                if step.reason == Reason::TakenOver && (!all_pass || is_linked()) {
                    step.reason = Reason::New;
                }
            }
        }
    }

    fn find_step(&self, places: &HashMap<TreePath, usize>, path: &TreePath) -> Option<DraftStep> {
        let (above, name) = path.split_last();
        let at = *places.get(&TreePath::from(above))?;
        let folder = &self.folders[at];
        let is_it =
            |step: &Option<Step>| step.is_some_and(|s| folder.head.names.get(s.name) == name);
        Some((at, folder.steps.iter().position(is_it)?))
    }
}

/// True for a step that adds what shows nothing else than that. Whether both hold the same is found out before the one
/// that it comes from goes.
fn is_like(step: &Step, other: &State) -> bool {
    let of = |state: &State| {
        let owner = (state.uid, state.gid);
        (state.kind, state.size, state.modified(), state.mode(), owner, state.flags())
    };
    step.verb == Verb::Add && step.source.is_some_and(|source| of(&source) == of(other))
}

/// Turns steps into links. Knows the index of each folder of the part.
pub(crate) struct Linker<'a> {
    pub(crate) part: &'a mut Part,
    places: HashMap<TreePath, usize>,
}

impl<'a> Linker<'a> {
    pub(crate) fn new(part: &'a mut Part) -> Self {
        let places = (0..part.folders.len()).map(|at| (part.folder_path(at), at)).collect();
        Self { part, places }
    }

    /// Restores the hard links of before, whatever is linked where the entries come from.
    pub(super) fn group_as_before(&mut self, selection: &Selection) {
        let mut apart = Vec::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            for (slot, step) in folder.steps.iter().enumerate() {
                let Some(leader) = step.link() else { continue };
                let path = self.part.folder_path(at).join(folder.head.names.get(step.name));
                if !selection.may_share(&path, &self.part.path_of(leader)) {
                    apart.push((at, slot));
                }
            }
        }
        for (at, slot) in apart {
            self.part.folders[at].steps[slot].relation = None;
        }
        selection.groups().iter().for_each(|group| self.link_group(group));
    }

    fn link_group(&mut self, RestoredLinks { paths, partner }: &RestoredLinks) {
        let mut steps = paths.iter().filter_map(|path| Some((path, *self.step_at(path)?)));
        let first = steps.find(|(_, step)| step.verb == Verb::Add && step.reason == Reason::New);
        let Some((first, leading)) = first else { return };
        let leads = partner.as_ref().filter(|partner| is_like(&leading, &partner.state));
        // It may be linked to one of them already.
        let leader = match leads {
            Some(partner) => Some(self.name_of(partner)),
            None => leading.link().or_else(|| self.name_at(first)),
        };
        let Some(leader) = leader else { return };
        let leads = self.part.path_of(leader);
        for path in paths.iter().filter(|path| **path != leads) {
            let is_like = |step: &Step| leading.source.is_some_and(|first| is_like(step, &first));
            if self.step_at(path).is_some_and(is_like) {
                self.link(path, leader);
            }
        }
    }

    /// Turns the step of a path into a link.
    pub(crate) fn link(&mut self, path: &TreePath, partner: NameId) {
        if let Some((at, slot)) = self.position_of(path) {
            self.part.folders[at].steps[slot].relation = Some(Relation::LinkOf(partner));
        }
    }

    /// The name of a partner, for steps to refer to.
    pub(crate) fn name_of(&mut self, partner: &LinkPartner) -> NameId {
        let folder = self.lead_to(partner);
        self.remember(folder, partner.name.clone())
    }

    /// The same for a path; `None` if its folder takes no part.
    pub(crate) fn name_at(&mut self, path: &TreePath) -> Option<NameId> {
        let (above, name) = path.split_last();
        let folder = self.folder_at(above)?;
        Some(self.remember(folder, name.into()))
    }

    fn remember(&mut self, folder: usize, name: Box<[u8]>) -> NameId {
        let id = NameId(number(self.part.elsewhere.len()));
        self.part.elsewhere.push(NameElsewhere { folder: number(folder), name });
        id
    }

    /// The step for a path.
    pub(crate) fn step_at(&self, path: &TreePath) -> Option<&Step> {
        self.position_of(path).map(|(at, slot)| &self.part.folders[at].steps[slot])
    }

    fn position_of(&self, path: &TreePath) -> Option<DraftStep> {
        let (above, name) = path.split_last();
        let at = self.folder_at(above)?;
        Some((at, self.part.folders[at].find(name)?))
    }

    fn folder_at(&self, path: &[u8]) -> Option<usize> {
        self.places.get(&TreePath::from(path)).copied()
    }

    /// The folder of a partner, which is added if it takes no part yet.
    fn lead_to(&mut self, partner: &LinkPartner) -> usize {
        let (mut at, mut path) = (0, TreePath::default());
        for (name, inode) in &partner.folders {
            path.push(name);
            at = self.folder_at(path.as_bytes()).unwrap_or_else(|| {
                let drive = DriveId::default();
                let known = FolderIdentity { source: None, destination: Some(*inode), drive };
                let (parent, name) = (number(at), name.clone());
                self.insert(
                    at,
                    &path,
                    PlannedFolder {
                        parent,
                        head: FolderHead { name, known, ..FolderHead::default() },
                        ..PlannedFolder::default()
                    },
                )
            });
        }
        at
    }

    /// Inserts a folder into another one. Returns its index.
    fn insert(&mut self, parent: usize, path: &TreePath, folder: PlannedFolder) -> usize {
        // In tree order the folders in a folder follow it by name, each before its own.
        let comes_before = |next: &PlannedFolder| match (next.parent as usize).cmp(&parent) {
            Ordering::Less => false,
            Ordering::Equal => next.head.name < folder.head.name,
            Ordering::Greater => true,
        };
        let after = self.part.folders[parent + 1..].iter().take_while(|next| comes_before(next));
        let new = parent + 1 + after.count();
        let parents = self.part.folders.iter_mut().map(|folder| &mut folder.parent);
        let spoken_of = self.part.elsewhere.iter_mut().map(|named| &mut named.folder);
        for at in parents.chain(spoken_of) {
            *at += u32::from(*at >= number(new));
        }
        self.places.values_mut().for_each(|at| *at += usize::from(*at >= new));
        self.places.insert(path.clone(), new);
        self.part.folders.insert(new, folder);
        new
    }
}

fn number(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(u32::MAX)
}
