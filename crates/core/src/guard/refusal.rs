//! Why a plan was refused.

use utter_echo_model::note::Nested;

use crate::request::Guard;

/// Why a plan was refused, with the figures that made it so.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// See [`Guard::Overlap`].
    #[error("'{source_path}' and '{destination_path}' overlap: they are one folder, or one lies inside the other{}\n  choose a destination outside the source", .at.as_ref().map(|at| format!(" (at '{at}')")).unwrap_or_default())]
    Overlap {
        /// As the user named it.
        source_path: String,
        /// As the user named it.
        destination_path: String,
        /// Where one lies in the other, if their paths do not show it.
        at: Option<String>,
    },
    /// The set-aside folder would become part of a side. See [`Guard::Overlap`].
    #[error(
        "the set-aside folder '{folder}' is inside '{source_path}' or '{destination_path}'\n  choose a folder outside both; on the destination's drive nothing has to be copied"
    )]
    SetAsideWithin {
        /// As the user named it.
        folder: String,
        /// As the user named it.
        source_path: String,
        /// As the user named it.
        destination_path: String,
    },
    /// See [`Guard::EmptySource`].
    #[error(
        "the source has nothing to mirror, and {removals} entries of the destination would be removed\n  check that the source's drive is mounted and that the patterns are right; to mirror it anyway: --waive empty-source"
    )]
    EmptySource {
        /// Entries that would be removed.
        removals: u64,
    },
    /// See [`Guard::EmptySource`].
    #[error(
        "the source has {found} entries, and at least {expected} were expected\n  check that its drive is mounted; to go on with so few: --waive empty-source"
    )]
    FewEntries {
        /// Those that take part, its own folder not counted.
        found: u64,
        /// As asked for.
        expected: u64,
    },
    /// See [`Guard::Removals`].
    #[error(
        "{removals} of the destination's {entries} entries would be removed; the limit is {limit}\n  check them with --dry-run, then raise the limit with --removal-limit {removals} or switch it off with --waive removals"
    )]
    Removals {
        /// Entries that would be removed.
        removals: u64,
        /// Entries of the destination.
        entries: u64,
        /// In words.
        limit: String,
    },
    /// See [`Guard::Space`].
    #[error(
        "the plan needs {needed} {unit}, and {drive} has {free} free\n  free some space there, select less, {}or continue anyway with --waive space",
        if *remove_first { "use --remove-first, " } else { "" }
    )]
    Space {
        /// Needed at the peak.
        needed: u64,
        /// Free now.
        free: u64,
        /// "bytes" or "inodes".
        unit: &'static str,
        /// Which drive, in words.
        drive: String,
        /// There is enough space if removals come first.
        remove_first: bool,
    },
    /// See [`Guard::Nesting`].
    #[error(
        "'{}' has little in common with '{}', but '{}' has much\n  you probably meant: utter mirror '{}' '{}'; if not: --waive nesting",
        .0.destination_path, .0.source_path, .0.folder, .0.source_path, .0.folder
    )]
    Nesting(Nested),
    /// See [`Guard::Swapped`].
    #[error(
        "{written} of the {taken} entries to replace or remove were written in the destination after the newest entry of the source: the two sides are probably swapped\n  check them with --dry-run; to replace or remove them anyway: --waive swapped"
    )]
    Swapped {
        /// Entries that were written in the destination.
        written: u64,
        /// Entries that would be replaced or removed.
        taken: u64,
    },
    /// See [`Guard::OtherRun`].
    #[error(
        "another run is working in '{path}', above it or below it\n  wait for it to end; if you are sure that it does no harm: --waive other-run"
    )]
    OtherRun {
        /// As the user named it.
        path: String,
    },
    /// See [`Guard::Loss`].
    #[error(
        "the move would lose what the destination's drive cannot store: {what}\n  use a drive that can ('utter drives' shows what each stores); if you accept the loss: --waive loss"
    )]
    Loss {
        /// In words.
        what: String,
    },
    /// See [`Guard::Drive`].
    #[error(
        "'{path}' is not the folder that the run changed: its drive is not mounted, or another folder or a link has its place\n  mount that drive, or rename the folder back; if it is the right one after all: --waive drive"
    )]
    OtherPlace {
        /// As the run named it.
        path: String,
    },
    /// See [`Guard::OtherRun`].
    #[error(
        "'{path}' is in use: the run is still going on, or is being undone\n  wait until that has ended"
    )]
    RunInUse {
        /// As the user named it.
        path: String,
    },
    /// See [`Guard::Drive`].
    #[error(
        "'{path}' is where /etc/fstab mounts a drive, and none is mounted there\n  mount it; if you mean the folder itself: --waive drive"
    )]
    NotMounted {
        /// As the user named it.
        path: String,
    },
    /// See [`Guard::Drive`].
    #[error(
        "'{path}' is not on the drive '{wanted}'{}\n  mount that drive there ('utter drives' lists what is mounted), or use another one with --waive drive",
        if found.is_empty() { String::new() } else { format!(", but on '{}'", found.join("', '")) }
    )]
    Drive {
        /// As the user named it.
        path: String,
        /// Label or UUID.
        wanted: String,
        /// The known label and UUID of the drive that is there.
        found: Vec<String>,
    },
}

impl Refusal {
    /// The guard that refused.
    pub fn guard(&self) -> Guard {
        match self {
            Self::Overlap { .. } | Self::SetAsideWithin { .. } => Guard::Overlap,
            Self::EmptySource { .. } | Self::FewEntries { .. } => Guard::EmptySource,
            Self::Removals { .. } => Guard::Removals,
            Self::Space { .. } => Guard::Space,
            Self::Nesting(_) => Guard::Nesting,
            Self::Loss { .. } => Guard::Loss,
            Self::Swapped { .. } => Guard::Swapped,
            Self::OtherRun { .. } | Self::RunInUse { .. } => Guard::OtherRun,
            Self::Drive { .. } | Self::NotMounted { .. } | Self::OtherPlace { .. } => Guard::Drive,
        }
    }
}
