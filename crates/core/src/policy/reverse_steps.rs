//! The steps that take back what the steps of a recorded run did.

use utter_echo_model::aspect::{Aspect, Aspects};
use utter_echo_model::path::NameRange;
use utter_echo_model::state::{AttributesBefore, State, StateAfter};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Flags, Stat};

use crate::policy::step::{NameId, Relation, Step};

/// What is known of an entry that a run changed.
pub(crate) struct StepTraces<'a> {
    /// In the destination now.
    pub(crate) there: Option<Stat>,
    /// Where the run set things aside.
    pub(crate) aside: Option<Stat>,
    /// What it was like before the run changed its attributes.
    pub(crate) before: Option<&'a AttributesBefore>,
    /// It is like that now, in every attribute; true also if that is not known.
    pub(crate) is_whole: bool,
    /// What the run left, if it came to write that down.
    pub(crate) after: Option<StateAfter>,
}

impl StepTraces<'_> {
    fn left(&self) -> Option<State> {
        self.after.map(|after| after.state)
    }
}

/// Tells whether an entry is as it was wanted, as far as its drive can tell.
pub(crate) type IsAlike<'a> = &'a dyn Fn(&State, &Stat) -> bool;

/// Where a rename came from, as a rename back knows it.
pub(crate) struct Reversal {
    /// The present name of what goes back.
    pub(crate) from: NameId,
    /// The name it goes back to.
    pub(crate) name: NameRange,
    /// What it was like before.
    pub(crate) before: Option<State>,
    /// What it is now.
    pub(crate) now: State,
}

impl Reversal {
    pub(crate) fn step(self, of: &Step) -> Step {
        let mut back = Step::new(Verb::Rename, Reason::Before, (self.before, Some(self.now)));
        back.aspects = of.aspects;
        back.relation = Some(Relation::RenameOf(self.from));
        back.name = self.name;
        back
    }
}

/// The step that takes one step back; `None` if it was never taken, or is taken back already.
pub(crate) fn reverse(
    step: &Step,
    name: NameRange,
    taken: &StepTraces<'_>,
    alike: IsAlike<'_>,
) -> Option<Step> {
    let made = made(step, taken, alike);
    let planned = |verb, reason, source, destination| {
        let mut back = Step::new(verb, reason, (source, destination));
        back.aspects = step.aspects;
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
            if is_back(&was, taken, alike) {
                // A try to take the run back may have ended before it got its attributes.
                let (there, before) = (taken.there.as_ref()?, taken.before?);
                let step = adjusted(before.state, State::from(there), name);
                return (!taken.is_whole).then_some(step);
            }
            // Where nothing is aside it is lost, which whoever asked has to find out.
            let kept = taken.before.map(|before| before.state);
            let kept = kept.or(taken.aside.as_ref().map(State::from)).or(Some(was));
            match taken.there {
                Some(_) if step.verb == Verb::Replace => {
                    planned(Verb::Replace, Reason::Before, kept, made)
                }
                _ => planned(Verb::Add, Reason::Before, kept, None),
            }
        }
        // Told by the folder it was in: see `Reversal`. What went from a source is not taken back.
        Verb::Rename | Verb::Vacate => None,
        Verb::Adjust => {
            let before = taken.before?;
            if taken.is_whole {
                return None;
            }
            let after = taken.left().or(taken.there.as_ref().map(State::from));
            // What happened in a folder, or to a file, has changed its time as well.
            let back = planned(Verb::Adjust, Reason::Aspects, Some(before.state), after)?;
            Some(Step { aspects: back.aspects.with(Aspect::Times), ..back })
        }
    }
}

/// The step that closes a folder again that was open for the time of the changes, when whoever opened it
/// was killed; `None` if it is as it was, or somebody gave it other attributes since.
pub(crate) fn close(before: &AttributesBefore, there: &Stat, name: NameRange) -> Option<Step> {
    let (was, now) = (before.state, State::from(there));
    let opened = now.mode() != was.mode() && now.mode() == was.mode() | 0o200;
    let locks = |flags: Flags| flags.and(Flags::LOCKS).and(there.flags_told);
    let unlocked = before.flags.is_some_and(|flags| locks(flags) != locks(there.flags));
    (opened || unlocked).then(|| adjusted(was, now, name))
}

/// The step that gives an entry the attributes that it had.
pub(crate) fn adjusted(was: State, now: State, name: NameRange) -> Step {
    let mut step = Step::new(Verb::Adjust, Reason::Aspects, (Some(was), Some(now)));
    step.aspects = Aspects::ALL;
    step.name = name;
    step
}

/// The step that gives a folder the time that it had.
pub(crate) fn timed(was: State, now: State, name: NameRange) -> Step {
    Step { aspects: Aspects::NONE.with(Aspect::Times), ..adjusted(was, now, name) }
}

/// What the step left. The run may have been killed before it could write that down; then what
/// is there counts as made by it if it is as the plan wanted it.
fn made(step: &Step, taken: &StepTraces<'_>, alike: IsAlike<'_>) -> Option<State> {
    let as_planned = |there: &&Stat| step.source.is_some_and(|wanted| alike(&wanted, there));
    let there = taken.there.as_ref().filter(as_planned).map(State::from);
    taken.left().or(there).or(step.source)
}

/// True if what the run displaced is in its place: it was never displaced, or was brought back.
fn is_back(was: &State, taken: &StepTraces<'_>, alike: IsAlike<'_>) -> bool {
    let Some(there) = &taken.there else { return false };
    let is_made = taken.left().is_some_and(|left| left.still(there));
    was.still(there) || !is_made && alike(was, there)
}
