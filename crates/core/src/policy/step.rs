//! A step: one change to one side, with its reason. Only [`policy`](super) can make one.

use utter_echo_model::attribute::Attributes;
use utter_echo_model::path::NameRange;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Side, Verb};
use utter_echo_os::Kind;

/// The relation of a step to another name of its part.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Relation {
    /// It links to the entry with this name.
    LinkOf(NameId),
    /// It renames the entry with this name.
    RenameOf(NameId),
}

/// One step. `Plan::steps` gives its name and place.
#[derive(Clone, Copy, Debug)]
pub struct Step {
    /// What it does.
    pub verb: Verb,
    /// Which side it changes.
    pub side: Side,
    /// Why.
    pub reason: Reason,
    /// The attributes that differ.
    pub attributes: Attributes,
    /// The source's side; `None` if it has none.
    pub source: Option<State>,
    /// The destination's side; `None` if it has none.
    pub destination: Option<State>,
    pub(crate) relation: Option<Relation>,
    pub(crate) name: NameRange,
    /// Prevents construction outside of `policy`.
    #[allow(dead_code, reason = "it is there to be missing elsewhere")]
    pub(in crate::policy) seal: (),
}

impl Step {
    /// A step in the destination. The only constructor: [`super::Policy`] checks all steps made here, and saved
    /// plans were sealed after that.
    pub(in crate::policy) fn new(
        verb: Verb,
        reason: Reason,
        (source, destination): (Option<State>, Option<State>),
    ) -> Self {
        Self {
            verb,
            side: Side::Destination,
            reason,
            attributes: Attributes::NONE,
            source,
            destination,
            relation: None,
            name: NameRange::default(),
            seal: (),
        }
    }

    /// A removal from the source, for an entry that has arrived or will.
    pub(in crate::policy) fn source_removal(
        reason: Reason,
        name: NameRange,
        sides: (Option<State>, Option<State>),
    ) -> Self {
        Self { side: Side::Source, name, ..Self::new(Verb::RemoveSource, reason, sides) }
    }

    /// True if it renames the entry from the source.
    pub fn is_taken_over(&self) -> bool {
        self.verb == Verb::Rename && self.reason == Reason::TakenOver
    }

    /// True if it renames a folder with everything in it.
    pub(crate) fn takes_a_folder_over(&self) -> bool {
        self.is_taken_over() && self.kind() == Kind::Folder
    }

    /// The target of a hard link.
    pub(crate) fn link(&self) -> Option<NameId> {
        match self.relation {
            Some(Relation::LinkOf(name)) => Some(name),
            _ => None,
        }
    }

    /// The old name of a rename.
    pub(crate) fn renamed_from(&self) -> Option<NameId> {
        match self.relation {
            Some(Relation::RenameOf(name)) => Some(name),
            _ => None,
        }
    }

    /// The kind of the entry after the step; for a removal, before it.
    pub fn kind(&self) -> Kind {
        self.source.or(self.destination).map_or(Kind::File, |state| state.kind)
    }

    /// Bytes of the entry that the step adds, replaces or removes: of a hard link those of its file, of which it writes
    /// none.
    pub fn size(&self) -> u64 {
        if self.link().is_some() {
            self.source.map_or(0, |state| state.bytes())
        } else {
            self.bytes()
        }
    }

    /// Bytes of content that the step writes, or removes.
    pub fn bytes(&self) -> u64 {
        let state = match self.verb {
            Verb::Add | Verb::Replace if self.link().is_none() => self.source,
            Verb::Remove => self.destination,
            Verb::RemoveSource => self.source,
            _ => None,
        };
        state.map_or(0, |state| state.bytes())
    }

    /// True if it makes a folder that may have steps.
    pub(crate) fn makes_folder(&self) -> bool {
        self.kind() == Kind::Folder && matches!(self.verb, Verb::Add | Verb::Replace)
    }

    /// True if it replaces a folder, which must be empty by then.
    pub(crate) fn takes_a_folders_place(&self) -> bool {
        let onto_folder = self.destination.is_some_and(|there| there.kind == Kind::Folder);
        self.verb == Verb::Replace && onto_folder && self.kind() != Kind::Folder
    }

    /// True if it removes or replaces an entry other than a folder or leftover.
    pub(crate) fn displaces(&self) -> bool {
        let is_lost = matches!(self.verb, Verb::Replace | Verb::Remove);
        let is_folder = self.destination.is_none_or(|there| there.kind == Kind::Folder);
        is_lost && !is_folder && self.reason != Reason::Leftover
    }

    /// True if it writes a file's content.
    pub(crate) fn writes_file(&self) -> bool {
        let writes = matches!(self.verb, Verb::Add | Verb::Replace) && self.relation.is_none();
        writes && self.kind() == Kind::File && !self.is_taken_over()
    }

    /// True if it makes or changes an entry other than a folder.
    pub(crate) fn writes(&self) -> bool {
        !matches!(self.verb, Verb::Rename | Verb::Remove | Verb::RemoveSource)
            && self.kind() != Kind::Folder
    }
}

/// Which of `Part::elsewhere`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct NameId(pub(crate) u32);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_is_small_enough_for_the_budget_with_its_name() {
        // 160 bytes a step, of which a name of the usual length takes twenty.
        assert!(size_of::<Step>() <= 136, "{} bytes", size_of::<Step>());
        assert_eq!(size_of::<Option<Step>>(), size_of::<Step>());
    }
}
