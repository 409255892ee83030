//! Fields and words that events of several kinds share.

use std::borrow::Cow;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::report::exact::field;
use crate::report::word::words;

/// A word of a fixed set, told as it is.
pub(crate) type Word = Cow<'static, str>;

field!(
    /// Relative to the root it is about, components joined by `/`; empty for the root itself.
    AtPath = "path" / "path_base64"
);

field!(
    /// For what was renamed or moved, the path that it had.
    Was = "was" / "was_base64"
);

field!(
    /// For a hard link, the path that it becomes another name of.
    LinkOf = "link_of" / "link_of_base64"
);

field!(
    /// The folder above that the rule decided about.
    DecidedByFolder = "decided_by_folder" / "decided_by_folder_base64"
);

field!(
    /// As it was given, or where a run took place.
    Destination = "destination" / "destination_base64"
);

field!(
    /// The saved plan that is carried out.
    PlanFile = "plan" / "plan_base64"
);

field!(
    /// The folder that holds what this run displaced.
    SetAsideIn = "set_aside" / "set_aside_base64"
);

field!(
    /// The job file that was read.
    JobsIn = "job_file" / "job_file_base64" | "jobs" / "jobs_base64"
);

field!(
    /// The folder that it was called in.
    WorkingFolder = "folder" / "folder_base64"
);

field!(
    /// Where a drive is mounted.
    MountedAt = "mounted_at" / "mounted_at_base64"
);

field!(
    /// The device, or what stands for one.
    Device = "device" / "device_base64"
);

words! {
    /// Which command tells.
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
    /// What became of a step. `failed` and `stale` have a problem of the same path or of a folder above it.
    #[schemars(rename = "Outcome")]
    OutcomeWord {
        Done = "done",
        Failed = "failed",
        Stale = "stale" | "overtaken",
        NotReached = "not-reached",
    }
}

/// Entries and bytes of content.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Amount {
    pub(crate) entries: u64,
    pub(crate) bytes: u64,
}
