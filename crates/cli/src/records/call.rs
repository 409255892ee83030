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
    /// The job, with no number yet if it is the first of its calls.
    pub(crate) job: Option<JobCall>,
    /// The sources, and then the destination.
    pub(crate) sides: Vec<PathBuf>,
}

/// What a job says of its calls.
#[derive(Clone)]
pub(crate) struct Within {
    pub(crate) job: JobCall,
    pub(crate) keep: RecordRetention,
}

impl Within {
    /// Of a job that is not run, but only asked about.
    pub(crate) fn of_job(name: &str) -> Self {
        let (name, file) = (name.to_owned(), Path::new("").into());
        let job = JobCall { name, file, start: 0, call: 1, calls: 1 };
        Self { job, keep: RecordRetention::default() }
    }
}
