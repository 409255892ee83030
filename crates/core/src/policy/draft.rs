//! The draft of a part, whose steps may still change.

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

/// The position of a folder among the others.
#[derive(Debug)]
pub(super) struct DraftPlace {
    /// In closing order; not used after [`Draft::arrange`].
    children: Vec<usize>,
    /// Index of the folder above, once all are in tree order.
    pub(super) parent: u32,
    /// Names of the steps in sorted order, also of dropped steps.
    order: Vec<NameRange>,
}

/// Counts of differences without a step.
#[derive(Debug)]
pub(super) struct PassedOver {
    /// Entries for which an option forbids the step.
    pub(super) held_back: u64,
    /// Files that stay because they are newer in the destination.
    pub(super) left_newer: u64,
}

/// A folder with its drafted steps.
#[derive(Debug)]
pub(super) struct DraftFolder {
    pub(super) head: FolderHead,
    pub(super) presence: Presence,
    pub(super) steps: Vec<Option<Step>>,
    /// Removals from the source.
    pub(super) source_removals: Vec<Step>,
    /// Something stays in the source's folder.
    pub(super) source_stays: bool,
    /// Names of entries that differ in the source.
    pub(super) source_names: SourceNames,
    pub(super) linked: Vec<LinkedDraft>,
    pub(super) status: SubtreeStatus,
    pub(super) place: DraftPlace,
    pub(super) passed_over: PassedOver,
}

/// Whether the steps in a folder are possible, by the decision about the folder itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum SubtreeStatus {
    /// They are possible.
    Open,
    /// The folder was to be replaced, or to replace something, and an option forbids that.
    Held,
    /// The folder is not made, and a problem reports that.
    Lost,
}

/// A hard link, with the decision about it as if it were no link.
#[derive(Debug)]
pub(super) struct LinkedDraft {
    pub(super) facts: LinkedName,
    pub(super) alone: OwnDecision,
}

/// The decision about one name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum OwnDecision {
    /// The two sides agree.
    Right,
    /// A step is planned, with this index.
    Planned(usize),
    /// They differ and stay different.
    Stays,
}

/// The roots of a draft.
pub(crate) struct DraftRoot {
    /// The source's root folder, if it may be removed.
    pub(super) state: Option<State>,
    /// Whether the source's root folder can be renamed, if everything in it is.
    pub(super) rename_path: RenamePath,
    /// Everything in it is.
    pub(super) comes_along: bool,
}

impl DraftRoot {
    /// The removal of the source's root.
    pub(super) fn removal(&self) -> Option<Step> {
        let sides = (Some(self.state?), None);
        Some(Step::source_removal(Reason::Arrived, NameRange::default(), sides))
    }
}

/// The decisions so far about one pair of roots.
pub(crate) struct Draft<'a> {
    pub(super) policy: &'a Policy<'a>,
    pub(super) folders: Vec<DraftFolder>,
    pub(super) elsewhere: Vec<NameElsewhere>,
    /// Folders that are renamed with everything in them.
    dropped: HashSet<usize>,
    pub(super) decided: Decisions,
    /// Folders of the source that cannot be changed, though something was to be removed from them; and whether the
    /// same is true of everything below.
    pub(super) locked: Vec<(Problem, bool)>,
    /// Nothing can be removed from the source, which cannot be changed.
    pub(super) is_locked: bool,
    /// Some folder is to be renamed with everything in it, unchecked.
    pub(super) has_unseen: bool,
    /// Names for which a step that hard links need is not allowed.
    pub(super) refused: Vec<TreePath>,
    pub(crate) roots: DraftRoot,
}

impl DraftFolder {
    pub(super) fn new(from: ComparedFolder) -> Self {
        let children = from.below.iter().filter_map(|(_, below)| below.number).collect();
        Self {
            presence: from.presence,
            steps: Vec::new(),
            source_removals: Vec::new(),
            source_stays: false,
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
            passed_over: PassedOver { held_back: 0, left_newer: 0 },
            place: DraftPlace { children, parent: 0, order: Vec::new() },
        }
    }

    pub(super) fn is_empty(&self) -> bool {
        let holds_back = self.passed_over.held_back + self.passed_over.left_newer > 0;
        self.does_nothing()
            && self.linked.is_empty()
            && self.place.children.is_empty()
            && !holds_back
    }

    /// True if no step is planned in it, on either side.
    pub(super) fn does_nothing(&self) -> bool {
        self.steps.is_empty() && self.source_removals.is_empty()
    }

    fn sort(&mut self) {
        let names = &self.head.names;
        self.steps.retain(Option::is_some);
        let name_of = |step: &Option<Step>| step.map(|step| names.get(step.name));
        // Names are unique.
        self.steps.sort_unstable_by(|a, b| name_of(a).cmp(&name_of(b)));
        self.place.order = self.steps.iter().flatten().map(|step| step.name).collect();
    }

