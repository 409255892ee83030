//! Facts about one path on both sides, before anything is decided.

use utter_echo_model::attribute::Attributes;
use utter_echo_model::identity::{DriveId, InodeNumbers};
use utter_echo_model::names::NameObjection;
use utter_echo_model::path::{NameArena, NameRange, TreePath};
use utter_echo_model::problem::Cause;
use utter_echo_model::state::{FolderIdentity, State};
use utter_echo_os::{Identity, Stat};

use crate::request::RenamePath;

/// A name on one side.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum OnSide {
    /// There is no such entry.
    Absent,
    /// There is one that the selection leaves out.
    LeftOut,
    /// There is one that takes part.
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

/// Why contents count as different.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Change {
    /// Size or modification time differ.
    SizeTime,
    /// Same size, different bytes, the first of them at this offset.
    Bytes(u64),
    /// A symbolic link has another text, or a device another number.
    Reference,
}

/// The difference between the two sides.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum DifferenceKind {
    /// None after all.
    Nothing,
    /// None, which was asked for.
    Same,
    /// Only the source has it.
    New,
    /// Only the destination has it.
    Extra,
    /// Only the destination has it, left by an interrupted run.
    Leftover,
    /// The destination has it, and the selection leaves it out on one side or both.
    LeftOut,
    /// The sides have different kinds, such as a folder and a file.
    Kind,
    /// The content, and why it counts as different.
    Content(Change),
    /// Only these attributes.
    Attributes(Attributes),
}

/// Why the destination's drive cannot hold the source's entry.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Obstacle {
    /// It does not support this kind, or not for this caller.
    Kind,
    /// It does not accept the name.
    Name(NameObjection),
    /// It takes the name for that of an earlier entry.
    SameName(Vec<u8>),
    /// It cannot store files longer than this, in bytes.
    Size(u64),
    /// It does not accept a link text this long.
    LinkText,
    /// It does not accept this device number.
    DeviceNumber,
    /// Another drive is mounted there.
    Mount,
}

/// A path on which the two sides differ.
#[derive(Clone, Debug)]
pub(crate) struct Difference {
    pub(crate) name: NameRange,
    pub(crate) source: OnSide,
    pub(crate) destination: OnSide,
    pub(crate) what: DifferenceKind,
    /// Boxed, since it is rare.
    pub(crate) obstacle: Option<Box<Obstacle>>,
    /// Whether the source's entry can be renamed into its place.
    pub(crate) rename_path: RenamePath,
    /// The source's name, if that differs.
    pub(crate) source_name: Option<NameRange>,
}

impl Difference {
    pub(crate) fn nothing(name: NameRange) -> Self {
        let (source, destination) = (OnSide::Absent, OnSide::Absent);
        let (what, obstacle, rename_path) = (DifferenceKind::Nothing, None, RenamePath::Impossible);
        Self { name, source, destination, what, obstacle, rename_path, source_name: None }
    }
}

/// A name of an entry other than a folder, on one side.
#[derive(Clone, Copy, Debug)]
pub(crate) struct LinkedEntry {
    pub(crate) state: State,
    pub(crate) identity: Identity,
    /// The number of all its names, including those outside of the tree.
    pub(crate) links: u32,
}

impl LinkedEntry {
    pub(crate) fn seen(stat: &Stat, numbers: InodeNumbers) -> Self {
        let state = State::seen(stat, numbers);
        Self { state, identity: stat.identity, links: stat.links }
    }
}

/// A name of an entry with hard links on either side.
#[derive(Clone, Copy, Debug)]
pub(crate) struct LinkedName {
    pub(crate) name: NameRange,
    pub(crate) source: LinkedEntry,
    /// `None` if there is no entry, or one of another kind.
    pub(crate) destination: Option<LinkedEntry>,
    /// The index of its difference in the folder, if it has one.
    pub(crate) difference: Option<usize>,
}

/// The sides on which a folder exists.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Presence {
    Both,
    Source,
    Destination,
}

/// The identity and names of a folder, from the comparison to the plan.
#[derive(Debug, Default)]
pub(crate) struct FolderHead {
    /// The destination's.
    pub(crate) name: Box<[u8]>,
    /// The source's, if that differs.
    pub(crate) source_name: Option<Box<[u8]>>,
    pub(crate) known: FolderIdentity,
    /// The destination's state, if there is such a folder and it belongs to the tree.
    pub(crate) before: Option<State>,
    pub(crate) names: NameArena,
}

/// What stays in a folder, and why.
#[derive(Debug, Default)]
pub(crate) struct FolderStays {
    /// Something stays in the destination's folder in any case: left out, unknown, or on another drive.
    pub(crate) destination_stays: bool,
    /// Something stays in the source's folder in any case: left out, unknown, or on another drive.
    pub(crate) source_stays: bool,
    /// Why nothing can be removed from the source's folder, if that was asked.
    pub(crate) locked: Option<Cause>,
    /// The user whose entries alone can be removed from it; `None` if all can.
    pub(crate) only_of: Option<u32>,
}

/// A folder with all its differences, as passed to a [`FolderSink`].
#[derive(Debug)]
#[allow(clippy::struct_excessive_bools, reason = "facts, each by itself")]
pub(crate) struct ComparedFolder {
    /// Its path in the source, relative to the root; known only if something in it differs.
    pub(crate) path: TreePath,
    /// Its path in the destination.
    pub(crate) path_there: TreePath,
    pub(crate) is_root: bool,
    pub(crate) presence: Presence,
    pub(crate) differences: Vec<Difference>,
    pub(crate) linked: Vec<LinkedName>,
    /// It takes part only because something in it does.
    pub(crate) for_what_it_holds: bool,
    /// The folders in it: the index of their difference, if any, and the decision that the sink returned.
    pub(crate) below: Vec<(Option<usize>, FolderDecision)>,
    pub(crate) head: FolderHead,
    pub(crate) stays: FolderStays,
}

/// What stays in a folder of the destination, and why.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum WhatStays {
    /// Nothing stays.
    #[default]
    Nothing,
    /// Only entries that an option protects.
    Held,
    /// Something that no option could remove.
    Something,
}

/// The decision of a sink about a folder, as far as the folder above needs it.
#[derive(Clone, Copy, Debug, Default)]
#[allow(clippy::struct_excessive_bools, reason = "facts, each by itself")]
pub(crate) struct FolderDecision {
    /// Its index in the sink, if it is kept.
    pub(crate) number: Option<usize>,
    /// What stays in the destination's folder.
    pub(crate) stays: WhatStays,
    /// Something is removed from the destination's folder.
    pub(crate) removes: bool,
    /// Something stays in the source's folder.
    pub(crate) source_stays: bool,
    /// Everything that was to be removed from the source's folder stays, since the folder cannot be changed.
    pub(crate) is_locked: bool,
    /// It takes part only because something in it does.
    pub(crate) for_what_it_holds: bool,
}

/// Receives folders, each after all folders in it.
pub(crate) trait FolderSink {
    fn folder(&mut self, folder: ComparedFolder) -> FolderDecision;
}

impl ComparedFolder {
    /// True if neither the folder nor anything below it concerns the sink.
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
