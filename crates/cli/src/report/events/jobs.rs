//! Events about jobs.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::report::events::fields::{Amount, AtPath, Destination};
use crate::report::exact::Exact;
use crate::report::word::words;

/// A job of the job file. `utter jobs` prints it, and `utter run` before the lines of the job.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobLine {
    pub(crate) name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) description: Option<String>,
    pub(crate) enabled: bool,
    pub(crate) tags: Vec<String>,
    /// The jobs that run after it if it succeeds.
    pub(crate) then: Vec<String>,
    /// The commands of the job, as a shell reads them.
    pub(crate) commands: Vec<String>,
    /// The state of the job, in a list of jobs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) status: Option<JobStatus>,
}

/// The result of a job.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobResult {
    pub(crate) name: String,
    pub(crate) outcome: RunOutcome,
    /// The exit code of its command. With several commands it is the worst.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(alias = "code")]
    pub(crate) exit_code: Option<u8>,
    /// The steps that were done, and their bytes.
    pub(crate) done: Amount,
    pub(crate) seconds: f64,
    /// The number of entries with a problem.
    pub(crate) problems: u64,
}

words! {
    /// This is how a job or a run ended.
    RunOutcome {
        Succeeded = "succeeded" | "well",
        /// A verification found differences.
        Different = "different",
        Problems = "problems",
        /// A guard refused it, or it was declined at the prompt.
        Refused = "refused",
        /// The drive was full or disappeared.
        EndedEarly = "ended-early",
        /// No drive of the name that it uses was mounted. Nothing was touched.
        DriveMissing = "drive-missing",
        /// The command was wrong, or named a place that does not exist.
        Invalid = "invalid" | "wrong",
        /// A signal stopped the run.
        Stopped = "stopped",
        /// A signal came before the job began, or the job that it follows did not succeed.
        NotReached = "not-reached",
        /// The job begins only within certain hours, and this was not in them.
        NotDue = "not-due",
        NotEnabled = "not-enabled",
        /// The run was killed, or the power failed.
        CutShort = "cut-short",
        Running = "running" | "going-on",
        NeverRun = "never-run",
    }
}

/// The last and the next start of a job.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobTimes {
    /// The time at which it began, in RFC 3339 format.
    pub(crate) last: Option<String>,
    /// The start of its last successful run, in RFC 3339 format.
    pub(crate) last_succeeded: Option<String>,
    /// The start time as the job file gives it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) at: Option<String>,
    /// The next start, in RFC 3339 format.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) next: Option<String>,
    /// The start that was missed, in RFC 3339 format.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) overdue_since: Option<String>,
}

/// This is the state of a job.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobStatus {
    pub(crate) name: String,
    pub(crate) enabled: bool,
    /// True if no action is needed.
    pub(crate) ok: bool,
    /// The outcome of its last start. It is `never-run` if there was none.
    pub(crate) outcome: RunOutcome,
    /// The number of the first run of its last start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) run: Option<u64>,
    /// The space on the drives of its destinations that are mounted.
    pub(crate) space: Vec<DriveSpace>,
    #[serde(flatten)]
    pub(crate) times: JobTimes,
}

/// The starts of a job, and what the system needs to start it.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct ScheduledJob {
    pub(crate) name: String,
    /// The start time in the form of the job file.
    pub(crate) at: String,
    /// The next three starts, in RFC 3339 format.
    pub(crate) next: Vec<String>,
    /// True if the system starts the job from now on.
    pub(crate) installed: bool,
    pub(crate) files: Vec<UnitFile>,
}

/// A unit for systemd, or lines for cron.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct UnitFile {
    /// It is missing for cron.
    #[serde(flatten)]
    pub(crate) path: Option<Exact<AtPath>>,
    pub(crate) text: String,
}

/// The space on a drive.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct DriveSpace {
    #[serde(flatten)]
    pub(crate) destination: Exact<Destination>,
    /// The capacity of the drive.
    pub(crate) bytes: u64,
    pub(crate) bytes_free: u64,
}
