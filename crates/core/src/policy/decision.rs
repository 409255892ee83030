//! What is decided about one difference, by what was met.

use utter_echo_model::aspect::{Aspect, Aspects};
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Cause;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Kind;
use utter_echo_select::FolderNeeds;

use crate::compare::{Change, Difference, FolderDecision, Obstacle, OnSide, What, WhatStays};
use crate::policy::may::Permission;
use crate::policy::step::Step;
use crate::policy::terms::Policy;
use crate::request::{OnConflict, RenamePath};

/// Most decisions do not depend on the path, and then nobody puts it together.
pub(super) type PathOf<'p> = &'p dyn Fn() -> TreePath;

/// What is decided about one difference.
#[derive(Debug)]
pub(super) enum Decision {
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
    pub(super) fn by_copying(self) -> Self {
        match self {
            Self::Step(step) if step.reason == Reason::TakenOver => {
                Self::Step(Step { reason: Reason::New, ..step })
            }
            other => other,
        }
    }
}

/// A difference, and what is known where it was met.
#[derive(Clone, Copy)]
pub(super) struct DifferenceMet<'d> {
    pub(super) policy: &'d Policy<'d>,
    pub(super) difference: &'d Difference,
    /// Of a folder, what was decided about all below it.
    pub(super) child: Option<&'d FolderDecision>,
    pub(super) drive: DriveId,
    /// As the source has it, and as the destination does.
    pub(super) path: PathOf<'d>,
    pub(super) path_there: PathOf<'d>,
}

