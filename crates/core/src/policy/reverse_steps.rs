//! The steps that undo the steps of a run.

use utter_echo_model::attribute::{Attribute, Attributes};
use utter_echo_model::path::NameRange;
use utter_echo_model::state::{AttributesBefore, State, StateAfter};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Flags, Kind, Stat};

use crate::policy::step::{NameId, Relation, Step};

/// What is known about an entry that a run changed.
pub(crate) struct StepTraces<'a> {
    /// The entry in the destination now.
    pub(crate) there: Option<Stat>,
    /// The entry in the set-aside folder now.
    pub(crate) aside: Option<Stat>,
    /// Its attributes before the run.
    pub(crate) before: Option<&'a AttributesBefore>,
    /// It has all these attributes now; also true if they are not known.
    pub(crate) is_whole: bool,
    /// The state after the step, if the journal has it.
    pub(crate) after: Option<StateAfter>,
}

impl StepTraces<'_> {
    fn left(&self) -> Option<State> {
        self.after.map(|after| after.state)
    }
}

/// How to tell whether an entry is back.
pub(crate) struct BackProof<'a> {
    /// Tells whether an entry is as wanted, within the resolution of its drive.
    pub(crate) is_alike: &'a dyn Fn(&State, &Stat) -> bool,
    /// Tells whether the entry there and the one that was set aside, of one kind and size, hold the same.
    pub(crate) hold_the_same: &'a dyn Fn() -> bool,
}

/// The old name of a rename, for renaming back.
pub(crate) struct Reversal {
    /// The present name.
    pub(crate) from: NameId,
    /// The old name.
    pub(crate) name: NameRange,
    /// Its attributes before the run.
    pub(crate) before: Option<State>,
    /// Its state now.
    pub(crate) now: State,
}

impl Reversal {
    pub(crate) fn step(self, of: &Step) -> Step {
        let mut back = Step::new(Verb::Rename, Reason::Before, (self.before, Some(self.now)));
        back.attributes = of.attributes;
        back.relation = Some(Relation::RenameOf(self.from));
        back.name = self.name;
        back
    }
}

/// The step that undoes a step; `None` if the step was never done, or is undone already.
pub(crate) fn reverse(
    step: &Step,
    name: NameRange,
    taken: &StepTraces<'_>,
    proof: &BackProof<'_>,
) -> Option<Step> {
    let made = made(step, taken, proof);
    let planned = |verb, reason, source, destination| {
        let mut back = Step::new(verb, reason, (source, destination));
        back.attributes = step.attributes;
        back.name = name;
        Some(back)
    };
    match step.verb {
        Verb::Add => {
            taken.there?;
            planned(Verb::Remove, Reason::Made, None, made)
        }
        Verb::Remove | Verb::Replace => {
            let was = step.destination?;
            if is_back(&was, taken, proof) {
                // An earlier undo may have ended before it set the attributes.
                let (there, before) = (taken.there.as_ref()?, taken.before?);
                let step = adjusted(before.state, State::from(there), name);
                return (!taken.is_whole).then_some(step);
            }
            // If nothing is set aside, it is lost; the caller checks that.
            let kept = taken.before.map(|before| before.state);
            let kept = kept.or(taken.aside.as_ref().map(State::from)).or(Some(was));
            match taken.there {
                Some(_) if step.verb == Verb::Replace => {
                    planned(Verb::Replace, Reason::Before, kept, made)
                }
                _ => planned(Verb::Add, Reason::Before, kept, None),
            }
        }
        // Renames are undone in their old folder: see `Reversal`. Removals from a source are undone by moving back.
        Verb::Rename | Verb::RemoveSource => None,
        Verb::Adjust => {
            let before = taken.before?;
            if taken.is_whole {
                return None;
            }
            let after = taken.left().or(taken.there.as_ref().map(State::from));
            // Other changes to a folder or file have changed its time as well.
            let back = planned(Verb::Adjust, Reason::Attributes, Some(before.state), after)?;
            Some(Step { attributes: back.attributes.with(Attribute::Times), ..back })
        }
    }
}

/// The step that resets the mode of a folder that a killed run had opened for its changes; `None` if it is as
/// before, or somebody changed it since.
pub(crate) fn close(before: &AttributesBefore, there: &Stat, name: NameRange) -> Option<Step> {
    let (was, now) = (before.state, State::from(there));
    let opened = now.mode() != was.mode() && now.mode() == was.mode() | 0o200;
    let locks = |flags: Flags| flags.and(Flags::LOCKS).and(there.flags_told);
    let unlocked = before.flags.is_some_and(|flags| locks(flags) != locks(there.flags));
    (opened || unlocked).then(|| adjusted(was, now, name))
}

/// The step that restores the attributes of an entry.
pub(crate) fn adjusted(was: State, now: State, name: NameRange) -> Step {
    let mut step = Step::new(Verb::Adjust, Reason::Attributes, (Some(was), Some(now)));
    step.attributes = Attributes::ALL;
    step.name = name;
    step
}

/// The step that restores the time of a folder.
pub(crate) fn timed(was: State, now: State, name: NameRange) -> Step {
    Step { attributes: Attributes::NONE.with(Attribute::Times), ..adjusted(was, now, name) }
}

/// The step that renames an entry back to the source of a move, a folder with everything in it.
pub(crate) fn rename_back(now: State, name: NameRange) -> Step {
    Step { name, ..Step::new(Verb::Rename, Reason::TakenOver, (Some(now), None)) }
}

/// The step that copies an entry back to the source of a move.
pub(crate) fn copy_back(now: State, name: NameRange) -> Step {
    Step { name, ..Step::new(Verb::Add, Reason::New, (Some(now), None)) }
}

/// The removal of an entry from the destination of a move: it is copied back, or is `home` already.
pub(crate) fn leave(now: State, home: Option<State>, name: NameRange) -> Step {
    let reason = if home.is_some() { Reason::Arrived } else { Reason::Arrives };
    Step::source_removal(reason, name, (Some(now), home))
}

/// The state after the step. If the run was killed before it could record that, the present entry counts if it is
/// as planned.
fn made(step: &Step, taken: &StepTraces<'_>, proof: &BackProof<'_>) -> Option<State> {
    let as_planned =
        |there: &&Stat| step.source.is_some_and(|wanted| (proof.is_alike)(&wanted, there));
    let there = taken.there.as_ref().filter(as_planned).map(State::from);
    taken.left().or(there).or(step.source)
}

/// True if the displaced entry is in its place: never displaced, or brought back.
fn is_back(was: &State, taken: &StepTraces<'_>, proof: &BackProof<'_>) -> bool {
    let Some(there) = &taken.there else { return false };
    if was.inode != 0 && was.still(there) {
        return true;
    }
    let is_made = taken.left().is_some_and(|left| left.still(there));
    let may_be = was.still(there) || !is_made && (proof.is_alike)(was, there);
    // The entry that replaced it may have its size and time. Folders are made anew.
    let is_proven = |aside: &Stat| {
        let looks_same = (aside.kind, aside.size) == (there.kind, there.size);
        there.kind == Kind::Folder || looks_same && (proof.hold_the_same)()
    };
    may_be && taken.aside.as_ref().is_none_or(is_proven)
}
