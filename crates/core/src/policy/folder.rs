//! Decides about a folder of which everything is known.

use std::collections::HashMap;

use utter_echo_model::aspect::{Aspect, Aspects};
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Kind;
use utter_echo_select::FolderNeeds;

use crate::compare::{
    Change, ComparedFolder, Difference, FolderDecision, FolderSink, LinkedName, Obstacle, OnSide,
    Presence, What, WhatStays,
};
use crate::policy::draft::{Draft, DraftFolder, LinkedDraft, OwnDecision, SubtreeStatus};
use crate::policy::may::Permission;
use crate::policy::step::Step;
use crate::policy::terms::Policy;
use crate::request::{OnConflict, RenamePath};
use crate::sides;

/// Most decisions do not depend on the path, and then nobody puts it together.
type PathOf<'p> = &'p dyn Fn() -> TreePath;

/// What is decided about one difference.
#[derive(Debug)]
enum Decision {
    Step(Step),
    /// Nothing is to be done, and nothing of it is in the destination.
    Nothing,
    /// What the destination has stays.
    Stays,
    /// It stays since an option forbids its step.
    Held(Permission),
    /// It stays, and that is a fault.
    Problem(Cause),
    /// The drive holds no such entry, so nothing is to be done.
    NotHeld(Kind),
}

impl Decision {
    /// What stays in the source is not renamed away.
    fn by_copying(self) -> Self {
        match self {
            Self::Step(step) if step.reason == Reason::TakenOver => {
                Self::Step(Step { reason: Reason::New, ..step })
            }
            other => other,
        }
    }
}

/// A folder whose differences are decided about one by one, and what that came to so far.
struct FolderDraft {
    /// As the source has it, and as the destination does.
    path: TreePath,
    path_there: TreePath,
    drive: DriveId,
    /// Nothing can go from the source's folder, or only what this user owns.
    is_locked: bool,
    only_of: Option<u32>,
    drafted: DraftFolder,
    vacates: Vec<Step>,
    /// What stays in the destination.
    left: WhatStays,
    /// Something stays in the source; it does since it cannot be taken away.
    stays_here: bool,
    is_held: bool,
}

impl FolderSink for Draft<'_> {
    fn folder(&mut self, mut folder: ComparedFolder) -> FolderDecision {
        let for_what_it_holds = folder.for_what_it_holds;
        let left = if folder.stays.holds { WhatStays::Something } else { WhatStays::Nothing };
        let stays_here = folder.stays.stays_here;
        if folder.is_plain() {
            return FolderDecision {
                stays: left,
                stays_here,
                for_what_it_holds,
                ..FolderDecision::default()
            };
        }
        let (is_root, locked) = (folder.is_root, folder.stays.locked.take());
        let below: HashMap<usize, FolderDecision> =
            folder.below.iter().filter_map(|(own, below)| Some(((*own)?, *below))).collect();
        let differences = std::mem::take(&mut folder.differences);
        let linked = std::mem::take(&mut folder.linked);
        let mut deciding = FolderDraft {
            path: std::mem::take(&mut folder.path),
            path_there: std::mem::take(&mut folder.path_there),
            drive: folder.drive(),
            is_locked: locked.is_some(),
            only_of: folder.stays.only_of,
            drafted: DraftFolder::new(folder),
            vacates: Vec::new(),
            left,
            stays_here,
            is_held: false,
        };
        let goes_unseen = |difference: &Difference| {
            difference.rename_path == RenamePath::WholeTree && is_a_folder(difference.source)
        };
        self.has_unseen |= differences.iter().any(goes_unseen);
        let mut slots: HashMap<usize, usize> = HashMap::new();
        for (at, difference) in differences.iter().enumerate() {
            let slot = deciding.drafted.steps.len();
            self.difference(&mut deciding, difference, below.get(&at));
            if deciding.drafted.steps.len() > slot {
                slots.insert(at, slot);
            }
        }
        let FolderDraft { path, mut drafted, vacates, left, stays_here, is_held, .. } = deciding;
        let is_removal = |step: &Step| step.verb == Verb::Remove;
        let removes = below.values().any(|below| below.removes)
            || drafted.steps.iter().flatten().any(is_removal);
        drafted.linked = linked.into_iter().map(|facts| alone(facts, &slots)).collect();
        (drafted.vacates, drafted.stays_here) = (vacates, stays_here);
        let goes = below.values().any(|below| below.number.is_some() && !below.is_locked);
        let holds_locked = is_held || below.values().any(|below| below.is_locked);
        let is_locked = holds_locked && !goes && drafted.does_nothing();
        self.is_locked |= is_root && is_locked;
        if let Some(cause) = locked.filter(|_| is_held) {
            self.locked.push((Problem { path, operation: Operation::Vacate, cause }, is_locked));
        }
        drafted.steps.shrink_to_fit();
        let number = (is_root || !drafted.is_empty()).then_some(self.folders.len());
        if number.is_some() {
            self.folders.push(drafted);
        }
        FolderDecision { number, stays: left, removes, stays_here, is_locked, for_what_it_holds }
    }
}

