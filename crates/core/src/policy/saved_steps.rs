//! Reading steps from a saved plan, which were checked before they were saved.

use utter_echo_model::attribute::Attributes;
use utter_echo_model::path::NameRange;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Side, Verb};

use crate::policy::step::{Relation, Step};

/// A step as it was read.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SavedParts {
    pub(crate) verb: Verb,
    pub(crate) side: Side,
    pub(crate) reason: Reason,
    pub(crate) attributes: Attributes,
    pub(crate) source: Option<State>,
    pub(crate) destination: Option<State>,
    pub(crate) relation: Option<Relation>,
    pub(crate) name: NameRange,
}

/// A step from a saved plan; fails if no plan could have it.
pub(crate) fn from_saved_plan(read: SavedParts) -> Result<Step, String> {
    let SavedParts { verb, side, reason, attributes, source, destination, relation, name } = read;
    let sides = match verb {
        Verb::Add => source.is_some() && destination.is_none(),
        Verb::Rename if reason == Reason::TakenOver => source.is_some() && destination.is_none(),
        Verb::Rename => destination.is_some(),
        Verb::Replace | Verb::Adjust => source.is_some() && destination.is_some(),
        Verb::Remove => source.is_none() && destination.is_some(),
        Verb::RemoveSource => source.is_some(),
    };
    if !sides {
        return Err("its sides do not fit its verb".into());
    }
    let fits = match relation {
        Some(Relation::RenameOf(_)) => verb == Verb::Rename,
        Some(Relation::LinkOf(_)) => matches!(verb, Verb::Add | Verb::Replace),
        None => verb != Verb::Rename || reason == Reason::TakenOver,
    };
    if !fits {
        return Err("its second name does not fit its verb".into());
    }
    let changed = if verb == Verb::RemoveSource { Side::Source } else { Side::Destination };
    if side != changed {
        return Err("it does not change that side".into());
    }
    Ok(Step { side, attributes, relation, name, ..Step::new(verb, reason, (source, destination)) })
}