    /// The index of the step of this name, also of a dropped step. Steps must be sorted.
    pub(super) fn slot_of(&self, name: &[u8]) -> Option<usize> {
        self.place.order.binary_search_by(|range| self.head.names.get(*range).cmp(name)).ok()
    }

    /// The name of a step, also of a dropped step. Steps must be sorted.
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
            refused: Vec::new(),
            roots: DraftRoot {
                state: None,
                rename_path: RenamePath::Impossible,
                comes_along: false,
            },
        }
    }

    /// Puts the folders into tree order. The root was closed last.
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
                folder.source_removals.clear();
                folder.source_stays = true;
                folder.passed_over.held_back +=
                    folder.steps.iter_mut().filter_map(Option::take).count() as u64;
            }
            // Steps in a folder that is not made are dropped; one problem reports that.
            if status != SubtreeStatus::Lost {
                self.decided.held_back += folder.passed_over.held_back;
                self.decided.left_newer += folder.passed_over.left_newer;
            }
            self.folders.push(folder);
        }
    }

    /// A folder that stays with everything in it is reported once.
    pub(super) fn report_locked(&mut self) {
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

    /// Without the root nothing is possible.
    pub(super) fn hold_back_all(&mut self) {
        for folder in &mut self.folders {
            let steps = folder.steps.iter_mut().filter_map(Option::take);
            self.decided.held_back += steps.count() as u64;
            folder.linked.clear();
            folder.source_removals.clear();
            folder.source_stays = true;
        }
    }

    pub(super) fn is_dead(&self, at: usize) -> bool {
        self.dropped.contains(&at)
    }

    /// Sorts the steps of every folder by name, which changes their indexes.
    pub(super) fn sort(&mut self) {
        self.folders.iter_mut().for_each(DraftFolder::sort);
    }

    /// Path of a folder, relative to the root.
    pub(super) fn path(&self, at: usize) -> TreePath {
        path_in(&self.folders, at)
    }

    /// Stores a name for other steps to refer to.
    pub(super) fn name(&mut self, folder: usize, name: Box<[u8]>) -> NameId {
        let folder = u32::try_from(folder).unwrap_or(u32::MAX);
        self.elsewhere.push(NameElsewhere { folder, name });
        NameId(u32::try_from(self.elsewhere.len() - 1).unwrap_or(u32::MAX))
    }

    /// Drops a folder and everything below it. Returns the entries of its steps.
    pub(super) fn drop_subtree(&mut self, top: usize) -> Vec<State> {
        let mut states = Vec::new();
        for at in top..self.folders.len() {
            let is_below =
                at == top || self.dropped.contains(&(self.folders[at].place.parent as usize));
            // In tree order, the folders below follow directly.
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
            // A rename of its folder included all its hard links.
            let at = named.folder as usize;
            named.folder = if needed[at] { places[at] } else { 0 };
        }
        let alive = self.folders.into_iter().zip(needed).filter(|(_, needed)| *needed);
        let folders = alive.map(|(drafted, _)| {
            let DraftFolder {
                mut head,
                mut steps,
                mut source_removals,
                source_stays,
                source_names,
                place,
                ..
            } = drafted;
            let names = &mut head.names;
            let parent = places[place.parent as usize];
            steps.retain(Option::is_some);
            // In place, since there may be millions. All of them are steps.
            let mut steps: Vec<Step> = steps.into_iter().map_while(identity).collect();
            steps.sort_unstable_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
            names.shrink();
            source_removals.sort_unstable_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
            PlannedFolder {
                parent,
                steps: steps.into(),
                source_removals: source_removals.into(),
                source_stays,
                source_names,
                head,
                ..PlannedFolder::default()
            }
        });
        let folders: Vec<PlannedFolder> = folders.collect();
        let goes = folders.first().is_none_or(|top| !top.source_stays);
        let root_source_removal = self.roots.removal().filter(|_| goes);
        Part { root, root_source_removal, folders, elsewhere: self.elsewhere, ..Part::default() }
    }

    /// The folders with a step or with a name that steps refer to, and those above them.
    fn needed(&self, dropped: &HashSet<usize>) -> Vec<bool> {
        let mut needed: Vec<bool> = (0..self.folders.len()).map(|at| at == 0).collect();
        for named in
            self.elsewhere.iter().filter(|named| !dropped.contains(&(named.folder as usize)))
        {
            needed[named.folder as usize] = true;
        }
        for at in (1..self.folders.len()).rev() {
            needed[at] |= self.folders[at].steps.iter().any(Option::is_some);
            needed[at] |= !self.folders[at].source_removals.is_empty();
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

    /// The step at an index.
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
