//! Guards, limits, and where things are set aside.

use std::fmt;
use std::path::PathBuf;

/// How many removals a mirror may hold.
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
    /// A plan that needs more room than there is.
    Space,
    /// A mirror into a destination that looks nothing like the source, while a folder right above or
    /// right below it does.
    Nesting,
    /// A mirror that would mostly take away what was written in the destination after the newest
    /// entry of the source.
    Swapped,
    /// A place on a drive that is not mounted, or on another drive than was named.
    Drive,
    /// A destination that another run is working on.
    OtherRun,
    /// A move onto a drive that cannot hold what would be gone with the source.
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

/// Which of the runs that set something aside are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Keep {
    /// So many of them, the run itself among them.
    Newest(usize),
    /// Those whose names are not less than this one, which has the form of [`SetAside::run`].
    Since(String),
}

/// Where to move what a run would remove or replace.
#[derive(Clone, Debug)]
pub struct SetAside {
    /// The folder that holds a folder for each run.
    pub folder: PathBuf,
    /// Name of this run: its time in UTC as `2026-11-23T14-05-09Z`, so that names sort by time. If
    /// it is taken, a number is added.
    pub run: String,
    /// Which runs to keep once this one is done; `None` for all.
    pub keep: Option<Keep>,
    /// What the folder is for.
    pub what: Keeping,
}

/// What of a run is kept where it sets aside.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Keeping {
    /// What it displaces, with what it takes to undo the run. Nothing is done that cannot be kept.
    #[default]
    Displaced,
    /// Only what it takes to undo a move. It goes on if that cannot be kept.
    Notes,
}

/// What may refuse a plan, and what not.
#[derive(Clone, Debug, Default)]
pub struct Safety {
    /// Most removals that a mirror may hold.
    pub removal_limit: RemovalLimit,
    /// Files are removed before anything arrives: for drives that have no room for both.
    pub remove_first: bool,
    /// Label or UUID of the drive that the destination must lie on.
    pub drive: Option<String>,
    /// Guards that are switched off for this run.
    pub waived: Vec<Guard>,
    /// Where what is displaced goes; `None` to lose it.
    pub set_aside: Option<SetAside>,
}
