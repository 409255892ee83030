//! What a move does besides copying.

use clap::{Args, ValueEnum};
use utter_echo_core::request::{self, MoveOptions, Request};

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct Moving {
    /// Leave the folders of the source where they are, empty
    ///
    /// Without it, a folder is removed once it is empty.
    #[arg(long)]
    pub(crate) leave_folders: bool,
    /// What to do if the destination has another entry of the same name
    ///
    /// An entry with the same content and attributes is no conflict: it is only removed from the source. Folders
    /// are merged.
    #[arg(long, value_name = "HOW", default_value = "skip")]
    pub(crate) on_conflict: ConflictOptions,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum ConflictOptions {
    /// Both stay in place and are listed
    Skip,
    /// The destination's entry is replaced
    Replace,
    /// The destination's entry is replaced if it is older; otherwise both stay
    Newer,
    /// Ask about each, on a terminal
    Ask,
    /// The arriving entry gets its date (in UTC) in its name
    KeepBoth,
}

impl Moving {
    pub(crate) fn apply(&self, request: Request) -> Request {
        let on_conflict = match self.on_conflict {
            ConflictOptions::Skip => request::OnConflict::Skip,
            ConflictOptions::Replace => request::OnConflict::Replace,
            ConflictOptions::Newer => request::OnConflict::Newer,
            ConflictOptions::Ask => request::OnConflict::Ask,
            ConflictOptions::KeepBoth => request::OnConflict::KeepBoth,
        };
        request.moving(MoveOptions { leave_folders: self.leave_folders, on_conflict })
    }
}
