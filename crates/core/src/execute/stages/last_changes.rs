//! The times of the run's own changes of folders. A folder that somebody else has changed as well keeps its new
//! time.
//!
//! Changes by others between two changes of the run itself cannot be detected.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_model::state::State;
use utter_echo_model::verb::Side;
use utter_echo_os::{Entry, Stat, System, Time};

/// By side and folder index.
#[derive(Default)]
pub(super) struct LastChanges(Mutex<HashMap<(Side, usize), LastChange>>);

/// Of one folder.
#[derive(Clone, Copy)]
enum LastChange {
    /// By the run itself.
    Own(Time),
    /// By somebody else, after the plan was made.
    Foreign,
}

impl LastChanges {
    /// Records that the run is about to change a folder of the destination, which was like `before` in the plan.
    pub(super) fn begin(&self, at: usize, before: &State, now: &Stat) {
        let last = if before.modified() == now.modified {
            LastChange::Own(now.modified)
        } else {
            LastChange::Foreign
        };
        self.0.lock().entry((Side::Destination, at)).or_insert(last);
    }

    /// Records that the run has just changed a folder.
    pub(super) fn note(&self, system: &dyn System, key: (Side, usize), folder: &OwnedFd) {
        // Without this time the folder counts as changed by somebody else.
        let Ok(now) = system.stat(Entry::Open(folder.as_fd())) else { return };
        match self.0.lock().entry(key).or_insert(LastChange::Own(now.modified)) {
            LastChange::Own(last) => *last = now.modified.max(*last),
            LastChange::Foreign => {}
        }
    }

    /// True if somebody else has changed a folder, as far as that can be detected.
    pub(super) fn are_followed(&self, key: (Side, usize), now: &Stat) -> bool {
        match self.0.lock().get(&key) {
            Some(LastChange::Own(last)) => now.modified > *last,
            Some(LastChange::Foreign) => true,
            None => false,
        }
    }
}
