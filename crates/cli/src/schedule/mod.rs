//! Scheduling jobs: when they start, and how the system starts them.

mod command_line;
pub(crate) mod cron;
mod install;
mod scheduled;
pub(crate) mod systemd;
mod when;

pub(crate) use command_line::CommandLine;
pub(crate) use install::{Manager, NotInstalled, change_table};
pub(crate) use scheduled::Scheduled;
pub(crate) use when::{NoTime, When};
