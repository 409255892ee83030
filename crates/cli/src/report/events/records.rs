//! Events about past runs: the first and the last line of a record, and what is found in records.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::report::events::fields::{
    Amount, AtPath, CommandWord, JobsIn, MountedAt, OutcomeWord, Was, Word, WorkingFolder,
};
use crate::report::events::jobs::RunOutcome;
use crate::report::exact::Exact;

/// The user who called the command.
#[allow(clippy::struct_field_names, reason = "the names that they have in JSON")]
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct CallingProcess {
    pub(crate) host: String,
    pub(crate) user: String,
    pub(crate) process: u32,
    /// The version of the program.
    pub(crate) program: String,
}

/// The first line of a record names the run and how it was called.
#[allow(clippy::struct_field_names, reason = "the names that they have in JSON")]
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct RunStarted {
    /// The number of the run. Runs are numbered in the order in which they began, independent of the clock.
    pub(crate) run: u64,
    /// The time is in RFC 3339 format.
    pub(crate) began: String,
    pub(crate) command: CommandWord,
    /// The whole command, as it can be typed into a POSIX shell.
    pub(crate) line: String,
    /// The folder at which relative paths in it start.
    #[serde(flatten)]
    pub(crate) folder: Exact<WorkingFolder>,
    /// The job to which the command belongs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) job: Option<JobCall>,
    /// The head of a command with sources and a destination.
    pub(crate) sides: Vec<Placed>,
    #[serde(flatten)]
    pub(crate) caller: CallingProcess,
}

/// The position of a command among those of its job.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobCall {
    pub(crate) name: String,
    /// The job file, with links resolved, since another file may have a job of this name.
    #[serde(flatten)]
    pub(crate) file: Exact<JobsIn>,
    /// The number of the first run of this start of the job.
    pub(crate) start: u64,
    /// The position among the commands of the job, counted from 1.
    pub(crate) call: u64,
    /// The number of commands of the job.
    pub(crate) calls: u64,
}

/// One side of a run and its drive. Unknown values are null.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Placed {
    /// This is the absolute path.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    #[serde(flatten)]
    pub(crate) mounted_at: Option<Exact<MountedAt>>,
    pub(crate) label: Option<String>,
    pub(crate) uuid: Option<String>,
}

/// The last line of a record says how the run ended.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct RunEnded {
    pub(crate) run: u64,
    /// The time is in RFC 3339 format.
    pub(crate) ended: String,
    pub(crate) seconds: f64,
    pub(crate) outcome: RunOutcome,
    /// This is the exit code.
    #[serde(alias = "code")]
    pub(crate) exit_code: u8,
    /// The entries that the run added, replaced, adjusted, renamed or removed.
    pub(crate) done: Amount,
    /// The entries and bytes that the next run will scan on both sides together if nothing changes until then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) left: Option<Amount>,
    /// The number of entries with a problem.
    pub(crate) problems: u64,
    /// This is why the run could not be carried out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) cause: Option<String>,
}

/// A run that has a record.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct RecordedRun {
    #[serde(flatten)]
    pub(crate) began: RunStarted,
    pub(crate) outcome: RunOutcome,
    /// It is null if the run did not come to its end.
    pub(crate) closed: Option<RunEnded>,
}

/// A recorded change to a path.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct PathHistory {
    pub(crate) run: u64,
    /// The start of that run, in RFC 3339 format.
    pub(crate) began: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) job: Option<String>,
    pub(crate) command: CommandWord,
    /// The absolute path that changed: the given one, or a folder above it.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    #[serde(flatten)]
    pub(crate) was: Option<Exact<Was>>,
    /// The verb of a step, or `problem`, or the state of a difference.
    pub(crate) what: Word,
    /// The reason is for people and may change.
    pub(crate) reason: String,
    /// The outcome of the step.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) outcome: Option<OutcomeWord>,
}

impl RunStarted {
    /// The key that distinguishes the starts of jobs and all other runs.
    pub(crate) fn start(&self) -> u64 {
        self.job.as_ref().map_or(self.run, |job| job.start)
    }
}
