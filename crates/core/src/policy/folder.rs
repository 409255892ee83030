//! Deciding about a compared folder.

use std::collections::HashMap;

use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::verb::Verb;

use crate::compare::{
    ComparedFolder, Difference, DifferenceKind, FolderDecision, FolderSink, LinkedName, OnSide,
    Presence, WhatStays,
};
use crate::policy::decision::{Decision, DifferenceContext, is_a_folder};
use crate::policy::draft::{Draft, DraftFolder, LinkedDraft, OwnDecision, SubtreeStatus};
use crate::policy::may::Permission;
use crate::policy::step::Step;
use crate::request::RenamePath;
use crate::sides;

/// After this many differences of a wide folder their memory is freed.
const FREED_AT_A_TIME: usize = 1 << 15;

/// A folder while its differences are decided about, one by one.
struct FolderDraft {
    /// Its paths in the source and in the destination.
    path: TreePath,
    path_there: TreePath,
    drive: DriveId,
    /// Nothing can be removed from the source's folder, or only entries of this user.
    is_locked: bool,
    only_of: Option<u32>,
    drafted: DraftFolder,
    source_removals: Vec<Step>,
    /// What stays in the destination's folder.
    left: WhatStays,
    /// Something stays in the source's folder; it stays because it cannot be removed.
    source_stays: bool,
    is_held: bool,
}

impl FolderSink for Draft<'_> {
    fn folder(&mut self, mut folder: ComparedFolder) -> FolderDecision {
        let for_what_it_holds = folder.for_what_it_holds;
        let left =
            if folder.stays.destination_stays { WhatStays::Something } else { WhatStays::Nothing };
        let source_stays = folder.stays.source_stays;
        if folder.is_plain() {
            return FolderDecision {
                stays: left,
                source_stays,
                for_what_it_holds,
                ..FolderDecision::default()
            };
        }
        let (is_root, locked) = (folder.is_root, folder.stays.locked.take());
        let below: HashMap<usize, FolderDecision> =
            folder.below.iter().filter_map(|(own, below)| Some(((*own)?, *below))).collect();
        let mut differences = std::mem::take(&mut folder.differences);
        let linked = std::mem::take(&mut folder.linked);
        let mut deciding = FolderDraft {
            path: std::mem::take(&mut folder.path),
            path_there: std::mem::take(&mut folder.path_there),
            drive: folder.drive(),
            is_locked: locked.is_some(),
            only_of: folder.stays.only_of,
            drafted: DraftFolder::new(folder),
            source_removals: Vec::new(),
            left,
            source_stays,
            is_held: false,
        };
        let goes_unseen = |difference: &Difference| {
            difference.rename_path == RenamePath::WholeTree && is_a_folder(difference.source)
        };
        self.has_unseen |= differences.iter().any(goes_unseen);
        let mut slots: HashMap<usize, usize> = HashMap::new();
        // Steps are as large as differences, which are freed on the way.
        while let Some(difference) = differences.pop() {
            let (at, slot) = (differences.len(), deciding.drafted.steps.len());
            self.difference(&mut deciding, &difference, below.get(&at));
            if !linked.is_empty() && deciding.drafted.steps.len() > slot {
                slots.insert(at, slot);
            }
            if at.is_multiple_of(FREED_AT_A_TIME) {
                differences.shrink_to_fit();
            }
        }
        let FolderDraft { path, mut drafted, source_removals, left, source_stays, is_held, .. } =
            deciding;
        let is_removal = |step: &Step| step.verb == Verb::Remove;
        let removes = below.values().any(|below| below.removes)
            || drafted.steps.iter().flatten().any(is_removal);
        drafted.linked = linked.into_iter().map(|facts| alone(facts, &slots)).collect();
        (drafted.source_removals, drafted.source_stays) = (source_removals, source_stays);
        let goes = below.values().any(|below| below.number.is_some() && !below.is_locked);
        let holds_locked = is_held || below.values().any(|below| below.is_locked);
        let is_locked = holds_locked && !goes && drafted.does_nothing();
        self.is_locked |= is_root && is_locked;
        if let Some(cause) = locked.filter(|_| is_held) {
            self.locked
                .push((Problem { path, operation: Operation::RemoveSource, cause }, is_locked));
        }
        drafted.steps.shrink_to_fit();
        let number = (is_root || !drafted.is_empty()).then_some(self.folders.len());
        if number.is_some() {
            self.folders.push(drafted);
        }
        FolderDecision { number, stays: left, removes, source_stays, is_locked, for_what_it_holds }
    }
}

