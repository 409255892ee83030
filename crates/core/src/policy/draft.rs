//! The folders of a part while their steps may still change.

use std::collections::{HashMap, HashSet};
use std::convert::identity;

use utter_echo_model::identity::DriveId;
use utter_echo_model::path::{NameRange, TreePath};
use utter_echo_model::problem::Problem;
use utter_echo_model::state::State;
use utter_echo_model::verb::Reason;

use crate::compare::{ComparedFolder, FolderHead, LinkedName, Presence};
use crate::policy::decisions::Decisions;
use crate::policy::part::{NameElsewhere, Part, PlannedFolder};
use crate::policy::source_names::SourceNames;
use crate::policy::step::{NameId, Step};
use crate::policy::terms::Policy;
use crate::request::RenamePath;

/// Where a folder stands among the others.
#[derive(Debug)]
pub(super) struct DraftPlace {
    /// In closing order; after [`Draft::arrange`] nobody asks any more.
    children: Vec<usize>,
    /// Position of the folder above, once all stand in tree order.
    pub(super) parent: u32,
    /// Names of the steps, once they were sorted by them; a step may be gone by then.
    order: Vec<NameRange>,
}

/// How much was not decided to be done.
#[derive(Debug)]
pub(super) struct PassedOver {
    /// Entries in it that an option holds back.
    pub(super) held_back: u64,
    /// Files in it that are newer in the destination, and stay for that.
    pub(super) spared_newer: u64,
}

/// A folder in which something is decided.
#[derive(Debug)]
pub(super) struct DraftFolder {
    pub(super) head: FolderHead,
    pub(super) presence: Presence,
    pub(super) steps: Vec<Option<Step>>,
    /// What goes from the source.
    pub(super) vacates: Vec<Step>,
    /// Something stays in the source's folder.
    pub(super) stays_here: bool,
    /// Names of entries that the source has under others, and those.
    pub(super) source_names: SourceNames,
    pub(super) linked: Vec<LinkedDraft>,
    pub(super) status: SubtreeStatus,
    pub(super) place: DraftPlace,
    pub(super) passed_over: PassedOver,
}

/// What becomes of the steps in a folder for the sake of the folder itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum SubtreeStatus {
    /// They may be taken.
    Open,
    /// The folder was to give way to something else, or to take its place, and an option forbids it.
    Held,
    /// The folder is not made, which a problem reports.
    Lost,
}

/// A name of an entry with several, and what was decided about it as if it had no other.
#[derive(Debug)]
pub(super) struct LinkedDraft {
    pub(super) facts: LinkedName,
    pub(super) alone: OwnDecision,
}

/// What was decided about a name for itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum OwnDecision {
    /// The two sides agree.
    Right,
    /// A step is planned, in this place.
    Planned(usize),
    /// They differ, and it stays so.
    Stays,
}

/// The roots of a draft.
pub(crate) struct DraftRoot {
    /// The source's root folder, if it may go.
    pub(super) state: Option<State>,
    /// The source's root folder could be renamed, if all in it comes along.
    pub(super) rename_path: RenamePath,
    /// All in it does.
    pub(super) comes_along: bool,
}

/// What is decided so far about one pair of roots.
pub(crate) struct Draft<'a> {
    pub(super) policy: &'a Policy<'a>,
    pub(super) folders: Vec<DraftFolder>,
    pub(super) elsewhere: Vec<NameElsewhere>,
    /// Folders that a rename took along, with all they held.
    dropped: HashSet<usize>,
    pub(super) decided: Decisions,
    /// Folders of the source from which something was to go, and that cannot be changed; and whether nothing goes
    /// from what is in them either.
    pub(super) locked: Vec<(Problem, bool)>,
    /// All that was to go stays in the source since that cannot be changed.
    pub(super) is_locked: bool,
    /// Some folder is to be taken over with whatever it holds.
    pub(super) has_unseen: bool,
    pub(crate) roots: DraftRoot,
}

impl DraftFolder {
    pub(super) fn new(from: ComparedFolder) -> Self {
        let children = from.below.iter().filter_map(|(_, below)| below.number).collect();
        Self {
            presence: from.presence,
            steps: Vec::new(),
            vacates: Vec::new(),
            stays_here: false,
            source_names: SourceNames::default(),
            linked: Vec::new(),
            status: SubtreeStatus::Open,
            head: FolderHead {
                name: from.head.name,
                source_name: from.head.source_name,
                known: from.head.known,
                before: from.head.before,
                names: from.head.names,
            },
            passed_over: PassedOver { held_back: 0, spared_newer: 0 },
            place: DraftPlace { children, parent: 0, order: Vec::new() },
        }
    }

