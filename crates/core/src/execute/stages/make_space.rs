//! Making room: on a drive that is nearly full what gives room comes before what needs it.

use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_drives::features::Feature;
use utter_echo_model::verb::Verb;

use crate::execute::stages::run::PartRun;
use crate::plan::{self, SpaceNeed};
use crate::policy::{Part, Step};

impl PartRun<'_> {
    /// True if the drive is not known to have room for all in any order, or if the user said so.
    pub(super) fn makes_room(&self) -> bool {
        if self.sets_aside() || self.part.memory.is_some() {
            return self.terms.remove_first;
        }
        let may = |step: &Step| plan::shrinks(step);
        self.terms.remove_first || self.part.all_steps().any(may) && !self.has_room_for_all()
    }

    fn has_room_for_all(&self) -> bool {
        let anchor = self.pair.destination.anchor.as_fd();
        let holds_holes = self.drives[0].mounted.capabilities.drive.holds(Feature::Holes);
        self.system().space(anchor).is_ok_and(|space| {
            let need = SpaceNeed::of(Part::all_steps(self.part), &space, holds_holes);
            need.bytes(false) <= space.bytes
        })
    }

    /// Removes files, if that is to come first, and then replaces those that become shorter: the
    /// shortest first, since each gives room to the next.
    pub(super) fn make_room(&self, root: BorrowedFd<'_>) {
        if self.terms.remove_first {
            self.remove_files(root);
        }
        let mut shrinking = Vec::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            for (i, step) in folder.steps.iter().enumerate() {
                // What takes a folder's place, or is made a name of another, has to wait.
                if step.verb == Verb::Replace && plan::shrinks(step) {
                    shrinking.push((step.bytes(), at, i));
                }
            }
        }
        shrinking.sort_unstable();
        for (_, at, i) in shrinking {
            self.work_on(root, at, i..i + 1, &|_| true, &|at, step| {
                at.on.writer.write(at.place, at.name, &step.into())
            });
        }
    }
}