impl Draft<'_> {
    /// Decides about one difference: the step in the destination, and the removal from the source.
    fn difference(
        &mut self,
        folder: &mut FolderDraft,
        difference: &Difference,
        child: Option<&FolderDecision>,
    ) {
        let here = difference.source_name.unwrap_or(difference.name);
        let own = || folder.path.join(folder.drafted.head.names.get(here));
        let there = || folder.path_there.join(folder.drafted.head.names.get(difference.name));
        let met = DifferenceContext {
            policy: self.policy,
            difference,
            child,
            drive: folder.drive,
            path: &own,
            path_there: &there,
        };
        let decision = met.decide();
        let goes = met.leaving(&decision);
        let decision = if goes.is_some() { decision } else { decision.by_copying() };
        let own_hold = difference.source.state().filter(|_| goes.is_some());
        let own_hold = own_hold.and_then(|state| sides::why_kept(&state, folder.only_of));
        let holds = own_hold.is_some() || folder.is_locked && goes.is_some();
        if let Some(cause) = own_hold.filter(|_| !folder.is_locked) {
            let problem = Problem { path: own(), operation: Operation::RemoveSource, cause };
            self.decided.problems.push(problem);
        }
        folder.source_stays |= holds || goes.is_none() && difference.source != OnSide::Absent;
        folder.is_held |= holds;
        folder.source_removals.extend(goes.filter(|_| !holds));
        let decision = self.unless_locked(decision, difference, child, holds);
        if let Some(source) = difference.source_name {
            let drafted = &mut folder.drafted;
            let names = &drafted.head.names;
            drafted.source_names.add(names.get(difference.name), names.get(source));
        }
        let FolderDraft { path, drafted, left, .. } = folder;
        *left = (*left).max(self.note_down(drafted, path, difference, child, decision));
    }

    /// An entry that cannot be removed from the source is not copied either: one that its folder holds, or a folder
    /// with such entries only.
    fn unless_locked(
        &mut self,
        decision: Decision,
        difference: &Difference,
        child: Option<&FolderDecision>,
        holds: bool,
    ) -> Decision {
        let all_stays = child.is_some_and(|child| child.is_locked);
        if all_stays {
            self.settle_subtree(child, SubtreeStatus::Lost);
        }
        // Entries that are moved out of a folder need that folder in the destination, even if it stays itself.
        let is_needed = child.is_some_and(|child| child.number.is_some());
        if !all_stays && (!holds || is_needed) {
            return decision;
        }
        match difference.destination {
            OnSide::Absent => Decision::Nothing,
            _ => Decision::Stays,
        }
    }

    /// Records a decision. Returns what stays in the destination because of it.
    fn note_down(
        &mut self,
        drafted: &mut DraftFolder,
        path: &TreePath,
        difference: &Difference,
        child: Option<&FolderDecision>,
        decision: Decision,
    ) -> WhatStays {
        match decision {
            Decision::Step(step) => {
                drafted.steps.push(Some(Step { name: difference.name, ..step }));
                WhatStays::Nothing
            }
            Decision::Nothing => WhatStays::Nothing,
            Decision::Stays => WhatStays::Something,
            Decision::Held(word) => {
                match word {
                    Permission::Newer => drafted.passed_over.left_newer += 1,
                    Permission::Held | Permission::Yes => drafted.passed_over.held_back += 1,
                }
                self.settle_subtree(child, SubtreeStatus::Held);
                WhatStays::Held
            }
            Decision::NotHeld(kind) => {
                self.decided.not_held.push((drafted.drive(), kind));
                self.settle_subtree(
                    child.filter(|_| difference.what == DifferenceKind::New),
                    SubtreeStatus::Lost,
                );
                WhatStays::Nothing
            }
            Decision::Problem(cause) => {
                self.settle_subtree(
                    child.filter(|_| is_a_folder(difference.source)),
                    SubtreeStatus::Lost,
                );
                let path = path.join(drafted.head.names.get(difference.name));
                let operation = match cause {
                    Cause::NameTaken => Operation::RemoveSource,
                    _ => Operation::Write,
                };
                self.decided.problems.push(Problem { path, operation, cause });
                WhatStays::Something
            }
        }
    }

    /// Marks the steps below a folder that is not made, or not replaced.
    fn settle_subtree(&mut self, child: Option<&FolderDecision>, status: SubtreeStatus) {
        let folder = child.and_then(|child| child.number).map(|number| &mut self.folders[number]);
        if let Some(folder) = folder.filter(|folder| folder.presence != Presence::Both) {
            folder.status = status;
        }
    }
}

/// The decision about a hard link by itself. `slots` has the step of each difference.
fn alone(facts: LinkedName, slots: &HashMap<usize, usize>) -> LinkedDraft {
    let alone = match facts.difference {
        None => OwnDecision::Right,
        Some(at) => slots.get(&at).map_or(OwnDecision::Stays, |slot| OwnDecision::Planned(*slot)),
    };
    LinkedDraft { facts, alone }
}
