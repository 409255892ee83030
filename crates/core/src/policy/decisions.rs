//! What is decided about one pair of roots.

use utter_echo_model::count::Count;
use utter_echo_model::identity::DriveId;
use utter_echo_model::problem::Problem;
use utter_echo_os::Kind;

use crate::policy::part::Part;

/// What was decided.
#[derive(Debug, Default)]
pub(crate) struct Decisions {
    pub(crate) part: Part,
    /// Steps that an option forbids, each counted once.
    pub(crate) held_back: u64,
    /// Files that are newer in the destination and stay for that.
    pub(crate) spared_newer: u64,
    /// Entries that are as they should be, and that comparing left to be counted here.
    pub(crate) unchanged: Count,
    pub(crate) problems: Vec<Problem>,
    /// Files of which some names go and others stay.
    pub(crate) second_files: u64,
    /// What is in a folder that goes unseen has to be known after all: see `Draft::take_over`.
    pub(crate) is_short_sighted: bool,
    /// Entries of kinds that a drive does not hold.
    pub(crate) not_held: Vec<(DriveId, Kind)>,
}
