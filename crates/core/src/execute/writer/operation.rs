//! What is to be done to one entry, as a writer needs to know it.

use utter_echo_model::aspect::Aspects;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Kind;

use crate::policy::Step;

/// A step, or a part of one, or what setting something aside takes.
#[derive(Clone, Copy, Debug)]
pub(crate) struct EntryOperation {
    pub(crate) verb: Verb,
    pub(crate) reason: Reason,
    /// The aspects that differ, the content left out.
    pub(crate) aspects: Aspects,
    /// What it is to become; `None` for a removal.
    pub(crate) source: Option<State>,
    /// What is there; `None` if nothing is.
    pub(crate) destination: Option<State>,
}

impl From<&Step> for EntryOperation {
    fn from(step: &Step) -> Self {
        let Step { verb, reason, aspects, source, destination, .. } = *step;
        Self { verb, reason, aspects, source, destination }
    }
}

impl EntryOperation {
    /// Making one more of an entry.
    pub(crate) fn copy_of(source: State) -> Self {
        let (verb, reason, aspects) = (Verb::Add, Reason::New, Aspects::NONE);
        Self { verb, reason, aspects, source: Some(source), destination: None }
    }

    /// Changing attributes of what is there now.
    pub(crate) fn adjusting(self, now: State) -> Self {
        Self { verb: Verb::Adjust, destination: Some(now), ..self }
    }

    pub(crate) fn kind(&self) -> Kind {
        self.source.or(self.destination).map_or(Kind::File, |state| state.kind)
    }

    /// What it replaces is of the same kind, and so has attributes that may be kept.
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
