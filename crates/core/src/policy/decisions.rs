//! The decisions about one pair of roots.

use utter_echo_model::count::Count;
use utter_echo_model::identity::DriveId;
use utter_echo_model::problem::Problem;
use utter_echo_os::Kind;

use crate::policy::part::Part;

/// What was decided.
#[derive(Debug, Default)]
pub(crate) struct Decisions {
    pub(crate) part: Part,
    /// The number of steps that an option forbids, each counted once.
    pub(crate) held_back: u64,
    /// Files of the destination that stay because they are newer.
    pub(crate) left_newer: u64,
    /// Unchanged entries that the comparison did not count.
    pub(crate) unchanged: Count,
    pub(crate) problems: Vec<Problem>,
    /// Files with hard links of which only some are moved.
    pub(crate) second_files: u64,
    /// The entries of a folder that is renamed as a whole are needed after all: see `Draft::take_over`.
    pub(crate) is_short_sighted: bool,
    /// Entries of kinds that a drive does not support.
    pub(crate) not_held: Vec<(DriveId, Kind)>,
}
