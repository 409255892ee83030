//! The verbs, sides and reasons of steps.

use serde::{Deserialize, Serialize};

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Verb {
    /// The entry is missing in the destination.
    Add,
    /// The destination's entry has other content or another kind.
    Replace,
    /// Only attributes differ.
    Adjust,
    /// The destination has the entry under another name or in another folder.
    Rename,
    /// The source does not have it.
    Remove,
    /// The entry is removed from the source, since its copy is verified.
    #[serde(rename = "remove-source")]
    RemoveSource,
}

impl Verb {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Add, Self::Replace, Self::Adjust, Self::Rename, Self::Remove, Self::RemoveSource];

    /// The word for it, the same on either side.
    pub fn name(self) -> &'static str {
        match self {
            Self::Add => "add",
            Self::Replace => "replace",
            Self::Adjust => "adjust",
            Self::Rename => "rename",
            Self::Remove | Self::RemoveSource => "remove",
        }
    }
}

/// Kinds of steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Verbs(u8);

impl Verbs {
    /// All of them.
    pub const ALL: Self = Self(0b11_1111);
    /// None of them.
    pub const NONE: Self = Self(0);

    /// True if the set holds this kind.
    pub fn has(self, verb: Verb) -> bool {
        self.0 >> verb as u8 & 1 == 1
    }

    /// The set with one more kind.
    #[must_use]
    pub fn with(self, verb: Verb) -> Self {
        Self(self.0 | 1 << verb as u8)
    }

    /// The set without one kind.
    #[must_use]
    pub fn without(self, verb: Verb) -> Self {
        Self(self.0 & !(1 << verb as u8))
    }

    /// The kinds among them, in the order of [`Verb::ALL`].
    pub fn iter(self) -> impl Iterator<Item = Verb> {
        Verb::ALL.into_iter().filter(move |verb| self.has(*verb))
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
            let named: Self = Verb::ALL.into_iter().filter(|verb| verb.name() == name).collect();
            let named = match named {
                _ if name == "all" => Self::ALL,
                Self::NONE => return Err(UnknownVerb(word.to_owned())),
                named => named,
            };
            set = if take { Self(set.0 | named.0) } else { Self(set.0 & !named.0) };
        }
        Ok(set)
    }
}

impl FromIterator<Verb> for Verbs {
    fn from_iter<I: IntoIterator<Item = Verb>>(verbs: I) -> Self {
        verbs.into_iter().fold(Self::NONE, Self::with)
    }
}

/// A word in a list of kinds of steps that names none.
#[derive(Debug, thiserror::Error)]
#[error(
    "'{0}' is not a kind of step; the kinds are all, add, replace, adjust, rename and remove, each also with a '-' in front to leave it out"
)]
pub struct UnknownVerb(String);

/// Why a step is in the plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// Not in the destination.
    New,
    /// The sides have different kinds, such as a folder and a file.
    Kind,
    /// Size or modification time differ.
    SizeTime,
    /// Same size, different bytes, the first of them at this offset.
    Content {
        /// Counted from 0.
        offset: u64,
    },
    /// A symbolic link has another text, or a device another number.
    Reference,
    /// It is a hard link of another name in the source, but not in the destination.
    Linked,
    /// It is a hard link of another name in the destination, but not in the source.
    Apart,
    /// Only attributes differ; the step lists them.
    Attributes,
    /// Not in the source.
    Extra,
    /// Left behind by an interrupted run of this program.
    Leftover,
    /// The destination has it elsewhere, where the source no longer does.
    Moved,
    /// Left out by the selection, and such entries are removed.
    Unselected,
    /// The run that is undone made it.
    Made,
    /// The run that is undone displaced it.
    Before,
    /// It is renamed from the source, on the same drive, with all its attributes and entries.
    TakenOver,
    /// It is removed once the copy that this plan makes is verified.
    Arrives,
    /// It is removed once the entry that the destination has already is verified.
    Arrived,
}

/// The side that a step changes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// The tree that is copied.
    Source,
    /// The tree that is changed to match the source.
    #[default]
    Destination,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_of_steps_is_read_from_left_to_right() {
        let parse = |list| Verbs::parse(list).unwrap();
        assert_eq!(parse("all"), Verbs::ALL);
        assert_eq!(parse("add, replace").iter().collect::<Vec<_>>(), [Verb::Add, Verb::Replace]);
        assert_eq!(parse("all,-rename"), Verbs::ALL.without(Verb::Rename));
        assert_eq!(parse("-rename,-remove,remove"), Verbs::ALL.without(Verb::Rename));
        for wrong in ["", "copy", "add,,remove", "--add"] {
            assert!(Verbs::parse(wrong).is_err(), "{wrong}");
        }
    }
}
