//! Facts: what the two sides show of one path, before anything is decided.

use utter_echo_model::aspect::Aspects;
use utter_echo_model::identity::{DriveId, InodeNumbers};
use utter_echo_model::names::NameObjection;
use utter_echo_model::path::{NameArena, NameRange, TreePath};
use utter_echo_model::problem::Cause;
use utter_echo_model::state::{FolderIdentity, State};
use utter_echo_os::{Identity, Stat};

use crate::request::RenamePath;

/// What one side shows of a name.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum OnSide {
    /// It has no such entry.
    Absent,
    /// It has one that the selection leaves out.
    LeftOut,
    /// It has one that takes part.
    There(State),
}

impl OnSide {
    pub(crate) fn state(&self) -> Option<State> {
        match self {
            Self::There(state) => Some(*state),
            Self::Absent | Self::LeftOut => None,
        }
    }
}

/// Why a content counts as another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Change {
    /// Size or modification time differ.
    SizeTime,
    /// Same size, different bytes, the first of them at this offset.
    Bytes(u64),
    /// A symbolic link has another text, or a device another number.
    Reference,
}

/// In what the two sides differ.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum What {
    /// Nothing, as it turned out.
    Nothing,
    /// Nothing, and that was asked for.
    Same,
    /// Only the source has it.
    New,
    /// Only the destination has it.
    Extra,
    /// Only the destination has it, and it is what an interrupted run left.
    Leftover,
    /// The destination has it, and the selection leaves it out on one side or both.
    LeftOut,
    /// The sides have different kinds, such as a folder and a file.
    Kind,
    /// The content; why it counts as another.
    Content(Change),
    /// Only these.
    Aspects(Aspects),
}

/// What keeps the destination's drive from taking the source's entry.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Obstacle {
    /// It holds none of this kind, or not for this caller.
    Kind,
    /// It does not take the name.
    Name(NameObjection),
    /// To it the name is the same as that of an entry before.
    SameName(Vec<u8>),
    /// It stores no file this long, in bytes.
    Size(u64),
    /// It holds no link text this long.
    LinkText,
    /// It holds no device of this number.
    DeviceNumber,
    /// Another drive is mounted there.
    Mount,
}

/// One path on which the two sides do not agree.
#[derive(Clone, Debug)]
pub(crate) struct Difference {
    pub(crate) name: NameRange,
    pub(crate) source: OnSide,
    pub(crate) destination: OnSide,
    pub(crate) what: What,
    /// Boxed, since nearly none has one.
    pub(crate) obstacle: Option<Box<Obstacle>>,
    /// Whether the source's could be renamed into its place.
    pub(crate) rename_path: RenamePath,
    /// The source's name of it, where that is another.
    pub(crate) source_name: Option<NameRange>,
}

impl Difference {
    pub(crate) fn nothing(name: NameRange) -> Self {
        let (source, destination) = (OnSide::Absent, OnSide::Absent);
        let (what, obstacle, rename_path) = (What::Nothing, None, RenamePath::Impossible);
        Self { name, source, destination, what, obstacle, rename_path, source_name: None }
    }
}

/// A name, on one side, of an entry that is no folder.
#[derive(Clone, Copy, Debug)]
pub(crate) struct LinkedEntry {
    pub(crate) state: State,
    pub(crate) identity: Identity,
    /// How many names it has in all, those outside of the tree among them.
    pub(crate) links: u32,
}

impl LinkedEntry {
    pub(crate) fn seen(stat: &Stat, numbers: InodeNumbers) -> Self {
        let state = State::seen(stat, numbers);
        Self { state, identity: stat.identity, links: stat.links }
    }
}

/// A name of an entry that has more than one on either side.
#[derive(Clone, Copy, Debug)]
pub(crate) struct LinkedName {
    pub(crate) name: NameRange,
    pub(crate) source: LinkedEntry,
    /// `None` if there is none, or one of another kind.
    pub(crate) destination: Option<LinkedEntry>,
    /// Which of the folder's differences it has, if it has one.
    pub(crate) difference: Option<usize>,
}