impl Draft<'_> {
    /// Decides about one difference: what arrives or changes in the destination, and what goes from the source.
    fn difference(
        &mut self,
        folder: &mut FolderDraft,
        difference: &Difference,
        child: Option<&FolderDecision>,
    ) {
        let here = difference.source_name.unwrap_or(difference.name);
        let own = || folder.path.join(folder.drafted.head.names.get(here));
        let there = || folder.path_there.join(folder.drafted.head.names.get(difference.name));
        let decision = self.policy.decide(difference, child, folder.drive, (&own, &there));
        let goes = self.policy.vacate(difference, child, &decision, folder.drive);
        let selection = self.policy.selection;
        let is_kept = || selection.is_of_chosen() && selection.keeps(own().as_bytes());
        let goes = goes.filter(|_| !is_kept());
        let decision = if goes.is_some() { decision } else { decision.by_copying() };
        let own_hold = difference.source.state().filter(|_| goes.is_some());
        let own_hold = own_hold.and_then(|state| sides::why_kept(&state, folder.only_of));
        let holds = own_hold.is_some() || folder.is_locked && goes.is_some();
        if let Some(cause) = own_hold.filter(|_| !folder.is_locked) {
            let problem = Problem { path: own(), operation: Operation::Vacate, cause };
            self.decided.problems.push(problem);
        }
        folder.stays_here |= holds || goes.is_none() && difference.source != OnSide::Absent;
        folder.is_held |= holds;
        folder.vacates.extend(goes.filter(|_| !holds));
        let decision = self.unless_locked(decision, difference, child, holds);
        let source_name = difference.source_name.map(|source| (difference.name, source));
        folder.drafted.source_names.extend(source_name);
        let FolderDraft { path, drafted, left, .. } = folder;
        *left = (*left).max(self.note_down(drafted, path, difference, child, decision));
    }

    /// What nothing can take from the source is not copied either: what is in a folder that holds it, or a
    /// folder of which all stays.
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
        // What goes from a folder needs that folder in the destination, even where it stays itself.
        let is_needed = child.is_some_and(|child| child.number.is_some());
        if !all_stays && (!holds || is_needed) {
            return decision;
        }
        match difference.destination {
            OnSide::Absent => Decision::Nothing,
            _ => Decision::Stays,
        }
    }

    /// Writes down what is decided; returns what stays in the destination for it.
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
                    Permission::Newer => drafted.passed_over.spared_newer += 1,
                    Permission::Held | Permission::Yes => drafted.passed_over.held_back += 1,
                }
                self.settle_subtree(child, SubtreeStatus::Held);
                WhatStays::Held
            }
            Decision::NotHeld(kind) => {
                self.decided.not_held.push((drafted.drive(), kind));
                self.settle_subtree(
                    child.filter(|_| difference.what == What::New),
                    SubtreeStatus::Lost,
                );
                WhatStays::Nothing
            }
            Decision::Problem(cause) => {
                self.settle_subtree(
                    child.filter(|_| sides_make_a_folder(difference)),
                    SubtreeStatus::Lost,
                );
                let path = path.join(drafted.head.names.get(difference.name));
                let operation = match cause {
                    Cause::NameTaken => Operation::Vacate,
                    _ => Operation::Write,
                };
                self.decided.problems.push(Problem { path, operation, cause });
                WhatStays::Something
            }
        }
    }

    /// Nothing happens in a folder that is not made, nor in one that does not give way.
    fn settle_subtree(&mut self, child: Option<&FolderDecision>, fate: SubtreeStatus) {
        let folder = child.and_then(|child| child.number).map(|number| &mut self.folders[number]);
        if let Some(folder) = folder.filter(|folder| folder.presence != Presence::Both) {
            folder.fate = fate;
        }
    }
}

