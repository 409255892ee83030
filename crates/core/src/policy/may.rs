//! The last word: what no option allows is not done, wherever the step came from.

use crate::drives::DriveId;
use crate::os::Kind;
use crate::request::OnConflict;

use super::step::{Reason, Step, Verb};
use super::{Draft, Policy};

/// What is said to a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Word {
    Yes,
    /// An option forbids it.
    Held,
    /// The destination's file is newer, and such are spared.
    Newer,
}

impl Policy<'_> {
    /// Whether a step may be taken. Options narrow: each of them alone can forbid.
    pub(super) fn may(&self, step: &Step, drive: DriveId) -> Word {
        if self.task.is_undo() {
            return Word::Yes;
        }
        if !self.steps.has(step.verb) {
            return Word::Held;
        }
        // Comparing tells whatever is on one side only, whatever is carried.
        if !self.content && step.verb != Verb::Adjust && !self.task.only_compares() {
            return Word::Held;
        }
        // What was asked about each path was decided where the path is known.
        let how = match self.vacating.on_conflict {
            OnConflict::Ask => OnConflict::Replace,
            other => other,
        };
        let is_ours = step.reason == Reason::Leftover;
        let gives_way_not = !is_ours && self.gives_way_not(step, how);
        if step.verb == Verb::Vacate && !self.task.vacates() || gives_way_not {
            return Word::Held;
        }
        let clears = step.reason == Reason::Leftover;
        if step.is_taken_over() {
            let all = [Verb::Add, Verb::Vacate].iter().all(|verb| self.steps.has(*verb));
            return if all && self.task.vacates() { Word::Yes } else { Word::Held };
        }
        let takes_away = matches!(step.verb, Verb::Remove | Verb::Rename);
        if takes_away && !clears && !self.task.removes() && !self.task.only_compares() {
            return Word::Held;
        }
        if self.spare_newer && self.is_newer_there(step, drive) { Word::Newer } else { Word::Yes }
    }

    /// True for what a move meets under a name, and may not take the place of.
    pub(super) fn gives_way_not(&self, step: &Step, how: OnConflict) -> bool {
        let (Verb::Replace, true) = (step.verb, self.task.vacates()) else { return false };
        match (how, step.source, step.destination) {
            (OnConflict::Replace, ..) => false,
            (OnConflict::Newer, Some(source), Some(there)) => source.modified() <= there.modified(),
            _ => true,
        }
    }

    /// True for a file of the destination, or anything else that is no folder, that is newer than what
    /// would take its place.
    fn is_newer_there(&self, step: &Step, drive: DriveId) -> bool {
        let (Verb::Replace, Some(source), Some(there)) = (step.verb, step.source, step.destination)
        else {
            return false;
        };
        let (source, newer) = (source.modified(), there.modified());
        there.kind != Kind::Folder && newer > source && !self.drives.agree(drive, source, newer)
    }
}

impl Draft<'_> {
    /// A step if it may be taken; else it is counted as what keeps it from being taken.
    pub(super) fn granted(&mut self, step: Step, drive: DriveId) -> Option<Step> {
        match self.policy.may(&step, drive) {
            Word::Yes => return Some(step),
            Word::Held => self.decided.held_back += 1,
            Word::Newer => self.decided.spared_newer += 1,
        }
        None
    }
}
