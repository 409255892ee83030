//! What a move does besides copying.

use clap::{Args, ValueEnum};
use utter_echo_core::request::{self, MoveOptions, Request};

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct Moving {
    /// Leave the folders of the source where they are, empty
    ///
    /// Without it, a folder goes once everything in it has gone.
    #[arg(long)]
    pub(crate) leave_folders: bool,
    /// What to do where the destination has another entry of the same name
    ///
    /// What is the same in content and attributes is no conflict: it only goes from the source. Neither are
    /// folders, which become one.
    #[arg(long, value_name = "HOW", default_value = "skip")]
    pub(crate) on_conflict: ConflictOptions,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum ConflictOptions {
    /// Both stay where they are, and are named
    Skip,
    /// The destination's gives way
    Replace,
    /// The destination's gives way if it is older; else both stay
    Newer,
    /// You are asked about each, on a terminal
    Ask,
    /// The one that arrives gets its date (in UTC) into its name
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