    pub(super) fn is_empty(&self) -> bool {
        let holds_back = self.passed_over.held_back + self.passed_over.spared_newer > 0;
        self.does_nothing()
            && self.linked.is_empty()
            && self.place.children.is_empty()
            && !holds_back
    }

    /// No step is planned in it, on either side.
    pub(super) fn does_nothing(&self) -> bool {
        self.steps.is_empty() && self.vacates.is_empty()
    }

    fn sort(&mut self) {
        let names = &self.head.names;
        self.steps.retain(Option::is_some);
        let name_of = |step: &Option<Step>| step.map(|step| names.get(step.name));
        // Names are there once.
        self.steps.sort_unstable_by(|a, b| name_of(a).cmp(&name_of(b)));
        self.place.order = self.steps.iter().flatten().map(|step| step.name).collect();
    }

    /// Where the step of this name stands or stood; known once they are sorted.
    pub(super) fn slot_of(&self, name: &[u8]) -> Option<usize> {
        self.place.order.binary_search_by(|range| self.head.names.get(*range).cmp(name)).ok()
    }

    /// The name of a step, once they are sorted, also of one that is gone.
    pub(super) fn name_at(&self, slot: usize) -> &[u8] {
        self.head.names.get(self.place.order[slot])
    }

    pub(super) fn drive(&self) -> DriveId {
        self.head.known.drive
    }
}

impl<'a> Draft<'a> {
    pub(crate) fn new(policy: &'a Policy<'a>) -> Self {
        Self {
            policy,
            folders: Vec::new(),
            elsewhere: Vec::new(),
            dropped: HashSet::new(),
            decided: Decisions::default(),
            locked: Vec::new(),
            is_locked: false,
            has_unseen: false,
            roots: DraftRoot {
                state: None,
                rename_path: RenamePath::Impossible,
                comes_along: false,
            },
        }
    }

    /// Puts the folders into tree order. The root closed last.
    pub(super) fn arrange(&mut self) {
        let mut closed: Vec<_> = std::mem::take(&mut self.folders).into_iter().map(Some).collect();
        let root = closed.len().checked_sub(1).map(|root| (root, 0, SubtreeStatus::Open));
        let mut waiting: Vec<(usize, u32, SubtreeStatus)> = root.into_iter().collect();
        while let Some((position, parent, above)) = waiting.pop() {
            let here = u32::try_from(self.folders.len()).unwrap_or(u32::MAX);
            let Some(mut folder) = closed[position].take() else { continue };
            folder.place.parent = parent;
            let status = if above == SubtreeStatus::Open { folder.status } else { above };
            let mut children = std::mem::take(&mut folder.place.children);
            children.sort_unstable_by(|a, b| name_of(&closed, *b).cmp(name_of(&closed, *a)));
            waiting.extend(children.into_iter().map(|child| (child, here, status)));
            if status != SubtreeStatus::Open {
                folder.vacates.clear();
                folder.stays_here = true;
                folder.passed_over.held_back +=
                    folder.steps.iter_mut().filter_map(Option::take).count() as u64;
            }
            // What is in a folder that is not made is lost with it, which one problem reports.
            if status != SubtreeStatus::Lost {
                self.decided.held_back += folder.passed_over.held_back;
                self.decided.spared_newer += folder.passed_over.spared_newer;
            }
            self.folders.push(folder);
        }
    }

    /// A folder that stays with all that is in it is reported once.
    pub(super) fn tell_locked(&mut self) {
        let mut locked = std::mem::take(&mut self.locked);
        locked.sort_by(|(a, _), (b, _)| a.path.cmp(&b.path));
        let mut whole: Option<TreePath> = None;
        for (problem, is_whole) in locked {
            if whole.as_ref().is_some_and(|whole| problem.path.is_below(whole)) {
                continue;
            }
            if is_whole {
                whole = Some(problem.path.clone());
            }
            self.decided.problems.push(problem);
        }
    }

    /// Nothing can be done without the root.
    pub(super) fn hold_back_all(&mut self) {
        for folder in &mut self.folders {
            let steps = folder.steps.iter_mut().filter_map(Option::take);
            self.decided.held_back += steps.count() as u64;
            folder.linked.clear();
            folder.vacates.clear();
            folder.stays_here = true;
        }
    }

    pub(super) fn is_dead(&self, at: usize) -> bool {
        self.dropped.contains(&at)
    }

    /// Sorts the steps of every folder by name; their slots are new ones then.
    pub(super) fn sort(&mut self) {
        self.folders.iter_mut().for_each(DraftFolder::sort);
    }

    /// Path of a folder, relative to the root.
    pub(super) fn path(&self, at: usize) -> TreePath {
        path_in(&self.folders, at)
    }

