//! What a move that was cut short left for the next one.

use std::collections::{HashMap, HashSet};

use utter_echo_os::Stat;

use crate::path::TreePath;
use crate::state::{StateAfter, StatesBefore};

/// Of one part of a move; of none, if nothing is known.
#[derive(Debug, Default)]
pub struct InterruptedMove {
    /// Folders of the source, as they were before something went from them.
    pub here: StatesBefore,
    /// What was compared byte by byte: both sides as they were then.
    pub proven: HashMap<Vec<u8>, (StateAfter, StateAfter)>,
    /// What runs that were cut short were to add.
    pub made: HashSet<Vec<u8>>,
}

impl InterruptedMove {
    /// True if both sides were seen to be the same in exactly this state.
    pub fn proves(&self, path: &TreePath, both: &(StateAfter, StateAfter)) -> bool {
        let proven = self.proven.get(path.as_bytes());
        proven.is_some_and(|(here, there)| here.is_just(&both.0) && there.is_just(&both.1))
    }

    /// True if nothing is known that a comparison needs.
    pub fn is_empty(&self) -> bool {
        self.here.is_empty() && self.made.is_empty()
    }

    /// True for what a run that was cut short was to put there, where nothing was.
    pub fn may_have_made(&self, path: &TreePath) -> bool {
        self.made.contains(path.as_bytes())
    }

    /// Gives a folder of the source the time that it had before something went from it.
    pub fn correct(&self, path: &TreePath, stat: &mut Stat) {
        let was = self.here.get(path.as_bytes()).map(|was| was.state);
        if let Some(was) = was.filter(|was| was.still(stat)) {
            stat.modified = was.modified();
        }
    }
}
