//! Jobs at their times: when they start, and how the system is told to start them.

mod command_line;
pub(crate) mod cron;
mod install;
pub(crate) mod systemd;
mod when;

use std::path::PathBuf;

pub(crate) use command_line::CommandLine;
pub(crate) use install::{Manager, NotInstalled, change_table};
pub(crate) use when::{NoTime, When};

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