    /// Remembers a name for steps of others to speak of.
    pub(super) fn name(&mut self, folder: usize, name: Box<[u8]>) -> NameId {
        let folder = u32::try_from(folder).unwrap_or(u32::MAX);
        self.elsewhere.push(NameElsewhere { folder, name });
        NameId(u32::try_from(self.elsewhere.len() - 1).unwrap_or(u32::MAX))
    }

    /// Takes a folder and all below it out of the plan; returns what its steps were for.
    pub(super) fn drop_subtree(&mut self, top: usize) -> Vec<State> {
        let mut states = Vec::new();
        for at in top..self.folders.len() {
            let is_below =
                at == top || self.dropped.contains(&(self.folders[at].place.parent as usize));
            // In tree order what is below comes right after.
            if !is_below {
                break;
            }
            self.dropped.insert(at);
            let steps = self.folders[at].steps.iter_mut().filter_map(Option::take);
            states.extend(steps.filter_map(|step| step.source.or(step.destination)));
        }
        states
    }

    pub(crate) fn into_part(mut self, root: Option<Step>) -> Part {
        let dropped = std::mem::take(&mut self.dropped);
        let needed = self.needed(&dropped);
        let mut places = Vec::new();
        let mut next = 0;
        for needed in &needed {
            places.push(next);
            next += u32::from(*needed);
        }
        for named in &mut self.elsewhere {
            // What took its folder along took all names that were linked to it as well.
            let at = named.folder as usize;
            named.folder = if needed[at] { places[at] } else { 0 };
        }
        let alive = self.folders.into_iter().zip(needed).filter(|(_, needed)| *needed);
        let folders = alive.map(|(drafted, _)| {
            let DraftFolder {
                mut head, mut steps, mut vacates, stays_here, source_names, place, ..
            } = drafted;
            let names = &mut head.names;
            let parent = places[place.parent as usize];
            steps.retain(Option::is_some);
            // Where they are: there may be millions, and all of them are steps.
            let mut steps: Vec<Step> = steps.into_iter().map_while(identity).collect();
            steps.sort_unstable_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
            names.shrink();
            vacates.sort_unstable_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
            PlannedFolder {
                parent,
                steps: steps.into(),
                vacates: vacates.into(),
                stays_here,
                source_names,
                head,
                ..PlannedFolder::default()
            }
        });
        let folders: Vec<PlannedFolder> = folders.collect();
        let goes = folders.first().is_none_or(|top| !top.stays_here);
        let root_vacate =
            self.roots.state.filter(|_| goes).map(|root| {
                Step::vacate(Reason::Arrived, NameRange::default(), (Some(root), None))
            });
        Part { root, root_vacate, folders, elsewhere: self.elsewhere, ..Part::default() }
    }

    /// The folders that hold a step, or a name that steps speak of, and those that lead there.
    fn needed(&self, dropped: &HashSet<usize>) -> Vec<bool> {
        let mut needed: Vec<bool> = (0..self.folders.len()).map(|at| at == 0).collect();
        for named in
            self.elsewhere.iter().filter(|named| !dropped.contains(&(named.folder as usize)))
        {
            needed[named.folder as usize] = true;
        }
        for at in (1..self.folders.len()).rev() {
            needed[at] |= self.folders[at].steps.iter().any(Option::is_some);
            needed[at] |= !self.folders[at].vacates.is_empty();
            needed[at] &= !dropped.contains(&at);
            if needed[at] {
                needed[self.folders[at].place.parent as usize] = true;
            }
        }
        needed
    }

    pub(super) fn count_unchanged(&mut self, state: &State) {
        self.decided.unchanged.add(state.bytes());
    }

    /// The step in a place.
    pub(super) fn step(&mut self, (folder, slot): (usize, usize)) -> &mut Option<Step> {
        &mut self.folders[folder].steps[slot]
    }
}

fn name_of(closed: &[Option<DraftFolder>], position: usize) -> &[u8] {
    closed[position].as_ref().map_or(b"", |folder| &folder.head.name)
}

/// The path of one of these folders.
pub(super) fn path_in(folders: &[DraftFolder], mut at: usize) -> TreePath {
    TreePath::from_deepest(std::iter::from_fn(|| {
        let folder = &folders[at];
        (at != 0).then(|| {
            at = folder.place.parent as usize;
            &*folder.head.name
        })
    }))
}

/// Folders by the step that makes or removes them.
pub(super) fn folders_by_step(folders: &[DraftFolder]) -> HashMap<(usize, usize), usize> {
    let below = folders.iter().enumerate().skip(1).filter_map(|(at, folder)| {
        let parent = folder.place.parent as usize;
        Some(((parent, folders[parent].slot_of(&folder.head.name)?), at))
    });
    below.collect()
}
