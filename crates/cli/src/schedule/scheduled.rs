//! A job that the system starts.

use std::path::PathBuf;

use crate::schedule::command_line::CommandLine;
use crate::schedule::when::When;

/// A job, with what a scheduler needs.
#[derive(Clone, Debug)]
pub(crate) struct Scheduled {
    pub(crate) name: String,
    pub(crate) description: Option<String>,
    pub(crate) when: When,
    pub(crate) command: CommandLine,
    /// True if it runs commands of the user.
    pub(crate) has_commands: bool,
    /// True for the machine's scheduler, false for a user's.
    pub(crate) is_roots: bool,
    /// The mount point, for a start when a drive is mounted.
    pub(crate) mounted_at: Option<PathBuf>,
}
