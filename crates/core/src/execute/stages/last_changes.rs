//! When the run changed folders: one that somebody else has changed as well keeps the time of that.
//!
//! What others do in a folder while the run itself is at work in it cannot be told from its own work.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_model::state::State;
use utter_echo_model::verb::Side;
use utter_echo_os::{Entry, Stat, System, Time};

/// By side and by the folders' positions in the part.
#[derive(Default)]
pub(super) struct LastChanges(Mutex<HashMap<(Side, usize), LastChange>>);

/// Of one folder.
#[derive(Clone, Copy)]
enum LastChange {
    /// The run's own.
    Own(Time),
    /// Somebody changed it after the plan was made.
    Foreign,
}

impl LastChanges {
    /// The run is about to change a folder of the destination, which the plan saw as it was `before`.
    pub(super) fn begin(&self, at: usize, before: &State, now: &Stat) {
        let last = if before.modified() == now.modified {
            LastChange::Own(now.modified)
        } else {
            LastChange::Foreign
        };
        self.0.lock().entry((Side::Destination, at)).or_insert(last);
    }

    /// The run has just changed a folder.
    pub(super) fn note(&self, system: &dyn System, key: (Side, usize), folder: &OwnedFd) {
        // What cannot be asked now is found to be changed by somebody else.
        let Ok(now) = system.stat(Entry::Open(folder.as_fd())) else { return };
        match self.0.lock().entry(key).or_insert(LastChange::Own(now.modified)) {
            LastChange::Own(last) => *last = now.modified.max(*last),
            LastChange::Foreign => {}
        }
    }

    /// True if somebody else has changed a folder, as far as that can be told.
    pub(super) fn are_followed(&self, key: (Side, usize), now: &Stat) -> bool {
        match self.0.lock().get(&key) {
            Some(LastChange::Own(last)) => now.modified > *last,
            Some(LastChange::Foreign) => true,
            None => false,
        }
    }
}
