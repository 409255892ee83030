//! The position of a step in its part.

use utter_echo_model::verb::Side;

/// A step of a part: its folder, one of the folder's two lists, and its index in that.
///
/// Eight bytes, since disk order needs one for each file. No plan in memory has four billion folders, or two
/// billion steps in one folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct StepId {
    folder: u32,
    /// The highest bit is set for removals from the source.
    slot: u32,
}

const SOURCE: u32 = 1 << 31;

/// The folder number of the roots themselves.
const NO_FOLDER: u32 = u32::MAX;

impl StepId {
    /// A step in a folder, by the side that it changes.
    pub(crate) fn new(folder: usize, side: Side, slot: usize) -> Self {
        let number = |at: usize| u32::try_from(at).unwrap_or(NO_FOLDER);
        let list = if side == Side::Source { SOURCE } else { 0 };
        Self { folder: number(folder), slot: number(slot) & !SOURCE | list }
    }

    /// The step of the root of one side.
    pub(crate) fn of_root(side: Side) -> Self {
        Self { folder: NO_FOLDER, ..Self::new(0, side, 0) }
    }

    /// The index of its folder; `None` for a root.
    pub(crate) fn in_folder(self) -> Option<usize> {
        (self.folder != NO_FOLDER).then_some(self.folder as usize)
    }

    /// The index of its folder; 0 for a root.
    pub(crate) fn folder(self) -> usize {
        self.in_folder().unwrap_or(0)
    }

    pub(crate) fn side(self) -> Side {
        if self.slot & SOURCE == 0 { Side::Destination } else { Side::Source }
    }

    /// Its index in its list.
    pub(crate) fn slot(self) -> usize {
        (self.slot & !SOURCE) as usize
    }
}