impl DifferenceMet<'_> {
    pub(super) fn decide(&self) -> Decision {
        let obstacle = self.difference.obstacle.as_deref();
        match self.difference.what {
            What::Nothing | What::Same => Decision::Nothing,
            What::Extra => self.removal(Reason::Extra),
            What::Leftover => self.removal(Reason::Leftover),
            What::LeftOut => self.removal(Reason::Unselected),
            What::New => self.arrival(obstacle),
            // What came back already has its attributes; those of what is there may never have been whole.
            What::Aspects(_) if self.has_come_back() => Decision::Nothing,
            // It never went.
            What::Kind | What::Content(_) | What::Aspects(_) if self.is_at_home() => {
                Decision::Stays
            }
            What::Kind => self.other_kind(obstacle),
            What::Content(change) => self.other_content(change, obstacle),
            What::Aspects(aspects) => self.other_aspects(aspects, obstacle),
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
            // What the drive cannot hold is not there: what was there before is no longer the source's.
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

    fn other_aspects(&self, aspects: Aspects, obstacle: Option<&Obstacle>) -> Decision {
        match obstacle {
            Some(obstacle) => Decision::Problem(cause_of(obstacle)),
            None if self.is_ours() => self.if_granted(self.step(Verb::Replace, Reason::Leftover)),
            None if self.is_conflict() => Decision::Problem(Cause::NameTaken),
            None => {
                let aspects = self.policy.own_aspects(aspects, self.sides(), self.path);
                let step = Step { aspects, ..self.step(Verb::Adjust, Reason::Aspects) };
                if aspects.is_empty() { Decision::Nothing } else { self.if_granted(step) }
            }
        }
    }

    /// What the destination has does not give way to another entry of the same name.
    fn keeps_its_name(&self, step: &Step) -> bool {
        let how = || (self.policy.conflicts.how)(&(self.path)());
        self.policy.task.vacates() && self.policy.gives_way_not(step, how())
    }

    /// True for what a move back meets in its place with the content that it was to bring there.
    fn has_come_back(&self) -> bool {
        let is_aspects = matches!(self.difference.what, What::Aspects(_));
        let is_folder = is_a_folder(self.difference.source);
        is_aspects && self.policy.selection.is_of_chosen() && !is_folder
    }

    /// True for what a move back meets in its place, and is not to bring there.
    fn is_at_home(&self) -> bool {
        let Difference { source, destination, .. } = self.difference;
        let both_folders = is_a_folder(*source) && is_a_folder(*destination);
        let selection = self.policy.selection;
        !both_folders && selection.is_of_chosen() && selection.keeps((self.path)().as_bytes())
    }

    /// True for a file that an earlier move was to add, with its time, and that did not get all of its content or
    /// attributes onto the drive.
    fn is_ours(&self) -> bool {
        let (source, there) = self.sides();
        let same_time = source.zip(there).is_some_and(|(source, there)| {
            let is_file = [source, there].iter().all(|state| state.kind == Kind::File);
            let (here, there) = (source.modified(), there.modified());
            is_file && self.policy.drives.agree(self.drive, here, there)
        });
        let may_be_ours = self.policy.conflicts.may_be_ours;
        self.policy.task.vacates() && same_time && may_be_ours(&(self.path_there)())
    }

    /// True for a file that a move meets with other attributes; a folder that is there takes on those of
    /// the one that comes.
    fn is_conflict(&self) -> bool {
        let gives_way = || (self.policy.conflicts.how)(&(self.path)()) == OnConflict::Replace;
        self.policy.task.vacates() && !is_a_folder(self.difference.source) && !gives_way()
    }

    /// What goes from the source: only what arrives or has arrived, and a folder only if all in it goes.
    pub(super) fn leaving(&self, decision: &Decision) -> Option<Step> {
        let (source, there) =
            (self.difference.source.state()?, self.difference.destination.state());
        let reason = match decision {
            // A folder that is back, and gets its time.
            Decision::Step(Step { verb: Verb::Adjust, .. })
                if self.policy.selection.is_of_chosen() =>
            {
                Reason::Arrived
            }
            Decision::Step(_) => Reason::Arrives,
            Decision::Nothing if source.kind == Kind::Folder => Reason::Arrived,
            Decision::Nothing if self.difference.what == What::Same => Reason::Arrived,
            Decision::Nothing if self.has_come_back() => Reason::Arrived,
            _ => return None,
        };
        if source.kind == Kind::Folder {
            // Of one that goes as a whole nobody has looked what is in it.
            let is_unseen = self.difference.rename_path == RenamePath::WholeTree;
            let goes = self.child.map_or(is_unseen, |child| !child.stays_here);
            if !goes || self.policy.vacating.leave_folders {
                return None;
            }
        }
        let step = Step::vacate(reason, self.difference.name, (Some(source), there));
        (self.policy.may(&step, self.drive) == Permission::Yes).then_some(step)
    }

    fn if_granted(&self, step: Step) -> Decision {
        match self.policy.may(&step, self.drive) {
            Permission::Yes => Decision::Step(step),
            word => Decision::Held(word),
        }
    }

    /// The drive holds no entry of the source's kind.
    fn not_held(&self) -> Decision {
        match self.difference.source.state() {
            _ if self.policy.sameness.strictly => Decision::Problem(Cause::KindNotHeld),
            Some(source) => Decision::NotHeld(source.kind),
            None => Decision::Nothing,
        }
    }

    /// The removal of what only the destination has; a folder goes only with all it holds.
    fn removal(&self, reason: Reason) -> Decision {
        let Difference { source, destination, what, .. } = self.difference;
        // What the source has there is another entry, of a kind that the drive cannot hold.
        let source = source.state().filter(|_| *what != What::Kind);
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

    /// One kind in the place of another; a folder gives way only when nothing in it stays.
    fn exchange(&self, step: Step) -> Decision {
        let task = &self.policy.task;
        let granted = self.if_granted(step);
        if !step.takes_a_folders_place() || task.only_compares() {
            return granted;
        }
        match (granted, self.child.map_or(WhatStays::Something, |child| child.stays)) {
            (Decision::Step(_), WhatStays::Held) => Decision::Held(Permission::Held),
            (Decision::Step(_), WhatStays::Something) if task.removes() => {
                Decision::Problem(Cause::LeftOutInTheWay)
            }
            (Decision::Step(_), WhatStays::Something) => Decision::Problem(Cause::FolderInTheWay),
            (granted, _) => granted,
        }
    }
}

impl Policy<'_> {
    /// In what a folder differs, as far as that is its own: what went from a source's folder has changed its
    /// time, so that one which is newer than the destination's tells nothing where no notes tell what it was.
    pub(super) fn own_aspects(
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
