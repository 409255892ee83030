//! Station: every step a run would take, and why.

mod note;
mod order;
mod state;
mod step;
mod totals;

use std::collections::HashSet;

use crate::os::Kind;
use crate::path::TreePath;
use crate::problem::Problem;
use crate::select::Decided;

pub use note::{NotHeld, Note};
pub use state::State;
pub(crate) use state::{Before, Memory};
pub(crate) use step::{Leader, LeaderId, NameRange};
pub use step::{Reason, Step, UnknownVerb, Verb, Verbs};
pub use totals::{Count, Tally, Totals};

use order::InTreeOrder;

/// Names of the steps of one folder, end to end.
#[derive(Debug, Default)]
pub(crate) struct Names(Vec<u8>);

impl Names {
    /// Keeps a name. Names of one folder together stay far below 4 GiB, one below 64 KiB.
    pub(crate) fn add(&mut self, name: &[u8]) -> NameRange {
        let range = NameRange {
            start: u32::try_from(self.0.len()).unwrap_or(u32::MAX),
            length: u16::try_from(name.len()).unwrap_or(u16::MAX),
        };
        self.0.extend_from_slice(name);
        range
    }

    pub(crate) fn get(&self, range: NameRange) -> &[u8] {
        let start = range.start as usize;
        &self.0[start..start + usize::from(range.length)]
    }

    pub(crate) fn shrink(&mut self) {
        self.0.shrink_to_fit();
    }
}

/// A folder that holds steps, or leads to one that does.
#[derive(Debug)]
pub(crate) struct Folder {
    /// Position of the folder above; the root stands at 0 and is its own.
    pub(crate) parent: u32,
    pub(crate) name: Box<[u8]>,
    /// The folder itself as the source has it, to restore its times; `None` if it is not carried.
    pub(crate) source: Option<State>,
    pub(crate) names: Names,
    /// By name.
    pub(crate) steps: Box<[Step]>,
    /// Number of the first of these steps among all of the plan.
    pub(crate) first: usize,
}

/// The part of a plan that belongs to one pair of roots.
#[derive(Debug, Default)]
pub(crate) struct Part {
    /// What happens to the root folder itself; it is step number `first`.
    pub(crate) root: Option<Step>,
    pub(crate) first: usize,
    /// In tree order, so that each comes after the one above it.
    pub(crate) folders: Vec<Folder>,
    pub(crate) leaders: Vec<Leader>,
    /// Set if the part takes back what a run did: attributes of entries as they were before, by
    /// their paths. The source is then what that run set aside, and what can goes back by name.
    pub(crate) memory: Option<Memory>,
}

impl Part {
    /// The names that renames take away.
    pub(crate) fn renamed_from(&self) -> impl Iterator<Item = &Leader> {
        let steps = self.folders.iter().flat_map(|folder| &*folder.steps);
        let renames = steps.filter(|step| step.verb == Verb::Rename);
        renames.filter_map(|step| step.leader).map(|id| &self.leaders[id.0 as usize])
    }

    /// True if the attributes of this entry are known from the record of the run that is undone.
    pub(crate) fn remembers(&self, path: &[u8]) -> bool {
        self.memory.as_ref().is_some_and(|memory| memory.contains_key(path))
    }

    /// Path of a folder, relative to the part's root.
    pub(crate) fn folder_path(&self, folder: usize) -> TreePath {
        let mut at = folder;
        TreePath::from_deepest(std::iter::from_fn(|| {
            let here = &self.folders[at];
            (at != 0).then(|| {
                at = here.parent as usize;
                &*here.name
            })
        }))
    }
}

/// All steps of a run, with what is known of both sides.
#[derive(Debug, Default)]
pub struct Plan {
    pub(crate) parts: Vec<Part>,
    /// What display paths of each part begin with.
    pub(crate) prefixes: Vec<TreePath>,
    /// Entries that no step was planned for because of a fault, in tree order.
    pub problems: Vec<Problem>,
    /// In no particular order.
    pub notes: Vec<Note>,
    /// Sums.
    pub totals: Totals,
    /// What each rule of the selection decided.
    pub decided: Vec<Decided>,
}

/// A step with its place.
#[derive(Debug)]
pub struct PlacedStep<'a> {
    /// Number of the step, to find its outcome by.
    pub number: usize,
    /// Relative to the destination as the user named it; empty for that folder itself.
    pub path: TreePath,
    /// The step.
    pub step: &'a Step,
    /// For a hard link, the name it becomes another name of.
    pub linked_to: Option<TreePath>,
    /// For a rename, where the entry was.
    pub was: Option<TreePath>,
}

