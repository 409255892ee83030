//! A job that the system starts.

use std::path::PathBuf;

use crate::schedule::command_line::CommandLine;
use crate::schedule::when::When;

/// A job, and what a scheduler has to know of it.
#[derive(Clone, Debug)]
pub(crate) struct Scheduled {
    pub(crate) name: String,
    pub(crate) about: Option<String>,
    pub(crate) when: When,
    pub(crate) command: CommandLine,
    /// It runs commands of the user's own.
    pub(crate) has_commands: bool,
    /// It is scheduled for the machine and not for a user.
    pub(crate) is_roots: bool,
    /// For a start when a drive is mounted, where that is.
    pub(crate) mounted_at: Option<PathBuf>,
}
