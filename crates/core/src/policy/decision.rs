//! The decision about one difference.

use utter_echo_model::attribute::{Attribute, Attributes};
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Cause;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Kind;

use crate::compare::{
    Change, Difference, DifferenceKind, FolderDecision, Obstacle, OnSide, WhatStays,
};
use crate::policy::may::Permission;
use crate::policy::step::Step;
use crate::policy::terms::Policy;
use crate::request::{OnConflict, RenamePath};

/// Computed only if needed: most decisions do not depend on the path.
pub(super) type PathOf<'p> = &'p dyn Fn() -> TreePath;

/// The decision about one difference.
#[derive(Debug)]
pub(super) enum Decision {
    Step(Step),
    /// Nothing to do, and nothing in the destination.
    Nothing,
    /// The destination's entry stays.
    Stays,
    /// It stays, since an option forbids its step.
    Held(Permission),
    /// It stays, which is a problem.
    Problem(Cause),
    /// The drive does not support such an entry, so there is nothing to do.
    NotHeld(Kind),
}

impl Decision {
    /// The same, by copying instead of renaming, for an entry that stays in the source.
    pub(super) fn by_copying(self) -> Self {
        match self {
            Self::Step(step) if step.reason == Reason::TakenOver => {
                Self::Step(Step { reason: Reason::New, ..step })
            }
            other => other,
        }
    }
}

/// A difference and its context.
#[derive(Clone, Copy)]
pub(super) struct DifferenceContext<'d> {
    pub(super) policy: &'d Policy<'d>,
    pub(super) difference: &'d Difference,
    /// For a folder, the decision about everything below it.
    pub(super) child: Option<&'d FolderDecision>,
    pub(super) drive: DriveId,
    /// Its paths in the source and in the destination.
    pub(super) path: PathOf<'d>,
    pub(super) path_there: PathOf<'d>,
}

