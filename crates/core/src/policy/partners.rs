//! Restoring hard links in an undo: an entry that comes back is linked to another name of its file that is there.

use std::cmp::Ordering;
use std::collections::HashMap;

use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::state::{FolderIdentity, State};
use utter_echo_model::verb::{Reason, Verb};

use crate::compare::FolderHead;
use crate::policy::part::{NameElsewhere, Part, PlannedFolder};
use crate::policy::step::{NameId, Relation, Step};

/// The folder and index of a step.
type StepPlace = (usize, usize);

/// Hard links of one file that come back.
#[derive(Debug)]
pub(crate) struct RestoredLinks {
    /// All their paths.
    pub(crate) paths: Vec<TreePath>,
    /// The name that exists already, if any.
    pub(crate) partner: Option<LinkPartner>,
}

/// A name that stayed when other names of the same file were moved.
#[derive(Debug)]
pub(crate) struct LinkPartner {
    /// The folders that lead to it, from the root down, with their inode numbers.
    pub(crate) folders: Vec<(Box<[u8]>, u64)>,
    /// Its name, without a folder.
    pub(crate) name: Box<[u8]>,
    /// The file as it is now.
    pub(crate) state: State,
}

impl LinkPartner {
    /// Its path, relative to the root.
    pub(crate) fn path(&self) -> TreePath {
        let mut path = TreePath::default();
        self.folders.iter().for_each(|(name, _)| path.push(name));
        path.join(&self.name)
    }
}

/// True for an entry that shows nothing else than another. Whether both hold the same is found out before the one that it
/// comes from goes.
fn is_like(one: &State, other: &State) -> bool {
    let of = |state: &State| {
        let owner = (state.uid, state.gid);
        (state.kind, state.size, state.modified(), state.mode(), owner, state.flags())
    };
    of(one) == of(other)
}

/// True for a step that makes the entry, which a link may do as well.
fn brings(step: &Step) -> bool {
    matches!(step.verb, Verb::Add | Verb::Replace)
        && matches!(step.reason, Reason::New | Reason::Before)
}

/// Turns steps into links. Knows the index of each folder of the part.
pub(crate) struct Linker<'a> {
    pub(crate) part: &'a mut Part,
    places: HashMap<TreePath, usize>,
    /// Where renames of the part lead to.
    renamed: HashMap<TreePath, TreePath>,
}

/// Whether a path may become a link to the partner, or to an earlier path if there is none.
pub(crate) type MayShare<'a> = &'a dyn Fn(Option<&LinkPartner>, &TreePath, &TreePath) -> bool;

impl<'a> Linker<'a> {
    pub(crate) fn new(part: &'a mut Part) -> Self {
        let places = (0..part.folders.len()).map(|at| (part.folder_path(at), at)).collect();
        let mut renamed = HashMap::new();
        for (at, folder) in part.folders.iter().enumerate() {
            for step in &folder.steps {
                let to = || part.folder_path(at).join(folder.name(step));
                renamed.extend(step.renamed_from().map(|from| (part.path_of(from), to())));
            }
        }
        Self { part, places, renamed }
    }

    /// Restores hard links of before. Without `proof` names may share a file if they look the same.
    pub(crate) fn restore(&mut self, group: &RestoredLinks, proof: Option<MayShare<'_>>) {
        let RestoredLinks { paths, partner } = group;
        self.copy_what_is_linked(group);
        let brought = |path: &&TreePath| self.step_at(path).is_some_and(brings);
        let brought: Vec<&TreePath> = paths.iter().filter(brought).collect();
        let Some(first) = brought.first() else { return };
        let may_share = |partner: Option<&LinkPartner>, path: &TreePath| match proof {
            Some(proof) => proof(partner, first, path),
            None => self.looks_like(partner, first, path),
        };
        let partner = partner.as_ref().filter(|partner| may_share(Some(partner), first));
        let others = brought[1..].iter().filter(|path| may_share(partner, path));
        let linked: Vec<&TreePath> =
            partner.map(|_| *first).into_iter().chain(others.copied()).collect();
        if linked.is_empty() {
            return;
        }
        let leader = match partner {
            Some(partner) => Some(self.name_of(partner)),
            None => self.name_at(first),
        };
        let Some(leader) = leader else { return };
        let leads = self.part.path_of(leader);
        for path in linked.into_iter().filter(|path| **path != leads) {
            self.link(path, leader);
        }
    }

    /// True if both paths bring what looks the same, or the same as the partner.
    fn looks_like(&self, partner: Option<&LinkPartner>, first: &TreePath, path: &TreePath) -> bool {
        let state = |path: &TreePath| self.step_at(path).and_then(|step| step.source);
        let other = partner.map(|partner| partner.state).or_else(|| state(first));
        state(path).zip(other).is_some_and(|(one, other)| is_like(&one, &other))
    }

    /// A future link cannot be renamed into its place, and all names of one file are moved in the same way.
    fn copy_what_is_linked(&mut self, RestoredLinks { paths, partner }: &RestoredLinks) {
        let places: Vec<Option<StepPlace>> =
            paths.iter().map(|path| self.position_of(path)).collect();
        let renames = |(at, slot): StepPlace| self.part.folders[at].steps[slot].is_taken_over();
        let all_rename = places.iter().all(|place| place.is_some_and(renames));
        for (at, slot) in places.into_iter().flatten() {
            let step = self.part.folders[at].steps[slot];
            let is_linked = || {
                let other = step.source.zip(partner.as_ref());
                other.is_some_and(|(now, partner)| is_like(&now, &partner.state))
            };
            if step.is_taken_over() && (!all_rename || is_linked()) {
                self.part.folders[at].copy_instead(slot);
            }
        }
    }

    /// Turns the step of a path into a link.
    fn link(&mut self, path: &TreePath, partner: NameId) {
        if let Some((at, slot)) = self.position_of(path) {
            self.part.folders[at].steps[slot].relation = Some(Relation::LinkOf(partner));
        }
    }

    /// The name that a partner has when others are linked to it.
    fn name_of(&mut self, partner: &LinkPartner) -> NameId {
        let renamed = self.renamed.get(&partner.path()).cloned();
        if let Some(name) = renamed.and_then(|to| self.name_at(&to)) {
            return name;
        }
        let folder = self.lead_to(partner);
        self.remember(folder, partner.name.clone())
    }

    /// The same for a path; `None` if its folder takes no part.
    fn name_at(&mut self, path: &TreePath) -> Option<NameId> {
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

    fn position_of(&self, path: &TreePath) -> Option<StepPlace> {
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
