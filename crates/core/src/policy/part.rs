//! The steps of one pair of roots, compact and in tree order: what this station hands on.

use utter_echo_model::path::{NameRange, TreePath};
use utter_echo_model::state::StatesBefore;
use utter_echo_model::verb::{Side, Verb};

use crate::compare::FolderHead;
use crate::policy::step::{NameId, Step};

/// A name that steps of other names speak of.
#[derive(Debug)]
pub(crate) struct NameElsewhere {
    pub(crate) folder: u32,
    pub(crate) name: Box<[u8]>,
}

/// The name of an entry, and the one that the source has it under.
pub(crate) type OtherName = (Box<[u8]>, Box<[u8]>);

/// A folder that holds steps, or leads to one that does.
#[derive(Debug, Default)]
pub(crate) struct PlannedFolder {
    pub(crate) head: FolderHead,
    /// Position of the folder above; the root stands at 0 and is its own.
    pub(crate) parent: u32,
    /// By name.
    pub(crate) steps: Box<[Step]>,
    /// Number of the first of these steps among all of the plan.
    pub(crate) first: usize,
    /// What goes from the source's folder, by name.
    pub(crate) vacates: Box<[Step]>,
    /// Number of the first of those.
    pub(crate) first_vacate: usize,
    /// Something stays in the source's folder.
    pub(crate) stays_here: bool,
    /// Names that entries get beside others of theirs, and the source's names of these.
    pub(crate) source_names: Vec<(NameRange, NameRange)>,
}

impl PlannedFolder {
    /// Names of entries that the source has under others, with those.
    pub(crate) fn names_that_differ(&self) -> Vec<OtherName> {
        let name = |range| Box::from(self.head.names.get(range));
        self.source_names.iter().map(|(here, source)| (name(*here), name(*source))).collect()
    }

    /// The source's name of what a step is about, where that is another.
    pub(crate) fn source_names(&self, step: &Step) -> Option<&[u8]> {
        let name = self.head.names.get(step.name);
        let found = self.source_names.iter().find(|(here, _)| self.head.names.get(*here) == name);
        found.map(|(_, source)| self.head.names.get(*source))
    }

    /// The source's name of the folder.
    pub(crate) fn name_here(&self) -> &[u8] {
        self.head.source_name.as_deref().unwrap_or(&self.head.name)
    }

    /// The source's name of what a step is about.
    pub(crate) fn name_of_source(&self, step: &Step) -> &[u8] {
        self.source_names(step).unwrap_or_else(|| self.head.names.get(step.name))
    }

    /// One of its steps, those in the source after the others.
    pub(crate) fn step(&self, slot: usize) -> Option<&Step> {
        self.steps.iter().chain(&*self.vacates).nth(slot)
    }

    /// The name of a step on its own side; and for what arrives the source's name, where that is another.
    pub(crate) fn told_of(&self, step: &Step) -> (&[u8], Option<Vec<u8>>) {
        match step.side {
            Side::Source => (self.name_of_source(step), None),
            Side::Destination => {
                (self.head.names.get(step.name), self.source_names(step).map(<[u8]>::to_vec))
            }
        }
    }

    /// Where the step of this name stands among its steps.
    pub(crate) fn find(&self, name: &[u8]) -> Option<usize> {
        self.steps.binary_search_by(|step| self.head.names.get(step.name).cmp(name)).ok()
    }
}

/// The part of a plan that belongs to one pair of roots.
#[derive(Debug, Default)]
pub(crate) struct Part {
    /// What happens to the root folder itself; it is step number `first`.
    pub(crate) root: Option<Step>,
    /// The source's root folder goes when all in it went; the last of the part's steps.
    pub(crate) root_vacate: Option<Step>,
    pub(crate) first: usize,
    /// In tree order, so that each comes after the one above it.
    pub(crate) folders: Vec<PlannedFolder>,
    /// Names that hard links are made to, and that renames take away.
    pub(crate) elsewhere: Vec<NameElsewhere>,
    /// Set if the part takes back what a run did: attributes of entries as they were before, by
    /// their paths. The source is then what that run set aside, and what can goes back by name.
    pub(crate) memory: Option<StatesBefore>,
    /// Steps were declined, so what has none was not all done before.
    pub(crate) declined: bool,
}

/// Where a step stands in its part.
pub(crate) enum StepLocation<'a> {
    /// It is about a root itself.
    Root(&'a Step),
    /// In which folder, and which of the folder's steps, those in the source after the others.
    Below(usize, usize),
}

