//! Tasks and places.

use std::borrow::Cow;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

/// What to do with the two sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Task {
    /// Add and replace; remove nothing.
    Copy,
    /// Add, replace and remove what the source does not have.
    Mirror,
    /// Only compare all attributes of every entry.
    Verify,
    /// Undo a run with a set-aside folder.
    Undo,
    /// Add, and remove from the source what has arrived.
    Move,
}

/// Properties of tasks. Code asks for these instead of comparing tasks.
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

    /// Removes extra entries from the destination.
    pub fn removes(self) -> bool {
        matches!(self, Self::Mirror)
    }

    /// Removes entries from the source once they have arrived.
    pub fn removes_sources(self) -> bool {
        matches!(self, Self::Move)
    }

    /// Changes neither side.
    pub fn only_compares(self) -> bool {
        matches!(self, Self::Verify)
    }

    /// The plan comes from an undo journal and not from a comparison.
    pub fn is_undo(self) -> bool {
        matches!(self, Self::Undo)
    }

    /// A single entry cannot be its source.
    pub fn needs_a_folder(self) -> bool {
        matches!(self, Self::Mirror)
    }

    /// The destination must exist.
    pub fn needs_a_destination(self) -> bool {
        matches!(self, Self::Verify)
    }

    /// The user is asked before entries are removed.
    pub fn asks_before_removing(self) -> bool {
        matches!(self, Self::Mirror | Self::Undo)
    }
}

impl Places {
    /// Copies the contents of a source into the destination, or several sources under their own names.
    pub fn new(sources: Vec<PathBuf>, destination: PathBuf) -> Self {
        Self {
            sources,
            destination,
            inside: false,
            typed: Vec::new(),
            drives: Vec::new(),
            some_may_be_missing: false,
        }
    }

    /// A path as the user typed it, if it is one of these places, or a path below one.
    pub fn shown<'a>(&'a self, path: &'a Path) -> Cow<'a, Path> {
        let places = || self.sources.iter().chain([&self.destination]).zip(&self.typed);
        let exactly = places().find(|(place, _)| *place == path);
        let below = || {
            let rest =
                places().find_map(|(place, typed)| Some((typed, path.strip_prefix(place).ok()?)));
            rest.map(|(typed, rest)| Cow::Owned(typed.join(rest)))
        };
        match exactly {
            Some((_, typed)) => Cow::Borrowed(typed),
            None => below().unwrap_or(Cow::Borrowed(path)),
        }
    }
}

/// The sources and the destination of a run. `Session` has the rule for paths.
#[derive(Clone, Debug)]
pub struct Places {
    /// Folders, or single entries; at least one.
    pub sources: Vec<PathBuf>,
    /// Where their contents go.
    pub destination: PathBuf,
    /// Put each source itself, under its own name, inside the destination.
    pub inside: bool,
    /// The sources and then the destination as the user typed them, if that is known.
    pub typed: Vec<PathBuf>,
    /// The labels or UUIDs of the drives by which they were found, in the same order, if that is known.
    pub drives: Vec<Option<String>>,
    /// If some of several sources do not exist, the others are taken.
    pub some_may_be_missing: bool,
}

/// What to do if the name of a moved entry is taken in the destination.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnConflict {
    /// Both stay and are reported.
    #[default]
    Skip,
    /// Replace the destination's.
    Replace,
    /// Replace the destination's if it is older; otherwise both stay.
    Newer,
    /// The arriving entry gets a dated name.
    KeepBoth,
    /// As answered for its path; without an answer both stay.
    Ask,
}

/// Options of a move.
#[derive(Clone, Copy, Debug, Default)]
pub struct MoveOptions {
    /// Keep empty folders in the source.
    pub leave_folders: bool,
    /// What to do if a name is taken.
    pub on_conflict: OnConflict,
}
