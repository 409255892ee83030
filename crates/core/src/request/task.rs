//! What to do with which places.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// What to do with the two sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Task {
    /// Add and replace; remove nothing.
    Copy,
    /// Add, replace and remove what the source does not have.
    Mirror,
    /// Only compare, and look at every aspect of every entry.
    Verify,
    /// Take back what a run did that set aside what it displaced.
    Undo,
    /// Add, and take away from the source what has arrived.
    Move,
}

/// What a task may do, and what it needs: asked by these names, and not by the task's own.
impl Task {
    /// Its name in messages and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Copy => "copy",
            Self::Mirror => "mirror",
            Self::Verify => "verify",
            Self::Undo => "undo",
            Self::Move => "move",
        }
    }

    /// What the source lacks goes from the destination.
    pub fn removes(self) -> bool {
        matches!(self, Self::Mirror)
    }

    /// What has arrived goes from the source.
    pub fn vacates(self) -> bool {
        matches!(self, Self::Move)
    }

    /// Nothing is changed on either side.
    pub fn only_compares(self) -> bool {
        matches!(self, Self::Verify)
    }

    /// The plan comes from the notes of another run, and not from comparing.
    pub fn is_undo(self) -> bool {
        matches!(self, Self::Undo)
    }

    /// A single entry cannot be its source.
    pub fn needs_a_folder(self) -> bool {
        matches!(self, Self::Mirror)
    }

    /// The destination must be there.
    pub fn needs_a_destination(self) -> bool {
        matches!(self, Self::Verify)
    }

    /// Somebody should be asked before what is there goes.
    pub fn asks_before_removing(self) -> bool {
        matches!(self, Self::Mirror | Self::Undo)
    }
}

impl Places {
    /// The contents of each source into this destination, or, for several, each under its own name.
    pub fn new(sources: Vec<PathBuf>, destination: PathBuf) -> Self {
        Self { sources, destination, inside: false }
    }
}

/// Where a run goes from and to. See `Session` for the rule that joins the two.
#[derive(Clone, Debug)]
pub struct Places {
    /// Folders, or single entries; at least one.
    pub sources: Vec<PathBuf>,
    /// Where their contents go.
    pub destination: PathBuf,
    /// Put each source itself, under its own name, inside the destination.
    pub inside: bool,
}

/// What to do where a moved entry meets another of its name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnConflict {
    /// Both stay where they are, and are reported.
    #[default]
    Skip,
    /// The destination's gives way.
    Replace,
    /// The destination's gives way if it is older; else both stay.
    Newer,
    /// The one that arrives gets a name with its date. A folder that meets something else stays.
    KeepBoth,
    /// Whatever was answered for its path; both stay where nothing was.
    Ask,
}

/// How a move goes about it.
#[derive(Clone, Copy, Debug, Default)]
pub struct Vacating {
    /// Folders of the source stay, empty.
    pub leave_folders: bool,
    /// What to do where there is something else already.
    pub on_conflict: OnConflict,
}
