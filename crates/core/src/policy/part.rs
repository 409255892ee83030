//! The steps of one pair of roots, compact and in tree order.

use std::collections::HashSet;

use utter_echo_model::path::TreePath;
use utter_echo_model::state::StatesBefore;
use utter_echo_model::verb::{Side, Verb};

use crate::compare::FolderHead;
use crate::policy::reverse_steps;
use crate::policy::source_names::SourceNames;
use crate::policy::step::{NameId, Step};
use crate::policy::step_id::StepId;

/// A name that steps of other names refer to.
#[derive(Debug)]
pub(crate) struct NameElsewhere {
    pub(crate) folder: u32,
    pub(crate) name: Box<[u8]>,
}

/// A folder with steps, or above one.
#[derive(Debug, Default)]
pub(crate) struct PlannedFolder {
    pub(crate) head: FolderHead,
    /// Index of the folder above. The root has index 0 and is its own parent.
    pub(crate) parent: u32,
    /// Steps in the destination, sorted by name.
    pub(crate) steps: Box<[Step]>,
    /// Removals from the source, sorted by name.
    pub(crate) source_removals: Box<[Step]>,
    /// The number of the first step of either list in the plan.
    pub(crate) first: usize,
    pub(crate) first_source_removal: usize,
    /// Something stays in the source's folder.
    pub(crate) source_stays: bool,
    /// For entries with another name than in the source.
    pub(crate) source_names: SourceNames,
}

impl PlannedFolder {
    /// The name of a step in the destination.
    pub(crate) fn name(&self, step: &Step) -> &[u8] {
        self.head.names.get(step.name)
    }

    /// The name of a step in the source, if that differs.
    pub(crate) fn other_name_in_source(&self, step: &Step) -> Option<&[u8]> {
        self.source_names.get(self.name(step))
    }

    /// The source's name of the folder.
    pub(crate) fn name_here(&self) -> &[u8] {
        self.head.source_name.as_deref().unwrap_or(&self.head.name)
    }

    /// The name of a step in the source.
    pub(crate) fn name_in_source(&self, step: &Step) -> &[u8] {
        self.other_name_in_source(step).unwrap_or_else(|| self.name(step))
    }

    /// Its steps that change one side.
    pub(crate) fn list(&self, side: Side) -> &[Step] {
        match side {
            Side::Source => &self.source_removals,
            Side::Destination => &self.steps,
        }
    }

    fn first(&self, side: Side) -> usize {
        match side {
            Side::Source => self.first_source_removal,
            Side::Destination => self.first,
        }
    }

    /// Turns a rename from the source into a copy and a removal.
    pub(crate) fn copy_instead(&mut self, slot: usize) {
        let step = &mut self.steps[slot];
        let Some(now) = step.source else { return };
        let leaves = reverse_steps::leave(now, None, step.name);
        *step = reverse_steps::copy_back(now, step.name);
        let names = &self.head.names;
        let name = names.get(leaves.name);
        let at = self.source_removals.partition_point(|other| names.get(other.name) < name);
        let mut removals = std::mem::take(&mut self.source_removals).into_vec();
        removals.insert(at, leaves);
        self.source_removals = removals.into();
    }

    /// The index of the step of this name.
    pub(crate) fn find(&self, name: &[u8]) -> Option<usize> {
        self.steps.binary_search_by(|step| self.name(step).cmp(name)).ok()
    }
}

/// The part of a plan that belongs to one pair of roots.
#[derive(Debug, Default)]
pub(crate) struct Part {
    /// The step of the root folder itself, which is the first of the part.
    pub(crate) root: Option<Step>,
    /// The removal of the source's root folder, which is the last step of the part.
    pub(crate) root_source_removal: Option<Step>,
    /// The number of its first step, and the number of `root_source_removal`, also if there is none.
    pub(crate) first: usize,
    pub(crate) last: usize,
    /// In tree order: each folder after the one above it.
    pub(crate) folders: Vec<PlannedFolder>,
    /// Targets of hard links and sources of renames.
    pub(crate) elsewhere: Vec<NameElsewhere>,
    /// Set if the part undoes a run: the attributes of entries before that run, by path.
    pub(crate) memory: Option<StatesBefore>,
    /// The source is a set-aside folder, from which entries come back by renames where possible.
    pub(crate) brings_back: bool,
    /// Entries that only look like leftovers of a killed run, by path.
    pub(crate) no_leftovers: HashSet<TreePath>,
    /// Steps were declined, so an entry without a step may be different.
    pub(crate) declined: bool,
}

impl Part {
    /// Numbers its steps, those in the destination first. Returns the next number.
    pub(crate) fn number_from(&mut self, first: usize) -> usize {
        self.first = first;
        let mut next = first + usize::from(self.root.is_some());
        for folder in &mut self.folders {
            folder.first = next;
            next += folder.steps.len();
        }
        for folder in &mut self.folders {
            folder.first_source_removal = next;
            next += folder.source_removals.len();
        }
        self.last = next;
        next + usize::from(self.root_source_removal.is_some())
    }

    /// The number of a step in the plan.
    pub(crate) fn number(&self, id: StepId) -> usize {
        match (id.in_folder(), id.side()) {
            (None, Side::Destination) => self.first,
            (None, Side::Source) => self.last,
            (Some(at), side) => self.folders[at].first(side) + id.slot(),
        }
    }

    /// The step with this number.
    pub(crate) fn id(&self, number: usize) -> Option<StepId> {
        if self.root.is_some() && number == self.first {
            return Some(StepId::of_root(Side::Destination));
        }
        if number == self.last {
            return self.root_source_removal.map(|_| StepId::of_root(Side::Source));
        }
        let is_source_removal = number >= self.folders.first()?.first_source_removal;
        let side = if is_source_removal { Side::Source } else { Side::Destination };
        let begins = |folder: &PlannedFolder| folder.first(side) <= number;
        let at = self.folders.partition_point(begins).checked_sub(1)?;
        let slot = number - self.folders[at].first(side);
        (slot < self.folders[at].list(side).len()).then(|| StepId::new(at, side, slot))
    }

