//! The space that a plan needs on a drive, and that its own steps free.

use utter_echo_model::state::State;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Kind, Space};

use crate::policy::Step;

/// The space that the steps of a plan take on a drive, and free.
#[derive(Debug, Default)]
pub(crate) struct SpaceNeed {
    /// Bytes of added entries, and growth by replacements.
    bytes: u64,
    /// While a file is replaced, both files exist: the size of the largest.
    largest_replaced: u64,
    inodes: u64,
    /// Bytes of replaced content that new content replaces.
    covered: u64,
    /// New and old bytes of files that become shorter.
    shrinking: Vec<(u64, u64)>,
    /// Bytes of files that are removed.
    removed: u64,
}

/// Which steps free space before others need it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum SpaceFreed {
    /// None: removed entries stay on the drive.
    Nothing,
    /// Files that become shorter.
    Shrinking,
    /// Those, and before them files that are removed.
    Removed,
}

/// In whole blocks.
fn rounded(bytes: u64, space: &Space) -> u64 {
    bytes.div_ceil(space.block).saturating_mul(space.block)
}

/// True for a file that becomes shorter, so that replacing it first frees space.
pub(crate) fn shrinks(step: &Step) -> bool {
    let is_file = |state: &State| state.kind == Kind::File;
    let (new, old) = (step.source.filter(is_file), step.destination.filter(is_file));
    let shorter = new.zip(old).is_some_and(|(new, old)| new.size < old.allocated.min(old.size));
    step.verb == Verb::Replace && step.link().is_none() && shorter
}

/// True for a file that is removed: one name of an entry, which may have others.
pub(crate) fn clears(step: &Step) -> bool {
    step.verb == Verb::Remove && step.kind() != Kind::Folder
}

impl SpaceNeed {
    pub(crate) fn of<'s>(
        steps: impl Iterator<Item = &'s Step>,
        space: &Space,
        holds_holes: bool,
    ) -> Self {
        let mut need = Self::default();
        steps.for_each(|step| need.take_in(step, space, holds_holes));
        need
    }

    /// The space that setting aside needs on another drive.
    pub(crate) fn of_what_is_set_aside<'s>(
        steps: impl Iterator<Item = &'s Step>,
        space: &Space,
    ) -> Self {
        let mut need = Self::default();
        let displaced = |step: &&Step| matches!(step.verb, Verb::Replace | Verb::Remove);
        for old in steps.filter(displaced).filter_map(|step| step.destination) {
            need.bytes = need.bytes.saturating_add(rounded(old.bytes(), space));
            need.inodes += 1;
        }
        need
    }

    fn take_in(&mut self, step: &Step, space: &Space, holds_holes: bool) {
        let there = |bytes: u64, allocated: u64| rounded(bytes.min(allocated), space);
        let old = step.destination.map_or(0, |d| there(d.bytes(), d.allocated));
        if clears(step) {
            self.removed = self.removed.saturating_add(old);
        }
        let Some(source) = step.source.filter(|_| step.link().is_none()) else { return };
        // A sparse file takes less than its size. So may one whose data is not on the source's drive yet, but for a
        // small file by less than a block.
        let taken = if holds_holes { source.allocated.max(space.block) } else { u64::MAX };
        let new = there(source.bytes(), taken);
        match step.verb {
            Verb::Add => {
                self.bytes = self.bytes.saturating_add(new);
                self.inodes += 1;
            }
            Verb::Replace if shrinks(step) && new < old => {
                self.shrinking.push((new, old));
                self.covered = self.covered.saturating_add(new);
                self.largest_replaced = self.largest_replaced.max(new);
            }
            Verb::Replace => {
                self.bytes = self.bytes.saturating_add(new.saturating_sub(old));
                self.covered = self.covered.saturating_add(new.min(old));
                self.largest_replaced = self.largest_replaced.max(new.min(old));
            }
            Verb::Adjust | Verb::Rename | Verb::Remove | Verb::RemoveSource => {}
        }
    }

    /// Bytes needed at the peak.
    pub(crate) fn bytes(&self, keeps_replaced: bool) -> u64 {
        let kept = if keeps_replaced { self.covered } else { 0 };
        self.bytes.saturating_add(kept).saturating_add(self.largest_replaced)
    }

    pub(crate) fn inodes(&self) -> u64 {
        self.inodes
    }

    /// True if `free` bytes are enough, given the steps that free space first.
    pub(crate) fn fits(&self, free: u64, giving: SpaceFreed) -> bool {
        if giving == SpaceFreed::Nothing {
            return self.bytes(true) <= free;
        }
        if self.bytes(false) <= free {
            return true;
        }
        let cleared = if giving == SpaceFreed::Removed { self.removed } else { 0 };
        let mut free = free.saturating_add(cleared);
        let mut shrinking = self.shrinking.clone();
        shrinking.sort_unstable();
        for (new, old) in shrinking {
            if new > free {
                return false;
            }
            free = free.saturating_add(old - new);
        }
        self.bytes(false) <= free
    }
}