impl Plan {
    /// All steps in tree order: a folder before what it holds, names by their bytes.
    pub fn steps(&self) -> impl Iterator<Item = PlacedStep<'_>> {
        self.parts.iter().zip(&self.prefixes).flat_map(|(part, prefix)| {
            let top = TreePath::default();
            let root =
                part.root.iter().map(move |step| part.placed(prefix, part.first, &top, step));
            let below = InTreeOrder::new(part);
            root.chain(
                below.map(move |(number, path, step)| part.placed(prefix, number, &path, step)),
            )
        })
    }

    /// Takes steps out of the plan, by their numbers, and with them what cannot be done without
    /// them: the removal of a folder of which something stays, and hard links to what is not
    /// written. The others get new numbers.
    pub fn leave_out(&mut self, unwanted: &HashSet<usize>) {
        for part in &mut self.parts {
            part.leave_out(unwanted);
        }
        self.number();
    }

    /// Numbers the steps through and adds them up.
    pub(crate) fn number(&mut self) {
        let mut next = 0;
        let counts = Totals::default();
        self.totals = Totals {
            add: counts.add,
            replace: counts.replace,
            adjust: counts.adjust,
            rename: counts.rename,
            remove: counts.remove,
            leftovers: 0,
            ..self.totals
        };
        for part in &mut self.parts {
            part.first = next;
            next += usize::from(part.root.is_some());
            for folder in &mut part.folders {
                folder.first = next;
                next += folder.steps.len();
            }
            part.all_steps().for_each(|step| self.totals.include(step));
        }
    }

    /// True if there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.totals.steps() == 0
    }
}

impl Part {
    pub(crate) fn all_steps(&self) -> impl Iterator<Item = &Step> {
        self.root.iter().chain(self.folders.iter().flat_map(|folder| &*folder.steps))
    }

    fn leave_out(&mut self, unwanted: &HashSet<usize>) {
        let is_unwanted = |folder: &Folder, at: usize| unwanted.contains(&(folder.first + at));
        // Names of steps that go, by their folders; a folder of which something stays is among them.
        let mut gone: HashSet<(usize, Box<[u8]>)> = HashSet::new();
        for (at, folder) in self.folders.iter().enumerate().rev() {
            let steps = folder.steps.iter().enumerate();
            let going = steps.filter(|(i, _)| is_unwanted(folder, *i));
            let going: Vec<(Box<[u8]>, bool)> = going
                .map(|(_, step)| (folder.names.get(step.name).into(), step.verb == Verb::Remove))
                .collect();
            if going.iter().any(|(_, removal)| *removal) {
                self.stays(at, &mut gone);
            }
            gone.extend(going.into_iter().map(|(name, _)| (at, name)));
        }
        let leader_is_gone = |step: &Step| {
            step.link().is_some_and(|id| {
                let leader = &self.leaders[id.0 as usize];
                gone.contains(&(leader.folder as usize, leader.name.clone()))
            })
        };
        let mut kept = Vec::new();
        for (at, folder) in self.folders.iter().enumerate() {
            let stays = |step: &&Step| {
                let name = folder.names.get(step.name);
                !gone.contains(&(at, name.into())) && !leader_is_gone(step)
            };
            kept.push(folder.steps.iter().filter(stays).copied().collect());
        }
        for (folder, steps) in self.folders.iter_mut().zip(kept) {
            folder.steps = steps;
        }
        self.root = self.root.filter(|_| !unwanted.contains(&self.first));
    }

    /// The steps that would take away a folder of which something stays, and those above it.
    fn stays(&self, mut at: usize, gone: &mut HashSet<(usize, Box<[u8]>)>) {
        while at != 0 {
            let folder = &self.folders[at];
            let parent = folder.parent as usize;
            let above = &self.folders[parent];
            let own = above.steps.iter().find(|step| above.names.get(step.name) == &*folder.name);
            let takes_away = own.is_some_and(|step| {
                step.verb == Verb::Remove
                    || step.verb == Verb::Replace && step.kind() != Kind::Folder
            });
            if !takes_away {
                return;
            }
            gone.insert((parent, folder.name.clone()));
            at = parent;
        }
    }

    fn placed<'a>(
        &self,
        prefix: &TreePath,
        number: usize,
        path: &TreePath,
        step: &'a Step,
    ) -> PlacedStep<'a> {
        let other = self.leader_of(step).map(|path| prefix.join(path.as_bytes()));
        let (linked_to, was) =
            if step.verb == Verb::Rename { (None, other) } else { (other, None) };
        PlacedStep { number, path: prefix.join(path.as_bytes()), step, linked_to, was }
    }

    pub(crate) fn leader_of(&self, step: &Step) -> Option<TreePath> {
        let leader = &self.leaders[step.leader?.0 as usize];
        Some(self.folder_path(leader.folder as usize).join(&leader.name))
    }
}
