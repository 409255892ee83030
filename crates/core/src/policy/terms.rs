//! The options that decide about steps.

use utter_echo_drives::map::DriveMap;
use utter_echo_model::aspect::Aspect;
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::verb::Verbs;
use utter_echo_os::Time;
use utter_echo_select::Selection;

use crate::request::{By, OnConflict, Request, Task, Vacating};

/// What has to be known of a drive to decide.
pub(crate) trait DriveFacts: Sync {
    /// True if two modification times are the same as far as the drive can tell.
    fn agree(&self, drive: DriveId, one: Time, other: Time) -> bool;
    /// The time that the drive keeps of one that it is given.
    fn nearest(&self, drive: DriveId, time: Time) -> Time;
    /// True if an aspect is carried to the drive.
    fn carries(&self, drive: DriveId, aspect: Aspect) -> bool;
    /// True if it keeps what a renamed folder holds, and the time of a renamed file.
    fn renames(&self, drive: DriveId) -> bool;
}

impl DriveFacts for DriveMap {
    fn agree(&self, drive: DriveId, one: Time, other: Time) -> bool {
        self.get(drive).capabilities.agree(one, other)
    }

    fn nearest(&self, drive: DriveId, time: Time) -> Time {
        self.get(drive).capabilities.drive.nearest(time)
    }

    fn carries(&self, drive: DriveId, aspect: Aspect) -> bool {
        self.get(drive).capabilities.carry.has(aspect)
    }

    fn renames(&self, drive: DriveId) -> bool {
        use utter_echo_drives::features::Feature::{RenamedFolders, RenamedTimes};
        let drive = self.get(drive);
        [RenamedFolders, RenamedTimes].into_iter().all(|a| drive.capabilities.drive.holds(a))
    }
}

/// When two entries count as the same.
#[allow(clippy::struct_excessive_bools, reason = "options, each by itself")]
pub(crate) struct SamenessTerms {
    pub(crate) spare_newer: bool,
    /// Without it nothing is added, replaced or removed.
    pub(crate) content: bool,
    pub(crate) strictly: bool,
    /// Nothing is known of what is on both sides but that it is there.
    pub(crate) by_presence: bool,
    /// Folders of the source may have the time of what an earlier move took from them.
    pub(crate) doubts_times: bool,
}

/// What is wished for, as far as it decides about steps.
#[allow(clippy::struct_excessive_bools, reason = "options, each by itself")]
pub(crate) struct Policy<'a> {
    pub(crate) task: Task,
    pub(crate) steps: Verbs,
    pub(crate) vacating: Vacating,
    /// Tells what a move back leaves where it is.
    pub(crate) selection: &'a Selection,
    pub(crate) drives: &'a dyn DriveFacts,
    pub(crate) conflicts: Conflicts<'a>,
    pub(crate) sameness: SamenessTerms,
}

/// What to do where a move meets something else under a path.
#[derive(Clone, Copy)]
pub(crate) struct Conflicts<'a> {
    /// What the user says.
    pub(crate) how: &'a (dyn Fn(&TreePath) -> OnConflict + Sync),
    /// An earlier move that was cut short was to add an entry of this path.
    pub(crate) may_be_ours: &'a (dyn Fn(&TreePath) -> bool + Sync),
}

impl<'a> Policy<'a> {
    pub(crate) fn of(
        (request, has_notes): (&Request, bool),
        selection: &'a Selection,
        (drives, conflicts): (&'a dyn DriveFacts, &Conflicts<'a>),
    ) -> Self {
        let mut vacating = request.vacating;
        // Folders that are not selected lead to what is.
        vacating.leave_folders |= !selection.takes_folders();
        Self {
            task: request.task,
            steps: request.changed.steps,
            vacating,
            selection,
            drives,
            conflicts: *conflicts,
            sameness: SamenessTerms {
                spare_newer: request.changed.spare_newer,
                content: request.carry.has(Aspect::Content),
                strictly: request.changed.strictly,
                by_presence: request.changed.by == By::Presence,
                doubts_times: request.task.vacates() && !has_notes,
            },
        }
    }
}
