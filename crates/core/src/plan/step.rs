//! One change to the destination, and why.

use serde::{Deserialize, Serialize};

use crate::aspect::Aspects;
use crate::os::Kind;

use super::State;

/// One change to the destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Verb {
    /// The entry is not there yet.
    Add,
    /// The entry is there with other content or of another kind.
    Replace,
    /// Only aspects other than the content differ.
    Adjust,
    /// The entry is there under another name, or in another folder.
    Rename,
    /// The source does not have it.
    Remove,
}

impl Verb {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Add, Self::Replace, Self::Adjust, Self::Rename, Self::Remove];

    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Add => "add",
            Self::Replace => "replace",
            Self::Adjust => "adjust",
            Self::Rename => "rename",
            Self::Remove => "remove",
        }
    }
}

/// Kinds of steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Verbs(u8);

impl Verbs {
    /// All of them.
    pub const ALL: Self = Self(0b11111);

    /// None of them.
    pub const NONE: Self = Self(0);

    /// True if steps of this kind are among them.
    pub fn has(self, verb: Verb) -> bool {
        self.0 >> verb as u8 & 1 == 1
    }

    /// These and that.
    #[must_use]
    pub fn with(self, verb: Verb) -> Self {
        Self(self.0 | 1 << verb as u8)
    }

    /// These without that.
    #[must_use]
    pub fn without(self, verb: Verb) -> Self {
        Self(self.0 & !(1 << verb as u8))
    }

    /// Reads a list as a user types it: `all`, `add,replace`, `all,-rename`. Later words act on what
    /// earlier ones left; a list that opens with a `-` starts from `all`.
    ///
    /// # Errors
    /// The first word that names no kind of step.
    pub fn parse(list: &str) -> Result<Self, UnknownVerb> {
        let mut set = if list.trim_start().starts_with('-') { Self::ALL } else { Self::NONE };
        for word in list.split(',').map(str::trim) {
            let (name, take) = word.strip_prefix('-').map_or((word, true), |rest| (rest, false));
            let named = match Verb::ALL.into_iter().find(|verb| verb.name() == name) {
                Some(verb) => Self::NONE.with(verb),
                None if name == "all" => Self::ALL,
                None => return Err(UnknownVerb(word.to_owned())),
            };
            set = if take { Self(set.0 | named.0) } else { Self(set.0 & !named.0) };
        }
        Ok(set)
    }
}

impl FromIterator<Verb> for Verbs {
    fn from_iter<I: IntoIterator<Item = Verb>>(verbs: I) -> Self {
        Self(verbs.into_iter().fold(0, |all, verb| all | 1 << verb as u8))
    }
}

/// A word in a list of kinds of steps that names none.
#[derive(Debug, thiserror::Error)]
#[error(
    "'{0}' is no kind of step; there are all, add, replace, adjust, rename and remove, each also with a '-' in front"
)]
pub struct UnknownVerb(String);

/// Why a step is in the plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Reason {
    /// Not in the destination.
    New,
    /// One is a folder, say, and the other a file.
    Kind,
    /// Size or modification time differ.
    SizeTime,
    /// Same size, other bytes, the first of them at this offset.
    Content {
        /// Counted from 0.
        offset: u64,
    },
    /// A link leads elsewhere, or a device has another number.
    Reference,
    /// The source has it as a hard link of another name, the destination not.
    Linked,
    /// The destination shares it with another name, the source not.
    Apart,
    /// Only aspects differ; the step names them.
    Aspects,
    /// Not in the source.
    Extra,
    /// Left behind by an interrupted run of this program.
    Leftover,
    /// It was elsewhere in the destination, where the source does not have it any more.
    Moved,
    /// Left out by the selection, and such is to go.
    Unselected,
    /// A run that is taken back made it.
    Made,
    /// A run that is taken back displaced it.
    Before,
}

/// One step. Its name and place are told by [`Plan::steps`](super::Plan::steps).
#[derive(Clone, Copy, Debug)]
pub struct Step {
    /// What it does.
    pub verb: Verb,
    /// Why.
    pub reason: Reason,
    /// The aspects that differ, the content left out.
    pub aspects: Aspects,
    /// The source's side; `None` if it has none.
    pub source: Option<State>,
    /// The destination's side; `None` if it has none.
    pub destination: Option<State>,
    pub(crate) leader: Option<LeaderId>,
    pub(crate) name: NameRange,
}

impl Step {
    pub(crate) fn new(
        verb: Verb,
        reason: Reason,
        source: Option<State>,
        destination: Option<State>,
    ) -> Self {
        let (aspects, leader, name) = (Aspects::NONE, None, NameRange::default());
        Self { verb, reason, aspects, source, destination, leader, name }
    }

    /// The name that a hard link is made to.
    pub(crate) fn link(&self) -> Option<LeaderId> {
        self.leader.filter(|_| self.verb != Verb::Rename)
    }

    /// The kind of the entry once the step is done; of what goes, for a removal.
    pub fn kind(&self) -> Kind {
        self.source.or(self.destination).map_or(Kind::File, |state| state.kind)
    }

    /// Bytes of content that the step writes, keeps for a rename, or gives up for a removal.
    pub fn bytes(&self) -> u64 {
        let state = match self.verb {
            Verb::Add | Verb::Replace if self.link().is_none() => self.source,
            Verb::Remove | Verb::Rename => self.destination,
            _ => None,
        };
        state.map_or(0, |state| state.bytes())
    }
}

/// Where a step's name stands in its folder's names.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct NameRange {
    pub(super) start: u32,
    pub(super) length: u16,
}

/// Which entry of [`Part::leaders`](super::Part::leaders).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct LeaderId(pub(crate) u32);

/// The name that other names of the same file are linked to, or that a rename takes away.
#[derive(Debug)]
pub(crate) struct Leader {
    pub(crate) folder: u32,
    pub(crate) name: Box<[u8]>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_leaves_room_for_its_name_within_the_budget() {
        // 160 bytes a step, of which a name of the usual length takes twenty.
        assert!(size_of::<Step>() <= 136, "{} bytes", size_of::<Step>());
        assert_eq!(size_of::<Option<Step>>(), size_of::<Step>());
    }
}
