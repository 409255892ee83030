//! What counts as changed.

use std::time::Duration;

use utter_echo_model::verb::Verbs;

/// When a file counts as changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CompareBy {
    /// Size or modification time differ.
    #[default]
    SizeTime,
    /// Bytes differ; reads both sides and compares all attributes.
    Content,
    /// Size differs.
    Size,
    /// The entry is missing or has another kind; nothing else is compared.
    Presence,
}

/// How compared contents are read.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Reading {
    /// From the system's cache, if they are there.
    #[default]
    AsCached,
    /// From the drives: files are flushed and dropped from the cache first.
    FromDrive,
}

/// A random sample of files.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sample {
    /// The probability of each file, in percent.
    pub percent: f64,
    /// The seed of the choice.
    pub seed: u64,
}

/// What counts as changed, and which steps are allowed.
#[derive(Clone, Copy, Debug)]
pub struct Changed {
    /// Attributes that cannot be carried are a problem instead of a note.
    pub strictly: bool,
    /// How a changed file is recognised.
    pub by: CompareBy,
    /// A random sample of unchanged files whose contents are compared.
    pub sample: Option<Sample>,
    /// How compared contents are read.
    pub reading: Reading,
    /// Compare all attributes of every entry, whatever the change times. `Task::Verify` and [`CompareBy::Content`] always
    /// do.
    pub all_attributes: bool,
    /// The largest difference of modification times that count as equal, besides the resolution of the
    /// destination's drive.
    pub time_slack: Duration,
    /// Do not replace files of the destination that are newer.
    pub leave_newer: bool,
    /// The allowed verbs.
    pub steps: Verbs,
}

impl Default for Changed {
    /// By size and exact time, with all verbs.
    fn default() -> Self {
        Self {
            strictly: false,
            by: CompareBy::default(),
            sample: None,
            reading: Reading::default(),
            all_attributes: false,
            time_slack: Duration::ZERO,
            leave_newer: false,
            steps: Verbs::ALL,
        }
    }
}