impl DifferenceContext<'_> {
    pub(super) fn decide(&self) -> Decision {
        let obstacle = self.difference.obstacle.as_deref();
        match self.difference.what {
            DifferenceKind::Nothing | DifferenceKind::Same => Decision::Nothing,
            DifferenceKind::Extra => self.removal(Reason::Extra),
            DifferenceKind::Leftover => self.removal(Reason::Leftover),
            DifferenceKind::LeftOut => self.removal(Reason::Unselected),
            DifferenceKind::New => self.arrival(obstacle),
            DifferenceKind::Kind => self.other_kind(obstacle),
            DifferenceKind::Content(change) => self.other_content(change, obstacle),
            DifferenceKind::Attributes(attributes) => self.other_attributes(attributes, obstacle),
        }
    }

    fn sides(&self) -> (Option<State>, Option<State>) {
        (self.difference.source.state(), self.difference.destination.state())
    }

    fn step(&self, verb: Verb, reason: Reason) -> Step {
        Step::new(verb, reason, self.sides())
    }

    /// Only the source has it.
    fn arrival(&self, obstacle: Option<&Obstacle>) -> Decision {
        let is_in_the_way = self.difference.destination == OnSide::LeftOut;
        match obstacle {
            Some(Obstacle::Kind) => self.not_held(),
            Some(obstacle) => Decision::Problem(cause_of(obstacle)),
            None if is_in_the_way && !self.policy.task.only_compares() => {
                Decision::Problem(Cause::LeftOutInTheWay)
            }
            None => {
                let may_be_renamed = self.difference.rename_path != RenamePath::Impossible
                    && self.policy.drives.renames(self.drive);
                let reason = if may_be_renamed { Reason::TakenOver } else { Reason::New };
                self.if_granted(self.step(Verb::Add, reason))
            }
        }
    }

    fn other_kind(&self, obstacle: Option<&Obstacle>) -> Decision {
        let step = self.step(Verb::Replace, Reason::Kind);
        match obstacle {
            // The drive cannot hold the entry, so whatever is in its place belongs to an older one.
            Some(Obstacle::Kind) => match self.removal(Reason::Extra) {
                Decision::Stays => self.not_held(),
                other => other,
            },
            Some(obstacle) => Decision::Problem(cause_of(obstacle)),
            None if self.keeps_its_name(&step) => Decision::Problem(Cause::NameTaken),
            None => self.exchange(step),
        }
    }

    fn other_content(&self, change: Change, obstacle: Option<&Obstacle>) -> Decision {
        let step = self.step(Verb::Replace, reason_of(change));
        match obstacle {
            Some(obstacle) => Decision::Problem(cause_of(obstacle)),
            None if self.is_ours() => self.if_granted(self.step(Verb::Replace, Reason::Leftover)),
            None if self.keeps_its_name(&step) => Decision::Problem(Cause::NameTaken),
            None => self.if_granted(step),
        }
    }

    fn other_attributes(&self, attributes: Attributes, obstacle: Option<&Obstacle>) -> Decision {
        match obstacle {
            Some(obstacle) => Decision::Problem(cause_of(obstacle)),
            None if self.is_ours() => self.if_granted(self.step(Verb::Replace, Reason::Leftover)),
            None if self.is_conflict() => Decision::Problem(Cause::NameTaken),
            None => {
                let attributes = self.policy.own_attributes(attributes, self.sides());
                let step = Step { attributes, ..self.step(Verb::Adjust, Reason::Attributes) };
                if attributes.is_empty() { Decision::Nothing } else { self.if_granted(step) }
            }
        }
    }

    /// The destination's entry must not be replaced by another of the same name.
    fn keeps_its_name(&self, step: &Step) -> bool {
        let how = || (self.policy.conflicts.how)(&(self.path)());
        self.policy.task.removes_sources() && self.policy.gives_way_not(step, how())
    }

    /// True for a file of an earlier move that has its time but not all of its content or attributes.
    fn is_ours(&self) -> bool {
        let (source, there) = self.sides();
        let same_time = source.zip(there).is_some_and(|(source, there)| {
            let is_file = [source, there].iter().all(|state| state.kind == Kind::File);
            let (here, there) = (source.modified(), there.modified());
            is_file && self.policy.drives.agree(self.drive, here, there)
        });
        let may_be_ours = self.policy.conflicts.may_be_ours;
        self.policy.task.removes_sources() && same_time && may_be_ours(&(self.path_there)())
    }

    /// True for a file with other attributes that a move finds in its place. A folder takes on the attributes of
    /// the arriving one.
    fn is_conflict(&self) -> bool {
        let gives_way = || (self.policy.conflicts.how)(&(self.path)()) == OnConflict::Replace;
        self.policy.task.removes_sources() && !is_a_folder(self.difference.source) && !gives_way()
    }

    /// The removal from the source: only of an entry that arrives or has arrived, and of a folder only if
    /// everything in it is removed.
    pub(super) fn leaving(&self, decision: &Decision) -> Option<Step> {
        let (source, there) =
            (self.difference.source.state()?, self.difference.destination.state());
        let reason = match decision {
            Decision::Step(_) => Reason::Arrives,
            Decision::Nothing if source.kind == Kind::Folder => Reason::Arrived,
            Decision::Nothing if self.difference.what == DifferenceKind::Same => Reason::Arrived,
            _ => return None,
        };
        if source.kind == Kind::Folder {
            // The entries of a folder that is renamed as a whole are not known.
            let is_unseen = self.difference.rename_path == RenamePath::WholeTree;
            let goes = self.child.map_or(is_unseen, |child| !child.source_stays);
            if !goes || self.policy.moving.leave_folders {
                return None;
            }
        }
        let step = Step::source_removal(reason, self.difference.name, (Some(source), there));
        (self.policy.may(&step, self.drive) == Permission::Yes).then_some(step)
    }

    fn if_granted(&self, step: Step) -> Decision {
        match self.policy.may(&step, self.drive) {
            Permission::Yes => Decision::Step(step),
            word => Decision::Held(word),
        }
    }

    /// The drive does not support the source's kind.
    fn not_held(&self) -> Decision {
        match self.difference.source.state() {
            _ if self.policy.sameness.strictly => Decision::Problem(Cause::KindNotHeld),
            Some(source) => Decision::NotHeld(source.kind),
            None => Decision::Nothing,
        }
    }

    /// The removal of an extra entry; a folder is removed only with everything in it.
    fn removal(&self, reason: Reason) -> Decision {
        let Difference { source, destination, what, .. } = self.difference;
        // The source has another entry there, of a kind that the drive cannot hold.
        let source = source.state().filter(|_| *what != DifferenceKind::Kind);
        let step = Step::new(Verb::Remove, reason, (source, destination.state()));
        let clears = reason == Reason::Leftover;
        if !self.policy.task.removes() && !self.policy.task.only_compares() && !clears {
            return Decision::Stays;
        }
        if step.kind() == Kind::Folder {
            let Some(child) = self.child else { return Decision::Stays };
            let is_extra = reason == Reason::Extra;
            let is_no_ones = is_extra && child.for_what_it_holds && !child.removes;
            match child.stays {
                WhatStays::Something => return Decision::Stays,
                WhatStays::Held => return Decision::Held(Permission::Held),
                WhatStays::Nothing if is_no_ones => return Decision::Stays,
                WhatStays::Nothing => {}
            }
        }
        self.if_granted(step)
    }

    /// Replacing an entry of another kind; a folder is replaced only if nothing in it stays.
    fn exchange(&self, step: Step) -> Decision {
        let task = &self.policy.task;
        let granted = self.if_granted(step);
        if !step.takes_a_folders_place() || task.only_compares() {
            return granted;
        }
        match (granted, self.child.map_or(WhatStays::Something, |child| child.stays)) {
            (Decision::Step(_), WhatStays::Held) => Decision::Held(Permission::Held),
            (Decision::Step(_), WhatStays::Something)
                if task.removes() || self.child.is_some_and(|child| child.for_what_it_holds) =>
            {
                Decision::Problem(Cause::LeftOutInTheWay)
            }
            (Decision::Step(_), WhatStays::Something) => Decision::Problem(Cause::FolderInTheWay),
            (granted, _) => granted,
        }
    }
}

impl Policy<'_> {
    /// The attributes in which a folder itself differs. Entries that were moved out of a source's folder have
    /// changed its time, so a newer time means nothing without a journal.
    pub(super) fn own_attributes(
        &self,
        attributes: Attributes,
        (source, there): (Option<State>, Option<State>),
    ) -> Attributes {
        let is_newer = source.zip(there).is_some_and(|(source, there)| {
            source.kind == Kind::Folder && source.modified() > there.modified()
        });
        if self.sameness.doubts_times && is_newer {
            attributes.without(Attribute::Times)
        } else {
            attributes
        }
    }
}

pub(super) fn is_a_folder(seen: OnSide) -> bool {
    seen.state().is_some_and(|state| state.kind == Kind::Folder)
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
