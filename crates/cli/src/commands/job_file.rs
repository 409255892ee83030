//! Options of commands that read the job file.

use std::ffi::OsStr;
use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueHint};
use clap_complete::engine::CompletionCandidate;
use jiff::tz::TimeZone;

use crate::context::Context;
use crate::jobs::{self, JobFile};
use crate::location::{Location, location};
use crate::options::{ShownOptions, complete};

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
    #[arg(long = "jobs", global = true, value_name = "FILE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub(crate) job_file: Option<Location>,
}

impl JobFileOption {
    /// The given file, if there is one.
    pub(crate) fn path(&self) -> Result<Option<PathBuf>> {
        self.job_file.as_ref().map(Location::find).transpose()
    }

    pub(crate) fn read(&self, context: &Context) -> Result<JobFile> {
        let now = context.began.to_zoned(TimeZone::system());
        let path = self.path()?;
        Ok(JobFile::read(path.as_deref(), &now, context.program)?)
    }
}

/// Completions: the names of the jobs in the file.
pub(crate) fn job_names(typed: &OsStr) -> Vec<CompletionCandidate> {
    complete::plain(typed, jobs::names())
}
