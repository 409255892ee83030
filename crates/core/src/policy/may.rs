//! The check of every step against the options.

use utter_echo_model::identity::DriveId;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Kind;

use crate::policy::draft::Draft;
use crate::policy::step::Step;
use crate::policy::terms::Policy;
use crate::request::OnConflict;

/// Whether a step is allowed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Permission {
    Yes,
    /// An option forbids it.
    Held,
    /// The destination's file is newer, and such files stay.
    Newer,
}

impl Policy<'_> {
    /// Whether a step is allowed. Each option alone can forbid it.
    pub(super) fn may(&self, step: &Step, drive: DriveId) -> Permission {
        if self.task.is_undo() {
            return Permission::Yes;
        }
        if !self.steps.has(step.verb) {
            return Permission::Held;
        }
        // A comparison reports entries of one side only, whatever is carried.
        if !self.sameness.content && step.verb != Verb::Adjust && !self.task.only_compares() {
            return Permission::Held;
        }
        // Conflicts of a move were decided where the path is known.
        let how = match self.moving.on_conflict {
            OnConflict::Ask => OnConflict::Replace,
            other => other,
        };
        let is_ours = step.reason == Reason::Leftover;
        let gives_way_not = !is_ours && self.gives_way_not(step, how);
        if step.verb == Verb::RemoveSource && !self.task.removes_sources() || gives_way_not {
            return Permission::Held;
        }
        let clears = step.reason == Reason::Leftover;
        if step.is_taken_over() {
            let all = [Verb::Add, Verb::RemoveSource].iter().all(|verb| self.steps.has(*verb));
            return if all && self.task.removes_sources() {
                Permission::Yes
            } else {
                Permission::Held
            };
        }
        let takes_away = matches!(step.verb, Verb::Remove | Verb::Rename);
        if takes_away && !clears && !self.task.removes() && !self.task.only_compares() {
            return Permission::Held;
        }
        if self.sameness.leave_newer && self.is_newer_there(step, drive) {
            Permission::Newer
        } else {
            Permission::Yes
        }
    }

    /// True for a conflict of a move that must stay.
    pub(super) fn gives_way_not(&self, step: &Step, how: OnConflict) -> bool {
        let (Verb::Replace, true) = (step.verb, self.task.removes_sources()) else { return false };
        match (how, step.source, step.destination) {
            (OnConflict::Replace, ..) => false,
            (OnConflict::Newer, Some(source), Some(there)) => source.modified() <= there.modified(),
            _ => true,
        }
    }

    /// True if the destination's entry is not a folder and newer than its replacement.
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
    /// Returns a step if it is allowed; otherwise counts it.
    pub(super) fn granted(&mut self, step: Step, drive: DriveId) -> Option<Step> {
        match self.policy.may(&step, drive) {
            Permission::Yes => return Some(step),
            Permission::Held => self.decided.held_back += 1,
            Permission::Newer => self.decided.left_newer += 1,
        }
        None
    }
}
