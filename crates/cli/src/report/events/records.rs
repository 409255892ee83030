//! Events about past runs: the first and the last line of a record, and what is found in records.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::report::events::fields::{
    Amount, AtPath, CommandWord, JobsIn, MountedAt, OutcomeWord, Was, Word, WorkingFolder,
};
use crate::report::events::jobs::RunOutcome;
use crate::report::exact::Exact;

/// Who called.
#[allow(clippy::struct_field_names, reason = "the names that they have in JSON")]
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct CallingProcess {
    pub(crate) host: String,
    pub(crate) user: String,
    pub(crate) process: u32,
    /// Of the program.
    pub(crate) program: String,
}

/// The first line of a record: which run it is of, and how that was called.
#[allow(clippy::struct_field_names, reason = "the names that they have in JSON")]
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct RunStarted {
    /// The number of the run, in the order in which runs began, whatever the clock said.
    pub(crate) run: u64,
    /// RFC 3339.
    pub(crate) began: String,
    pub(crate) command: CommandWord,
    /// The whole call, as it can be typed into a POSIX shell.
    pub(crate) line: String,
    /// Where relative paths in it start.
    #[serde(flatten)]
    pub(crate) folder: Exact<WorkingFolder>,
    /// The job that it was a call of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) job: Option<JobCall>,
    /// The sources, and then the destination.
    pub(crate) sides: Vec<Placed>,
    #[serde(flatten)]
    pub(crate) caller: CallingProcess,
}

/// Which of a job's calls one is.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobCall {
    pub(crate) name: String,
    /// Its file, without links: another may have a job of this name.
    #[serde(flatten)]
    pub(crate) file: Exact<JobsIn>,
    /// The number of the first run of this start of the job.
    pub(crate) start: u64,
    /// Which of the calls of the job, counted from 1.
    pub(crate) call: u64,
    /// How many it has.
    pub(crate) calls: u64,
}

/// One side of a run, and the drive that it was on. What could not be found out is null.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Placed {
    /// The absolute path.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    #[serde(flatten)]
    pub(crate) mounted_at: Option<Exact<MountedAt>>,
    pub(crate) label: Option<String>,
    pub(crate) uuid: Option<String>,
}

/// The last line of a record: how the run ended.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct RunEnded {
    pub(crate) run: u64,
    /// RFC 3339.
    pub(crate) ended: String,
    pub(crate) seconds: f64,
    pub(crate) outcome: RunOutcome,
    /// The exit code.
    #[serde(alias = "code")]
    pub(crate) exit_code: u8,
    /// What it added, replaced and removed.
    pub(crate) done: Amount,
    /// What the next run will scan and compare if nothing changes until then, of both sides together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) left: Option<Amount>,
    /// Entries with a problem.
    pub(crate) problems: u64,
    /// Why it could not be carried out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) cause: Option<String>,
}

/// A run of which there is a record.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct RecordedRun {
    #[serde(flatten)]
    pub(crate) began: RunStarted,
    pub(crate) outcome: RunOutcome,
    /// Null where it did not come to its end.
    pub(crate) closed: Option<RunEnded>,
}

/// Something that happened to a path.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct PathHistory {
    pub(crate) run: u64,
    /// When that run began; RFC 3339.
    pub(crate) began: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) job: Option<String>,
    pub(crate) command: CommandWord,
    /// The absolute path that it happened to: the one that was asked about, or a folder above it.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    #[serde(flatten)]
    pub(crate) was: Option<Exact<Was>>,
    /// The verb of a step, `problem`, or the state of a difference.
    pub(crate) what: Word,
    /// Why; for people.
    pub(crate) reason: String,
    /// Of a step.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) outcome: Option<OutcomeWord>,
}

impl RunStarted {
    /// What tells the starts of jobs, and all other runs, apart.
    pub(crate) fn start(&self) -> u64 {
        self.job.as_ref().map_or(self.run, |job| job.start)
    }
}
