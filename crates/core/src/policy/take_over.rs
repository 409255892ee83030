//! Renaming entries from the source, if both sides lie on one drive: a folder in one step, if everything in it is
//! moved.

use std::collections::HashSet;

use utter_echo_model::verb::{Reason, Verb};

use crate::compare::Presence;
use crate::policy::draft::{Draft, DraftFolder, folders_by_step};
use crate::policy::step::Step;
use crate::request::RenamePath;

impl Draft<'_> {
    /// Replaces steps that add and remove the same entry of the source by renames. After this no step that adds has
    /// [`Reason::TakenOver`].
    ///
    /// A renamed file keeps its hard links. If one of them cannot be renamed, all are copied and linked. If some
    /// may be in a folder that is renamed unchecked, the scan must be repeated with its entries:
    /// `Decisions::is_short_sighted`.
    pub(super) fn take_over(&mut self) {
        let passes = |step: &Option<Step>| step.is_some_and(|s| s.reason == Reason::TakenOver);
        if !self.folders.iter().any(|folder| folder.steps.iter().any(passes)) {
            return;
        }
        self.sort();
        let below = folders_by_step(&self.folders);
        let mut whole: HashSet<usize> = HashSet::new();
        // In tree order the entries of a folder follow it.
        for at in (0..self.folders.len()).rev() {
            let mut comes_along = true;
            let source_removals = self.folders[at].take_source_removals();
            let mut gone = HashSet::new();
            for slot in 0..self.folders[at].steps.len() {
                let Some(step) = self.folders[at].steps[slot] else { continue };
                let child = below.get(&(at, slot)).copied().filter(|child| !self.is_dead(*child));
                let is_whole = child.is_none_or(|child| whole.contains(&child));
                let folder = &mut self.folders[at];
                let goes = folder
                    .find_source_removal(&source_removals, &step)
                    .filter(|_| step.reason == Reason::TakenOver && is_whole);
                comes_along &= goes.is_some();
                if let Some(goes) = goes {
                    gone.insert(goes);
                    folder.steps[slot] = Some(Step { verb: Verb::Rename, ..step });
                    child.map(|child| self.drop_subtree(child));
                } else if step.reason == Reason::TakenOver {
                    folder.steps[slot] = Some(Step { reason: Reason::New, ..step });
                }
            }
            let left = source_removals.into_iter().enumerate().filter(|(at, _)| !gone.contains(at));
            let folder = &mut self.folders[at];
            folder.source_removals = left.map(|(_, step)| step).collect();
            if comes_along && folder.is_only_here() {
                whole.insert(at);
            }
        }
        self.roots.comes_along = whole.contains(&0);
    }

    /// The step of the root, which is renamed as well if everything in it is.
    pub(super) fn take_root_over(&mut self, root: Option<Step>) -> Option<Step> {
        let passes = self.roots.rename_path != RenamePath::Impossible && self.roots.comes_along;
        let passes = passes && self.roots.state.is_some();
        match root.filter(|step| step.verb == Verb::Add && passes) {
            Some(step) => {
                self.drop_subtree(0);
                self.roots.state = None;
                Some(Step { verb: Verb::Rename, reason: Reason::TakenOver, ..step })
            }
            None => root,
        }
    }
}

impl DraftFolder {
    /// Removals from the source, by name.
    fn take_source_removals(&mut self) -> Vec<Step> {
        let mut source_removals = std::mem::take(&mut self.source_removals);
        source_removals
            .sort_unstable_by(|a, b| self.head.names.get(a.name).cmp(self.head.names.get(b.name)));
        source_removals
    }

    fn find_source_removal(&self, source_removals: &[Step], step: &Step) -> Option<usize> {
        let name = self.head.names.get(step.name);
        source_removals
            .binary_search_by(|source_removal| self.head.names.get(source_removal.name).cmp(name))
            .ok()
    }

    /// True if nothing of it stays in the source, and nothing of it is in the destination.
    fn is_only_here(&self) -> bool {
        let goes = self.presence == Presence::Source && self.source_removals.is_empty();
        let holds_back = self.passed_over.held_back + self.passed_over.left_newer > 0;
        goes && !self.source_stays && !holds_back
    }
}
