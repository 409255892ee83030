//! How a run was called, by hand or by a job.

use std::path::{Path, PathBuf};

use jiff::Timestamp;

use crate::records::retention::RecordRetention;
use crate::report::events::{CommandWord, JobCall};

/// How a run was called.
pub(crate) struct Call {
    pub(crate) command: CommandWord,
    pub(crate) began: Timestamp,
    pub(crate) line: String,
    /// The job; without a number if this is the first of its calls.
    pub(crate) job: Option<JobCall>,
    /// The sources, and then the destination.
    pub(crate) sides: Vec<PathBuf>,
}

/// The job of a call.
#[derive(Clone)]
pub(crate) struct Within {
    pub(crate) job: JobCall,
    pub(crate) keep: RecordRetention,
}

impl Within {
    /// For a job that is only queried.
    pub(crate) fn of_job(name: &str) -> Self {
        let (name, file) = (name.to_owned(), Path::new("").into());
        let job = JobCall { name, file, start: 0, call: 1, calls: 1 };
        Self { job, keep: RecordRetention::default() }
    }
}