/// What is decided about a name of several by itself, where steps stand in these slots by difference.
fn alone(facts: LinkedName, slots: &HashMap<usize, usize>) -> LinkedDraft {
    let alone = match facts.difference {
        None => OwnDecision::Right,
        Some(at) => slots.get(&at).map_or(OwnDecision::Stays, |slot| OwnDecision::Planned(*slot)),
    };
    LinkedDraft { facts, alone }
}

/// True if a folder of the source was to be made there.
fn sides_make_a_folder(difference: &Difference) -> bool {
    is_a_folder(difference.source)
}

fn is_a_folder(seen: OnSide) -> bool {
    seen.state().is_some_and(|state| state.kind == Kind::Folder)
}

impl Policy<'_> {
    fn decide(
        &self,
        difference: &Difference,
        child: Option<&FolderDecision>,
        drive: DriveId,
        (path, there): (PathOf<'_>, PathOf<'_>),
    ) -> Decision {
        let Difference { source, destination, what, obstacle, .. } = difference;
        let sides = (source.state(), destination.state());
        let step = |verb, reason| Step::new(verb, reason, sides);
        let compares = self.task.only_compares();
        match (what, obstacle.as_deref()) {
            (What::Nothing | What::Same, _) => Decision::Nothing,
            // What came back already has its attributes; those of what is there may never have been whole.
            (What::Aspects(_), _) if self.has_come_back(difference) => Decision::Nothing,
            // It never went.
            (What::Kind | What::Content(_) | What::Aspects(_), _)
                if self.is_at_home(difference, path) =>
            {
                Decision::Stays
            }
            (What::Extra, _) => self.removal(step(Verb::Remove, Reason::Extra), child, drive),
            (What::Leftover, _) => self.removal(step(Verb::Remove, Reason::Leftover), child, drive),
            (What::LeftOut, _) => {
                self.removal(step(Verb::Remove, Reason::Unselected), child, drive)
            }
            (What::New, Some(Obstacle::Kind)) => self.not_held(sides.0.map(|source| source.kind)),
            // Left out, it is not there: what was there before is no longer the source's.
            (What::Kind, Some(Obstacle::Kind)) => {
                let extra = Step::new(Verb::Remove, Reason::Extra, (None, sides.1));
                match self.removal(extra, child, drive) {
                    Decision::Stays => self.not_held(sides.0.map(|source| source.kind)),
                    other => other,
                }
            }
            (_, Some(obstacle)) => Decision::Problem(cause_of(obstacle)),
            (What::New, None) if *destination == OnSide::LeftOut && !compares => {
                Decision::Problem(Cause::LeftOutInTheWay)
            }
            (What::New, None) => {
                let passes =
                    difference.rename_path != RenamePath::Impossible && self.drives.renames(drive);
                let reason = if passes { Reason::TakenOver } else { Reason::New };
                self.if_granted(step(Verb::Add, reason), drive)
            }
            (What::Content(_) | What::Aspects(_), None)
                if self.is_ours(difference, drive, there) =>
            {
                self.if_granted(step(Verb::Replace, Reason::Leftover), drive)
            }
            (What::Kind | What::Content(_), None)
                if self.gives_way_not(
                    &step(Verb::Replace, Reason::Kind),
                    (self.conflicts.how)(&path()),
                ) =>
            {
                Decision::Problem(Cause::NameTaken)
            }
            (What::Aspects(_), None) if self.is_conflict(difference, path) => {
                Decision::Problem(Cause::NameTaken)
            }
            (What::Kind, None) => self.exchange(step(Verb::Replace, Reason::Kind), child, drive),
            (What::Content(change), None) => {
                self.if_granted(step(Verb::Replace, reason_of(*change)), drive)
            }
            (What::Aspects(aspects), None) => {
                let aspects = self.told_by_a_folder(*aspects, sides, path);
                let step = Step { aspects, ..step(Verb::Adjust, Reason::Aspects) };
                if aspects.is_empty() { Decision::Nothing } else { self.if_granted(step, drive) }
            }
        }
    }

    /// In what a folder differs, as far as that is its own: what went from a source's folder has changed its
    /// time, so that one which is newer than the destination's tells nothing where no notes tell what it was.
    pub(super) fn told_by_a_folder(
        &self,
        aspects: Aspects,
        (source, there): (Option<State>, Option<State>),
        path: PathOf<'_>,
    ) -> Aspects {
        let is_folder = source.is_some_and(|source| source.kind == Kind::Folder);
        let needs = if is_folder && self.selection.is_of_chosen() {
            self.selection.needs_of(path().as_bytes())
        } else {
            FolderNeeds::All
        };
        match needs {
            FolderNeeds::Nothing => return Aspects::NONE,
            FolderNeeds::Time => {
                return aspects.iter().filter(|aspect| *aspect == Aspect::Times).collect();
            }
            FolderNeeds::All => {}
        }
        let is_newer = source.zip(there).is_some_and(|(source, there)| {
            source.kind == Kind::Folder && source.modified() > there.modified()
        });
        if self.sameness.doubts_times && is_newer {
            aspects.without(Aspect::Times)
        } else {
            aspects
        }
    }

    /// True for what a move back meets in its place with the content that it was to bring there.
    fn has_come_back(&self, difference: &Difference) -> bool {
        let is_aspects = matches!(difference.what, What::Aspects(_));
        is_aspects && self.selection.is_of_chosen() && !is_a_folder(difference.source)
    }

    /// True for what a move back meets in its place, and is not to bring there.
    fn is_at_home(&self, difference: &Difference, path: PathOf<'_>) -> bool {
        let both_folders = is_a_folder(difference.source) && is_a_folder(difference.destination);
        let selection = self.selection;
        !both_folders && selection.is_of_chosen() && selection.keeps(path().as_bytes())
    }

    /// True for a file that an earlier move was to add, with its time, and that did not get all of its content or
    /// attributes onto the drive.
    fn is_ours(&self, difference: &Difference, drive: DriveId, path: PathOf<'_>) -> bool {
        let sides = difference.source.state().zip(difference.destination.state());
        let same_time = sides.is_some_and(|(source, there)| {
            let is_file = [source, there].iter().all(|state| state.kind == Kind::File);
            is_file && self.drives.agree(drive, source.modified(), there.modified())
        });
        self.task.vacates() && same_time && (self.conflicts.may_be_ours)(&path())
    }

    /// True for a file that a move meets with other attributes; a folder that is there takes on those of
    /// the one that comes.
    fn is_conflict(&self, difference: &Difference, path: PathOf<'_>) -> bool {
        let is_folder = is_a_folder(difference.source);
        let gives_way = (self.conflicts.how)(&path()) == OnConflict::Replace;
        self.task.vacates() && !is_folder && !gives_way
    }

    /// What goes from the source, of one difference: only what arrives or has arrived, and a folder only if
    /// all in it goes.
    fn vacate(
        &self,
        difference: &Difference,
        child: Option<&FolderDecision>,
        decision: &Decision,
        drive: DriveId,
    ) -> Option<Step> {
        let (source, there) = (difference.source.state()?, difference.destination.state());
        let reason = match decision {
            // A folder that is back, and gets its time.
            Decision::Step(Step { verb: Verb::Adjust, .. }) if self.selection.is_of_chosen() => {
                Reason::Arrived
            }
            Decision::Step(_) => Reason::Arrives,
            Decision::Nothing if source.kind == Kind::Folder => Reason::Arrived,
            Decision::Nothing if difference.what == What::Same => Reason::Arrived,
            Decision::Nothing if self.has_come_back(difference) => Reason::Arrived,
            _ => return None,
        };
        if source.kind == Kind::Folder {
            // Of one that goes as a whole nobody has looked what is in it.
            let is_unseen = difference.rename_path == RenamePath::WholeTree;
            let goes = child.map_or(is_unseen, |child| !child.stays_here);
            if !goes || self.vacating.leave_folders {
                return None;
            }
        }
        let step = Step::vacate(reason, difference.name, (Some(source), there));
        (self.may(&step, drive) == Permission::Yes).then_some(step)
    }

    fn if_granted(&self, step: Step, drive: DriveId) -> Decision {
        match self.may(&step, drive) {
            Permission::Yes => Decision::Step(step),
            word => Decision::Held(word),
        }
    }

    fn not_held(&self, kind: Option<Kind>) -> Decision {
        match kind {
            _ if self.sameness.strictly => Decision::Problem(Cause::KindNotHeld),
            Some(kind) => Decision::NotHeld(kind),
            None => Decision::Nothing,
        }
    }

    /// The removal of what only the destination has; a folder goes only with all it holds.
    fn removal(&self, step: Step, child: Option<&FolderDecision>, drive: DriveId) -> Decision {
        let clears = step.reason == Reason::Leftover;
        if !self.task.removes() && !self.task.only_compares() && !clears {
            return Decision::Stays;
        }
        if step.kind() == Kind::Folder {
            let Some(child) = child else { return Decision::Stays };
            let is_extra = step.reason == Reason::Extra;
            let is_no_ones = is_extra && child.for_what_it_holds && !child.removes;
            match child.stays {
                WhatStays::Something => return Decision::Stays,
                WhatStays::Held => return Decision::Held(Permission::Held),
                WhatStays::Nothing if is_no_ones => return Decision::Stays,
                WhatStays::Nothing => {}
            }
        }
        self.if_granted(step, drive)
    }

    /// One kind in the place of another; a folder gives way only when nothing in it stays.
    fn exchange(&self, step: Step, child: Option<&FolderDecision>, drive: DriveId) -> Decision {
        let granted = self.if_granted(step, drive);
        if !step.takes_a_folders_place() || self.task.only_compares() {
            return granted;
        }
        match (granted, child.map_or(WhatStays::Something, |child| child.stays)) {
            (Decision::Step(_), WhatStays::Held) => Decision::Held(Permission::Held),
            (Decision::Step(_), WhatStays::Something) if self.task.removes() => {
                Decision::Problem(Cause::LeftOutInTheWay)
            }
            (Decision::Step(_), WhatStays::Something) => Decision::Problem(Cause::FolderInTheWay),
            (granted, _) => granted,
        }
    }
}

fn reason_of(change: Change) -> Reason {
    match change {
        Change::SizeTime => Reason::SizeTime,
        Change::Bytes(offset) => Reason::Content { offset },
        Change::Reference => Reason::Reference,
    }
}

fn cause_of(obstacle: &Obstacle) -> Cause {
    match obstacle {
        Obstacle::Kind => Cause::KindNotHeld,
        Obstacle::Name(objection) => Cause::NameNotHeld(*objection),
        Obstacle::SameName(first) => Cause::SameNameThere(first.clone()),
        Obstacle::Size(longest) => Cause::TooLarge(*longest),
        Obstacle::LinkText => Cause::LinkTooLong,
        Obstacle::DeviceNumber => Cause::DeviceNotHeld,
        Obstacle::Mount => Cause::MountInTheWay,
    }
}