impl Part {
    /// Where the step with this number stands.
    pub(crate) fn at(&self, number: usize) -> Option<StepLocation<'_>> {
        let own = self.root.as_ref().filter(|_| number == self.first);
        let last = || self.root_vacate.as_ref().filter(|_| number == self.number_of_root_vacate());
        if let Some(step) = own.or_else(last) {
            return Some(StepLocation::Root(step));
        }
        // The numbers of all vacates follow those of all other steps.
        let first_vacate = self.folders.first()?.first_vacate;
        let first = |folder: &PlannedFolder| {
            if number < first_vacate { folder.first } else { folder.first_vacate }
        };
        let at = self.folders.partition_point(|folder| first(folder) <= number).checked_sub(1)?;
        let folder = &self.folders[at];
        let before = if number < first_vacate { 0 } else { folder.steps.len() };
        Some(StepLocation::Below(at, before + number - first(folder)))
    }

    pub(crate) fn all_steps(&self) -> impl Iterator<Item = &Step> {
        let vacates = self.folders.iter().flat_map(|folder| &*folder.vacates);
        let steps = self.folders.iter().flat_map(|folder| &*folder.steps);
        self.root.iter().chain(steps).chain(vacates).chain(&self.root_vacate)
    }

    /// Of what was written down: something stays in every folder of the source that does not go itself.
    pub(crate) fn tell_what_stays(&mut self) {
        for at in (0..self.folders.len()).rev() {
            let (folder, above) = (&self.folders[at], self.folders[at].parent as usize);
            let names = &self.folders[above].head.names;
            let mut vacates = self.folders[above].vacates.iter();
            let goes = match at {
                0 => self.root_vacate.is_some(),
                _ => vacates.any(|step| names.get(step.name) == &*folder.head.name),
            };
            self.folders[at].stays_here = !goes;
        }
    }

    /// The number of the last of its steps.
    pub(crate) fn number_of_root_vacate(&self) -> usize {
        let last = self.folders.last();
        last.map_or(self.first, |folder| folder.first_vacate + folder.vacates.len())
    }

    /// Its root is made, or comes from the source.
    pub(crate) fn makes_root(&self) -> bool {
        self.root.is_some_and(|step| step.verb == Verb::Add || step.is_taken_over())
    }

    pub(crate) fn has_steps(&self) -> bool {
        self.all_steps().next().is_some()
    }

    pub(crate) fn name(&self, id: NameId) -> &NameElsewhere {
        &self.elsewhere[id.0 as usize]
    }

    /// The names that renames take away.
    pub(crate) fn renamed_away(&self) -> impl Iterator<Item = &NameElsewhere> {
        let steps = self.folders.iter().flat_map(|folder| &*folder.steps);
        steps
            .filter(|step| step.verb == Verb::Rename)
            .filter_map(|step| step.renamed_from().map(|id| self.name(id)))
    }

    /// True if the attributes of this entry are known from the notes of the run that is undone.
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

    /// What has another path in the source than in the destination, with both, the deepest last.
    pub(crate) fn paths_that_differ(&self) -> Vec<(TreePath, TreePath)> {
        let all = || self.folders.iter().enumerate();
        let renamed = all().filter(|(_, folder)| folder.head.source_name.is_some());
        let renamed = renamed.map(|(at, _)| (self.source_path(at), self.folder_path(at)));
        let beside = all().flat_map(|(at, folder)| {
            folder.source_names.iter().map(move |(name, source)| {
                let here = self.source_path(at).join(folder.head.names.get(*source));
                (here, self.folder_path(at).join(folder.head.names.get(*name)))
            })
        });
        let mut paths: Vec<_> = renamed.chain(beside).collect();
        paths.sort_by_key(|(here, _)| here.as_bytes().len());
        paths
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

    /// Path of a name that steps speak of.
    pub(crate) fn path_of(&self, id: NameId) -> TreePath {
        let NameElsewhere { folder, name } = self.name(id);
        self.folder_path(*folder as usize).join(name)
    }

    /// A folder's own step: that of the root, or among those of the folder above.
    pub(crate) fn own_step(&self, at: usize) -> Option<(usize, &Step)> {
        if at == 0 {
            return self.root.as_ref().map(|step| (self.first, step));
        }
        let folder = &self.folders[at];
        let above = &self.folders[folder.parent as usize];
        let own = above.find(&folder.head.name)?;
        Some((above.first + own, &above.steps[own]))
    }
}
