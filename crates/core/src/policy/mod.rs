//! Station: decisions. Turns what comparing found into steps: folder by folder as they are known
//! (`folder`), then names of one file (`links`) and what only moved (`renames`), and has the last word
//! on every step, wherever it came from (`may`).
//!
//! Nothing else can make a [`Step`]. It asks no file system: what it must know of a drive it is told
//! ([`Drives`]), and what only reading can prove is proven by others ([`Proof`]).

mod dependence;
mod draft;
mod folder;
mod links;
mod may;
mod part;
mod partners;
mod readmit;
mod renames;
mod reverse;
mod step;
mod takeover;
#[cfg(test)]
mod tests;

use crate::aspect::Aspect;
use crate::compare::{Compared, Proof, Root, What};
use crate::drives::{DriveId, DriveMap};
use crate::os::{Kind, Time};
use crate::path::TreePath;
use crate::plan::Count;
use crate::problem::Problem;
use crate::request::{By, OnConflict, Request, Task, Vacating};
use crate::scope::Passage;
use crate::select::Selection;
use crate::state::State;

pub(crate) use dependence::withdraw;
pub(crate) use draft::Draft;
pub(crate) use part::{At, Elsewhere, Folder, NameId, OtherName, Part};
pub(crate) use partners::Linker;
pub(crate) use readmit::{Readmitted, readmit};
pub(crate) use reverse::{Reversal, Taken, adjusted, close, reverse, timed};
pub(crate) use step::Relation;
pub use step::{Reason, Side, Step, UnknownVerb, Verb, Verbs};

/// What has to be known of a drive to decide.
pub(crate) trait Drives: Sync {
    /// True if two modification times are the same as far as the drive can tell.
    fn agree(&self, drive: DriveId, one: Time, other: Time) -> bool;
    /// The time that the drive keeps of one that it is given.
    fn nearest(&self, drive: DriveId, time: Time) -> Time;
    /// True if an aspect is carried to the drive.
    fn carries(&self, drive: DriveId, aspect: Aspect) -> bool;
    /// True if it keeps what a renamed folder holds, and the time of a renamed file.
    fn renames(&self, drive: DriveId) -> bool;
}

impl Drives for DriveMap {
    fn agree(&self, drive: DriveId, one: Time, other: Time) -> bool {
        self.get(drive).reach.agree(one, other)
    }

    fn nearest(&self, drive: DriveId, time: Time) -> Time {
        self.get(drive).reach.drive.nearest(time)
    }

    fn carries(&self, drive: DriveId, aspect: Aspect) -> bool {
        self.get(drive).reach.carry.has(aspect)
    }

    fn renames(&self, drive: DriveId) -> bool {
        use crate::abilities::Ability::{RenamedFolders, RenamedTimes};
        let drive = self.get(drive);
        [RenamedFolders, RenamedTimes].into_iter().all(|a| drive.reach.drive.holds(a))
    }
}

/// What is wished for, as far as it decides about steps.
#[allow(clippy::struct_excessive_bools, reason = "options, each by itself")]
pub(crate) struct Policy<'a> {
    task: Task,
    steps: Verbs,
    spare_newer: bool,
    /// Without it nothing is added, replaced or removed.
    content: bool,
    strictly: bool,
    /// Nothing is known of what is on both sides but that it is there.
    by_presence: bool,
    vacating: Vacating,
    /// Folders of the source may have the time of what an earlier move took from them.
    doubts_times: bool,
    /// Tells what a move back leaves where it is.
    selection: &'a Selection,
    drives: &'a dyn Drives,
    conflicts: Conflicts<'a>,
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
        (drives, conflicts): (&'a dyn Drives, &Conflicts<'a>),
    ) -> Self {
        let mut vacating = request.vacating;
        // Folders that are not selected lead to what is.
        vacating.leave_folders |= !selection.takes_folders();
        Self {
            task: request.task,
            steps: request.changed.steps,
            spare_newer: request.changed.spare_newer,
            content: request.carry.has(Aspect::Content),
            strictly: request.strictly,
            by_presence: request.changed.by == By::Presence,
            vacating,
            doubts_times: request.task.vacates() && !has_notes,
            selection,
            drives,
            conflicts: *conflicts,
        }
    }
}

/// What this station hands on.
#[derive(Debug, Default)]
pub(crate) struct Decided {
    pub(crate) part: Part,
    /// Steps that an option forbids, each counted once.
    pub(crate) held_back: u64,
    /// Files that are newer in the destination and stay for that.
    pub(crate) spared_newer: u64,
    /// Entries that are as they should be, and that comparing left to this station to count.
    pub(crate) unchanged: Count,
    pub(crate) problems: Vec<Problem>,
    /// Files of which some names go and others stay.
    pub(crate) second_files: u64,
    /// What is in a folder that goes unseen has to be known after all: see [`Draft::take_over`].
    pub(crate) is_short_sighted: bool,
    /// Entries of kinds that a drive does not hold.
    pub(crate) not_held: Vec<(DriveId, Kind)>,
}

impl Draft<'_> {
    /// Settles links and renames, and says the last word.
    pub(crate) fn decide(mut self, compared: &Compared, proof: &dyn Proof) -> Decided {
        let root = compared.root.as_ref().filter(|_| !self.is_locked);
        let root = root.and_then(|root| self.root_step(root));
        if !compared.takes_root {
            self.root = None;
        }
        let lacks_root = compared.root.is_some_and(|root| root.what == What::New) && root.is_none();
        self.tell_locked();
        self.arrange();
        if lacks_root {
            self.hold_back_all();
        }
        self.settle_links();
        self.copy_what_is_linked();
        self.find_renames(proof);
        self.take_over();
        let root = self.take_root_over(root);
        self.last_word(root)
    }

    /// The source's root folder, if it may go; and whether that could be by being renamed.
    pub(crate) fn vacating_root(mut self, root: Option<State>, passage: Passage) -> Self {
        self.root = root.filter(|_| !self.policy.vacating.leave_folders);
        self.root_passage = passage;
        self
    }

    /// All of the source goes over with its root, whatever that holds.
    pub(crate) fn take_all_over(mut self, compared: &Compared) -> Decided {
        let root = compared.root.as_ref().and_then(|root| self.root_step(root));
        self.root_comes_along = true;
        let root = self.take_root_over(root);
        self.last_word(root)
    }

    fn root_step(&mut self, root: &Root) -> Option<Step> {
        let Root { source, destination, what } = *root;
        let (verb, reason) = match what {
            What::New => (Verb::Add, Reason::New),
            What::Aspects(_) => (Verb::Adjust, Reason::Aspects),
            _ => return None,
        };
        let mut step = Step::new(verb, reason, (Some(source), destination));
        if let What::Aspects(aspects) = what {
            let sides = (Some(source), destination);
            step.aspects = self.policy.told_by_a_folder(aspects, sides, &TreePath::default);
            if step.aspects.is_empty() {
                return None;
            }
        }
        self.granted(step, DriveId::default())
    }
}
