//! Options of commands that read the job file.

use std::ffi::OsStr;
use std::path::PathBuf;

use clap::{Args, ValueHint};
use clap_complete::engine::CompletionCandidate;
use jiff::tz::TimeZone;

use crate::context::Context;
use crate::exit::WrongCall;
use crate::jobs::{self, JobFile};
use crate::options::{ShownOptions, complete, path};

/// Options of every command that reads the job file.
#[derive(Debug, Args)]
pub(crate) struct JobQuery {
    #[command(flatten)]
    pub(crate) file: JobFileOption,
    #[command(flatten)]
    pub(crate) shown: ShownOptions,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Jobs")]
pub(crate) struct JobFileOption {
    /// Read this job file
    ///
    /// Default: utter-echo/utter.toml in your configuration folder, else, for root, in /etc.
    #[arg(long = "jobs", global = true, value_name = "FILE", value_hint = ValueHint::FilePath, value_parser = path())]
    pub(crate) job_file: Option<PathBuf>,
}

impl JobFileOption {
    pub(crate) fn read(&self, context: &Context) -> Result<JobFile, WrongCall> {
        let now = context.began.to_zoned(TimeZone::system());
        JobFile::read(self.job_file.as_deref(), &now, context.program)
    }
}

/// Completions: the names of the jobs in the file.
pub(crate) fn job_names(typed: &OsStr) -> Vec<CompletionCandidate> {
    complete::plain(typed, jobs::names())
}
