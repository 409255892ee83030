//! Guards, limits and the set-aside folder.

use std::fmt;
use std::path::PathBuf;

/// The most removals of a mirror.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub enum RemovalLimit {
    /// A third of the destination's entries, once that is more than twenty removals.
    #[default]
    Usual,
    /// This many entries.
    Count(u64),
    /// This part of the destination's entries, in percent.
    Percent(f64),
}

/// A check, by the name it is waived with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Guard {
    /// One side lies inside the other; cannot be waived.
    Overlap,
    /// A mirror whose source holds nothing that is selected, while the destination does.
    EmptySource,
    /// A mirror that removes more than its limit.
    Removals,
    /// A plan that needs more space than there is.
    Space,
    /// A mirror into a destination that looks nothing like the source, while a folder directly above or below it
    /// does.
    Nesting,
    /// A mirror that would mostly replace or remove entries newer than anything in the source.
    Swapped,
    /// A place on a drive that is not mounted, or on another drive than was named.
    Drive,
    /// A destination that another run is working on.
    OtherRun,
    /// A move to a drive that cannot store attributes of the source.
    Loss,
}

impl Guard {
    /// All guards.
    pub const ALL: [Self; 9] = [
        Self::Overlap,
        Self::EmptySource,
        Self::Removals,
        Self::Space,
        Self::Nesting,
        Self::Swapped,
        Self::Drive,
        Self::OtherRun,
        Self::Loss,
    ];

    /// Its name in options, messages and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Overlap => "overlap",
            Self::EmptySource => "empty-source",
            Self::Removals => "removals",
            Self::Space => "space",
            Self::Nesting => "nesting",
            Self::Swapped => "swapped",
            Self::Drive => "drive",
            Self::OtherRun => "other-run",
            Self::Loss => "loss",
        }
    }
}

impl fmt::Display for Guard {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// Which set-aside runs are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Keep {
    /// The newest runs, this many including the present one.
    Newest(usize),
    /// The runs whose names are not less than this one, in the form of [`SetAside::run`].
    Since(String),
}

/// The place for entries that a run would remove or replace.
#[derive(Clone, Debug)]
pub struct SetAside {
    /// The folder with one folder for each run.
    pub folder: PathBuf,
    /// Name of this run: its time in UTC as `2026-11-23T14-05-09Z`, so that names sort by time. If
    /// it is taken, a number is added.
    pub run: String,
    /// Which runs to keep after this one; `None` for all.
    pub keep: Option<Keep>,
    /// What is kept there.
    pub what: Keeping,
}

/// What is kept in a set-aside folder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Keeping {
    /// Displaced entries and the undo journal. Without them nothing is done.
    #[default]
    Displaced,
    /// Only the undo journal of a move, which goes on if it cannot be written.
    Journal,
}

/// Guards and limits.
#[derive(Clone, Debug, Default)]
pub struct Safety {
    /// The most removals of a mirror.
    pub removal_limit: RemovalLimit,
    /// Remove files before anything is added, for drives without space for both.
    pub remove_first: bool,
    /// Label or UUID of the drive that the destination must lie on.
    pub drive: Option<String>,
    /// The fewest entries of the source, its own folder not counted.
    pub expected: u64,
    /// Waived guards.
    pub waived: Vec<Guard>,
    /// Where displaced entries are kept; `None` to lose them.
    pub set_aside: Option<SetAside>,
}