/// On which sides a folder exists.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Presence {
    Both,
    Source,
    Destination,
}

/// A folder, from when it is compared until its steps are planned.
#[derive(Debug, Default)]
pub(crate) struct FolderHead {
    /// The destination's.
    pub(crate) name: Box<[u8]>,
    /// The source's, where that is another.
    pub(crate) source_name: Option<Box<[u8]>>,
    pub(crate) known: FolderIdentity,
    /// The destination's, if there is one and it belongs to the tree.
    pub(crate) before: Option<State>,
    pub(crate) names: NameArena,
}

/// What stays in a folder, and why.
#[derive(Debug, Default)]
pub(crate) struct FolderStays {
    /// Something of the destination stays in it, whatever is decided: left out, unknown, or on a
    /// drive that is none of this run's.
    pub(crate) holds: bool,
    /// Something of the source stays in it, whatever is decided: left out, unknown, or on another drive.
    pub(crate) stays_here: bool,
    /// Why nothing can go from the source's folder itself, where that was asked.
    pub(crate) locked: Option<Cause>,
    /// The user whose entries alone can go from it; all can where there is none.
    pub(crate) only_of: Option<u32>,
}

/// A folder of which everything is known: what comparing gives to a [`FolderSink`].
#[derive(Debug)]
#[allow(clippy::struct_excessive_bools, reason = "facts, each by itself")]
pub(crate) struct ComparedFolder {
    /// As the source has it, relative to the root; known only where something in it differs.
    pub(crate) path: TreePath,
    /// The same as the destination has it.
    pub(crate) path_there: TreePath,
    pub(crate) is_root: bool,
    pub(crate) presence: Presence,
    pub(crate) differences: Vec<Difference>,
    pub(crate) linked: Vec<LinkedName>,
    /// It takes part only for what takes part in it.
    pub(crate) for_what_it_holds: bool,
    /// What became of the folders in it: which of its differences each is, if it is one, and what the
    /// sink gave back for it.
    pub(crate) below: Vec<(Option<usize>, FolderDecision)>,
    pub(crate) head: FolderHead,
    pub(crate) stays: FolderStays,
}

/// What stays in a folder of the destination, and why.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum WhatStays {
    /// Nothing does.
    #[default]
    Nothing,
    /// Only what an option forbids to take away.
    Held,
    /// Something, whatever is allowed.
    Something,
}

/// What a sink made of a folder, as far as the one above it must know.
#[derive(Clone, Copy, Debug, Default)]
#[allow(clippy::struct_excessive_bools, reason = "facts, each by itself")]
pub(crate) struct FolderDecision {
    /// Its number there, if it is kept.
    pub(crate) number: Option<usize>,
    /// What stays in it of the destination.
    pub(crate) stays: WhatStays,
    /// Something of the destination goes from it.
    pub(crate) removes: bool,
    /// Something of the source stays in it.
    pub(crate) stays_here: bool,
    /// What was to go from it, all of it, stays in the source since that cannot be changed.
    pub(crate) is_locked: bool,
    /// It takes part only for what takes part in it.
    pub(crate) for_what_it_holds: bool,
}

/// Takes folders, each after all that are in it.
pub(crate) trait FolderSink {
    fn folder(&mut self, folder: ComparedFolder) -> FolderDecision;
}

impl ComparedFolder {
    /// True if a sink has nothing to do with it, nor with what is below it.
    pub(crate) fn is_plain(&self) -> bool {
        !self.is_root
            && self.differences.is_empty()
            && self.linked.is_empty()
            && self.below.iter().all(|(_, below)| below.number.is_none())
    }

    pub(crate) fn drive(&self) -> DriveId {
        self.head.known.drive
    }
}
