//! Where a step stands in its part.

use utter_echo_model::verb::Side;

/// One of a part's steps: its folder, which of the folder's two lists, and its place in that.
///
/// Eight bytes, since there may be millions where files are read in the order of the disk. No plan that fits into
/// memory has four billion folders, or two billion steps in one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct StepId {
    folder: u32,
    /// The highest bit is set for what goes from the source.
    slot: u32,
}

const SOURCE: u32 = 1 << 31;

/// Of the roots themselves, which lie in no folder of the part.
const NO_FOLDER: u32 = u32::MAX;

impl StepId {
    /// A step in the folder at this position, by the side that it changes.
    pub(crate) fn new(folder: usize, side: Side, slot: usize) -> Self {
        let number = |at: usize| u32::try_from(at).unwrap_or(NO_FOLDER);
        let list = if side == Side::Source { SOURCE } else { 0 };
        Self { folder: number(folder), slot: number(slot) & !SOURCE | list }
    }

    /// What happens to the root of one side.
    pub(crate) fn of_root(side: Side) -> Self {
        Self { folder: NO_FOLDER, ..Self::new(0, side, 0) }
    }

    /// The position of its folder; `None` for a root.
    pub(crate) fn in_folder(self) -> Option<usize> {
        (self.folder != NO_FOLDER).then_some(self.folder as usize)
    }

    /// The same, where a root counts as a folder of itself.
    pub(crate) fn folder(self) -> usize {
        self.in_folder().unwrap_or(0)
    }

    pub(crate) fn side(self) -> Side {
        if self.slot & SOURCE == 0 { Side::Destination } else { Side::Source }
    }

    /// Its place in its list.
    pub(crate) fn slot(self) -> usize {
        (self.slot & !SOURCE) as usize
    }
}
