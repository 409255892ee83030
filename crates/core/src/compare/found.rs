//! The results of a comparison besides the differences in folders.

use std::io;

use utter_echo_model::count::{Count, Tally};
use utter_echo_model::note::Note;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Problem};
use utter_echo_model::state::State;
use utter_echo_model::verb::Side;
use utter_echo_os::Time;

use crate::compare::difference::DifferenceKind;

/// The results of a comparison besides the folders that it passes to a sink.
#[derive(Debug, Default)]
pub(crate) struct Compared {
    pub(crate) problems: Vec<Problem>,
    pub(crate) notes: Vec<Note>,
    pub(crate) source: Tally,
    pub(crate) newest: Option<Time>,
    pub(crate) destination: Tally,
    pub(crate) unchanged: Count,
    pub(crate) sampled: Count,
    pub(crate) left_behind: LeftBehind,
    /// The source's root takes part itself.
    pub(crate) takes_root: bool,
    /// `None` if the root takes no part, or both roots are equal.
    pub(crate) root: Option<RootDifference>,
}

/// What interrupted runs left.
#[derive(Debug, Default)]
pub(crate) struct LeftBehind {
    /// Folders of the destination with a dirty marker.
    pub(crate) marked_folders: Vec<TreePath>,
    /// Folders with an exit folder of a killed move, and their side.
    pub(crate) exits: Vec<(Side, TreePath)>,
}

/// The difference of the two roots themselves.
#[derive(Clone, Copy, Debug)]
pub(crate) struct RootDifference {
    pub(crate) source: State,
    pub(crate) destination: Option<State>,
    pub(crate) what: DifferenceKind,
}

/// Why comparing ended without a result.
#[derive(Debug)]
pub(crate) enum Halt {
    /// The source folder itself cannot be listed.
    SourceClosed(Cause),
    /// One side turned up within the other at this path.
    Overlap(TreePath),
    /// The observer asked to stop.
    Stopped,
}

impl Halt {
    pub(crate) fn source_closed(error: io::Error) -> Self {
        Self::SourceClosed(error.into())
    }
}
