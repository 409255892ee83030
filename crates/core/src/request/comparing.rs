//! What counts as changed.

use std::time::Duration;

use utter_echo_model::verb::Verbs;

/// When a file counts as changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum By {
    /// Size or modification time differ.
    #[default]
    SizeTime,
    /// Bytes differ; reads both sides and looks at every aspect.
    Content,
    /// Size differs.
    Size,
    /// Only that there is an entry of the same name and kind; nothing else of it is compared.
    Presence,
}

/// How the contents of files are read that are compared.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Reading {
    /// As the system has them in its cache, if it has.
    #[default]
    AsCached,
    /// As the drives hold them: what is in the cache is written out and left aside.
    FromDrive,
}

/// A part of all files, chosen by chance.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sample {
    /// How likely each is to be among them, in percent.
    pub percent: f64,
    /// What the choice depends on, beside the file.
    pub seed: u64,
}

/// What counts as changed, and what is done about it.
#[derive(Clone, Copy, Debug)]
pub struct Changed {
    /// What cannot be carried is a problem, not a note.
    pub strictly: bool,
    /// How a changed file is recognised.
    pub by: By,
    /// Files to be read and compared byte by byte though nothing else shows that they differ.
    pub sample: Option<Sample>,
    /// How those are read that are compared.
    pub reading: Reading,
    /// Look at every attribute of every entry, whatever the change times say; `Task::Verify` and
    /// [`By::Content`] always do.
    pub all_aspects: bool,
    /// The most by which two modification times may differ that count as equal, beyond what the
    /// destination's drive cannot tell apart.
    pub time_slack: Duration,
    /// Leave a file of the destination as it is where it would be replaced and is newer.
    pub spare_newer: bool,
    /// Steps that the plan may hold.
    pub steps: Verbs,
}

impl Default for Changed {
    /// By size and time, exactly, with all steps.
    fn default() -> Self {
        Self {
            strictly: false,
            by: By::default(),
            sample: None,
            reading: Reading::default(),
            all_aspects: false,
            time_slack: Duration::ZERO,
            spare_newer: false,
            steps: Verbs::ALL,
        }
    }
}
