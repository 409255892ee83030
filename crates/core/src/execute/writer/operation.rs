//! The operation on one entry, for a writer.

use utter_echo_model::attribute::Attributes;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Kind;

use crate::policy::Step;

/// An operation: a step, a part of one, or a copy to the set-aside folder.
#[derive(Clone, Copy, Debug)]
pub(crate) struct EntryOperation {
    pub(crate) verb: Verb,
    pub(crate) reason: Reason,
    /// The attributes that differ.
    pub(crate) attributes: Attributes,
    /// The wanted state; `None` for a removal.
    pub(crate) source: Option<State>,
    /// The state of the existing entry, if any.
    pub(crate) destination: Option<State>,
}

impl From<&Step> for EntryOperation {
    fn from(step: &Step) -> Self {
        let Step { verb, reason, attributes, source, destination, .. } = *step;
        Self { verb, reason, attributes, source, destination }
    }
}

impl EntryOperation {
    /// Copying an entry.
    pub(crate) fn copy_of(source: State) -> Self {
        let (verb, reason, attributes) = (Verb::Add, Reason::New, Attributes::NONE);
        Self { verb, reason, attributes, source: Some(source), destination: None }
    }

    /// Changing attributes of the existing entry.
    pub(crate) fn adjusting(self, now: State) -> Self {
        Self { verb: Verb::Adjust, destination: Some(now), ..self }
    }

    pub(crate) fn kind(&self) -> Kind {
        self.source.or(self.destination).map_or(Kind::File, |state| state.kind)
    }

    /// True if it replaces an entry of the same kind, whose attributes may be kept.
    pub(super) fn replaces_its_kind(&self) -> bool {
        self.verb == Verb::Replace
            && self.source.map(|s| s.kind) == self.destination.map(|d| d.kind)
    }

    /// True if it replaces a folder, which must be empty by then.
    pub(super) fn takes_a_folders_place(&self) -> bool {
        let onto_folder = self.destination.is_some_and(|d| d.kind == Kind::Folder);
        self.verb == Verb::Replace && onto_folder && self.kind() != Kind::Folder
    }
}
