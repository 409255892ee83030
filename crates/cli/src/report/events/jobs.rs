//! Events about jobs.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::report::events::fields::{Amount, AtPath, Destination};
use crate::report::exact::Exact;
use crate::report::word::words;

/// A job of the job file: of `utter jobs`, and of `utter run` before what it does.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobLine {
    pub(crate) name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) description: Option<String>,
    pub(crate) enabled: bool,
    pub(crate) tags: Vec<String>,
    /// Jobs that run after it, if it went well.
    pub(crate) then: Vec<String>,
    /// The lines that it stands for, as a shell reads them.
    pub(crate) commands: Vec<String>,
    /// How it stands, in a list of jobs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) status: Option<JobStatus>,
}

/// What became of a job.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobResult {
    pub(crate) name: String,
    pub(crate) outcome: RunOutcome,
    /// The exit code that its command would have ended with, the worst of several.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(alias = "code")]
    pub(crate) exit_code: Option<u8>,
    /// Steps that were done, and the bytes of what they added, replaced and removed.
    pub(crate) done: Amount,
    pub(crate) seconds: f64,
    /// Entries with a problem.
    pub(crate) problems: u64,
}

words! {
    /// How a job, or a run, ended.
    RunOutcome {
        Succeeded = "succeeded" | "well",
        /// A verification found differences.
        Different = "different",
        Problems = "problems",
        /// A guard refused, or somebody who was asked.
        Refused = "refused",
        /// The drive is full or gone.
        EndedEarly = "ended-early",
        /// What it says cannot be meant, or is not there.
        Invalid = "invalid" | "wrong",
        /// By a signal.
        Stopped = "stopped",
        /// A signal came before its turn.
        NotReached = "not-reached",
        NotEnabled = "not-enabled",
        /// It was killed, or the power failed.
        CutShort = "cut-short",
        Running = "running" | "going-on",
        NeverRun = "never-run",
    }
}

/// When a job ran, and when it will.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobTimes {
    /// When that began; RFC 3339.
    pub(crate) last: Option<String>,
    /// When it last began and then went well; RFC 3339.
    pub(crate) last_succeeded: Option<String>,
    /// When it is to run, as the job file has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) at: Option<String>,
    /// When it runs next; RFC 3339.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) next: Option<String>,
    /// The start that it missed; RFC 3339.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) overdue_since: Option<String>,
}

/// How things stand with a job.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobStatus {
    pub(crate) name: String,
    pub(crate) enabled: bool,
    /// Nothing has to be done about it.
    pub(crate) ok: bool,
    /// Of its last start; `never-run` if there is none.
    pub(crate) outcome: RunOutcome,
    /// The first run of its last start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) run: Option<u64>,
    /// The room on the drives of its destinations, where they are there.
    pub(crate) space: Vec<DriveSpace>,
    #[serde(flatten)]
    pub(crate) times: JobTimes,
}

/// When a job starts, and what has the system start it.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct ScheduledJob {
    pub(crate) name: String,
    /// In the words of the job file.
    pub(crate) at: String,
    /// The next three starts; RFC 3339.
    pub(crate) next: Vec<String>,
    /// The system starts it from now on.
    pub(crate) installed: bool,
    pub(crate) files: Vec<UnitFile>,
}

/// A unit of systemd, or lines for cron.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct UnitFile {
    /// Not there for cron.
    #[serde(flatten)]
    pub(crate) path: Option<Exact<AtPath>>,
    pub(crate) text: String,
}

/// The room on a drive.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct DriveSpace {
    #[serde(flatten)]
    pub(crate) destination: Exact<Destination>,
    /// In all.
    pub(crate) bytes: u64,
    pub(crate) bytes_free: u64,
}
