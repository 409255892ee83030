//! The options that decide about steps.

use utter_echo_drives::map::DriveMap;
use utter_echo_model::attribute::Attribute;
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_model::verb::Verbs;
use utter_echo_os::Time;

use crate::request::{CompareBy, MoveOptions, OnConflict, Request, Task};

/// Facts about drives that decisions need.
pub(crate) trait DriveFacts: Sync {
    /// True if two modification times are equal within the resolution of the drive.
    fn agree(&self, drive: DriveId, one: Time, other: Time) -> bool;
    /// The time that the drive would keep.
    fn nearest(&self, drive: DriveId, time: Time) -> Time;
    /// True if an attribute is carried to the drive.
    fn carries(&self, drive: DriveId, attribute: Attribute) -> bool;
    /// True if renames keep the entries of folders and the times of files.
    fn renames(&self, drive: DriveId) -> bool;
}

impl DriveFacts for DriveMap {
    fn agree(&self, drive: DriveId, one: Time, other: Time) -> bool {
        self.get(drive).capabilities.agree(one, other)
    }

    fn nearest(&self, drive: DriveId, time: Time) -> Time {
        self.get(drive).capabilities.drive.nearest(time)
    }

    fn carries(&self, drive: DriveId, attribute: Attribute) -> bool {
        self.get(drive).capabilities.carry.has(attribute)
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
    pub(crate) leave_newer: bool,
    /// Content is carried. Otherwise nothing is added, replaced or removed.
    pub(crate) content: bool,
    pub(crate) strictly: bool,
    /// Entries on both sides are not compared.
    pub(crate) by_presence: bool,
    /// Folders of the source may have a changed time from an earlier move.
    pub(crate) doubts_times: bool,
}

/// The options that decide about steps.
#[allow(clippy::struct_excessive_bools, reason = "options, each by itself")]
pub(crate) struct Policy<'a> {
    pub(crate) task: Task,
    pub(crate) steps: Verbs,
    pub(crate) moving: MoveOptions,
    pub(crate) drives: &'a dyn DriveFacts,
    pub(crate) conflicts: Conflicts<'a>,
    pub(crate) sameness: SamenessTerms,
}

/// What to do about a conflict of a move.
#[derive(Clone, Copy)]
pub(crate) struct Conflicts<'a> {
    /// The user's choice for a path.
    pub(crate) how: &'a (dyn Fn(&TreePath) -> OnConflict + Sync),
    /// True if an interrupted move was to add an entry with this path.
    pub(crate) may_be_ours: &'a (dyn Fn(&TreePath) -> bool + Sync),
}

impl<'a> Policy<'a> {
    pub(crate) fn of(
        (request, has_notes): (&Request, bool),
        (drives, conflicts): (&'a dyn DriveFacts, &Conflicts<'a>),
    ) -> Self {
        let mut moving = request.moving;
        // Folders that are not selected may lead to entries that are.
        moving.leave_folders |= !request.selection.takes_folders();
        Self {
            task: request.task,
            steps: request.changed.steps,
            moving,
            drives,
            conflicts: *conflicts,
            sameness: SamenessTerms {
                leave_newer: request.changed.leave_newer,
                content: request.carry.has(Attribute::Content),
                strictly: request.changed.strictly,
                by_presence: request.changed.by == CompareBy::Presence,
                doubts_times: request.task.removes_sources() && !has_notes,
            },
        }
    }
}