    /// A step that this part has.
    pub(crate) fn step(&self, id: StepId) -> Option<&Step> {
        match (id.in_folder(), id.side()) {
            (None, Side::Destination) => self.root.as_ref(),
            (None, Side::Source) => self.root_source_removal.as_ref(),
            (Some(at), side) => self.folders.get(at)?.list(side).get(id.slot()),
        }
    }

    /// The steps in a folder that change one side.
    pub(crate) fn steps_of(
        &self,
        folder: usize,
        side: Side,
    ) -> impl Iterator<Item = (StepId, &Step)> {
        let steps = self.folders[folder].list(side).iter().enumerate();
        steps.map(move |(slot, step)| (StepId::new(folder, side, slot), step))
    }

    /// All steps in folders that change one side.
    pub(crate) fn steps_on(&self, side: Side) -> impl Iterator<Item = (StepId, &Step)> {
        (0..self.folders.len()).flat_map(move |folder| self.steps_of(folder, side))
    }

    /// All of its steps, in no particular order.
    pub(crate) fn all_ids(&self) -> impl Iterator<Item = StepId> {
        let roots = [Side::Destination, Side::Source].map(StepId::of_root);
        let roots = roots.into_iter().filter(|id| self.step(*id).is_some());
        let below = [Side::Destination, Side::Source].into_iter();
        roots.chain(below.flat_map(|side| self.steps_on(side).map(|(id, _)| id)))
    }

    /// The path of a step on the side that it changes, relative to the part's root.
    pub(crate) fn path(&self, id: StepId) -> TreePath {
        let (Some(at), Some(step)) = (id.in_folder(), self.step(id)) else {
            return TreePath::default();
        };
        match id.side() {
            Side::Source => self.source_path(at).join(self.folders[at].name_in_source(step)),
            Side::Destination => self.folder_path(at).join(self.folders[at].name(step)),
        }
    }

    pub(crate) fn all_steps(&self) -> impl Iterator<Item = &Step> {
        let source_removals = self.folders.iter().flat_map(|folder| &*folder.source_removals);
        let steps = self.folders.iter().flat_map(|folder| &*folder.steps);
        self.root.iter().chain(steps).chain(source_removals).chain(&self.root_source_removal)
    }

    /// For parts from files: something stays in every folder of the source that is not removed.
    pub(crate) fn set_what_stays(&mut self) {
        for at in (0..self.folders.len()).rev() {
            let (folder, above) = (&self.folders[at], self.folders[at].parent as usize);
            let names = &self.folders[above].head.names;
            let mut source_removals = self.folders[above].source_removals.iter();
            let goes = match at {
                0 => self.root_source_removal.is_some(),
                _ => source_removals.any(|step| names.get(step.name) == &*folder.head.name),
            };
            self.folders[at].source_stays = !goes;
        }
    }

    /// True if its root is made, or renamed from the source.
    pub(crate) fn makes_root(&self) -> bool {
        self.root.is_some_and(|step| step.verb == Verb::Add || step.is_taken_over())
    }

    pub(crate) fn has_steps(&self) -> bool {
        self.all_steps().next().is_some()
    }

    pub(crate) fn name(&self, id: NameId) -> &NameElsewhere {
        &self.elsewhere[id.0 as usize]
    }

    /// The old names of renames.
    pub(crate) fn renamed_away(&self) -> impl Iterator<Item = &NameElsewhere> {
        let steps = self.folders.iter().flat_map(|folder| &*folder.steps);
        steps
            .filter(|step| step.verb == Verb::Rename)
            .filter_map(|step| step.renamed_from().map(|id| self.name(id)))
    }

    /// True if the journal of the undone run has the attributes of this entry.
    pub(crate) fn remembers(&self, path: &[u8]) -> bool {
        self.memory.as_ref().is_some_and(|memory| memory.contains_key(path))
    }

    /// Path of a folder in the destination, relative to the part's root.
    pub(crate) fn folder_path(&self, folder: usize) -> TreePath {
        self.path_by(folder, |folder| &folder.head.name)
    }

    /// The same in the source.
    pub(crate) fn source_path(&self, folder: usize) -> TreePath {
        self.path_by(folder, PlannedFolder::name_here)
    }

    fn path_by(&self, mut at: usize, name: impl Fn(&PlannedFolder) -> &[u8]) -> TreePath {
        TreePath::from_deepest(std::iter::from_fn(|| {
            let here = &self.folders[at];
            (at != 0).then(|| {
                at = here.parent as usize;
                name(here)
            })
        }))
    }

    /// The path of a name that steps refer to.
    pub(crate) fn path_of(&self, id: NameId) -> TreePath {
        let NameElsewhere { folder, name } = self.name(id);
        self.folder_path(*folder as usize).join(name)
    }

    /// The step of a folder itself: that of the root, or one in the folder above.
    pub(crate) fn own_step(&self, at: usize) -> Option<(StepId, &Step)> {
        let id = if at == 0 {
            StepId::of_root(Side::Destination)
        } else {
            let folder = &self.folders[at];
            self.find(folder.parent as usize, &folder.head.name)?
        };
        Some((id, self.step(id)?))
    }

    /// The step of a name of a folder in the destination.
    pub(crate) fn find(&self, folder: usize, name: &[u8]) -> Option<StepId> {
        let slot = self.folders[folder].find(name)?;
        Some(StepId::new(folder, Side::Destination, slot))
    }
}
