//! Fields and words that events of several kinds share.

use std::borrow::Cow;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::report::exact::field;
use crate::report::word::words;

/// A word of a fixed set.
pub(crate) type Word = Cow<'static, str>;

field!(
    /// The path is relative to its root, with `/` between names. It is empty for the root itself.
    AtPath = "path" / "path_base64"
);

field!(
    /// For a renamed or moved entry, this is its former path.
    Was = "was" / "was_base64"
);

field!(
    /// For a hard link, this is the path that it is linked to.
    LinkOf = "link_of" / "link_of_base64"
);

field!(
    /// This is the folder above about which the rule decided.
    DecidedByFolder = "decided_by_folder" / "decided_by_folder_base64"
);

field!(
    /// The path as it was given, or the place of the run.
    Destination = "destination" / "destination_base64"
);

field!(
    /// This is the saved plan that is executed.
    PlanFile = "plan" / "plan_base64"
);

field!(
    /// This folder holds the entries that the run displaced.
    SetAsideIn = "set_aside" / "set_aside_base64"
);

field!(
    /// This is the job file that was read.
    JobsIn = "job_file" / "job_file_base64" | "jobs" / "jobs_base64"
);

field!(
    /// This is the working folder of the command.
    WorkingFolder = "folder" / "folder_base64"
);

field!(
    /// This is the mount point of the drive.
    MountedAt = "mounted_at" / "mounted_at_base64"
);

field!(
    /// This is the device of the drive, or its counterpart.
    Device = "device" / "device_base64"
);

words! {
    /// This is the command that prints the output.
    #[schemars(rename = "Command")]
    CommandWord {
        Copy = "copy",
        Mirror = "mirror",
        Move = "move",
        Verify = "verify",
        Execute = "execute" | "enact",
        Undo = "undo",
        Explain = "explain",
        Drives = "drives",
        Jobs = "jobs",
        Run = "run",
        History = "history",
        Status = "status",
        Schedule = "schedule",
    }
}

words! {
    /// The outcome of a step. For `failed` and `stale` there is a problem with the same path or a folder above it.
    #[schemars(rename = "Outcome")]
    OutcomeWord {
        Done = "done",
        Failed = "failed",
        Stale = "stale" | "overtaken",
        NotReached = "not-reached",
    }
}

/// The number of entries, and the bytes of their content.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Amount {
    pub(crate) entries: u64,
    pub(crate) bytes: u64,
}
