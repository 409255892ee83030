//! Every step a run would take, and why.

use std::collections::HashSet;

use utter_echo_model::count::Count;
use utter_echo_model::note::Note;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Problem};
use utter_echo_model::verb::{Reason, Side, Verb};
use utter_echo_select::RuleSummary;

use crate::plan::order::InTreeOrder;
use crate::plan::totals::Totals;
use crate::policy::{self, Part, Step, StepLocation};

/// All steps of a run, with what is known of both sides.
#[derive(Debug, Default)]
pub struct Plan {
    pub(crate) parts: Vec<Part>,
    /// What display paths of each part begin with.
    pub(crate) prefixes: Vec<TreePath>,
    /// Entries that no step was planned for because of a fault, in tree order.
    pub problems: Vec<Problem>,
    /// In no particular order.
    pub notes: Vec<Note>,
    /// Sums.
    pub totals: Totals,
    /// What each rule of the selection decided.
    pub decided: Vec<RuleSummary>,
    /// Everything below both roots was looked at, and every difference has its step: once all of them
    /// are done, nothing of what earlier runs left in doubt is in doubt any more.
    pub(crate) settles: bool,
    /// Where below each part's destination another drive is mounted that the plan goes onto, in the
    /// order of their numbers, the root's own left out.
    pub(crate) drives: Vec<Vec<TreePath>>,
    /// Folders of each part's destination where earlier runs left a doubt.
    pub(crate) marked_folders: Vec<Vec<TreePath>>,
}

/// A step with its place.
#[derive(Debug)]
pub struct PlacedStep<'a> {
    /// Number of the step, to find its outcome by.
    pub number: usize,
    /// Relative to the destination as the user named it; empty for that folder itself.
    pub path: TreePath,
    /// The step.
    pub step: &'a Step,
    /// For a hard link, the name it becomes another name of.
    pub linked_to: Option<TreePath>,
    /// For a rename within the destination, where the entry was.
    pub was: Option<TreePath>,
    /// The source's name of it, where that is another.
    pub named: Option<Vec<u8>>,
}

impl Plan {
    /// All steps in tree order: a folder before what it holds, names by their bytes. Of each source what goes
    /// from it comes after what happens in the destination.
    pub fn steps(&self) -> impl Iterator<Item = PlacedStep<'_>> {
        self.parts.iter().zip(&self.prefixes).flat_map(|(part, prefix)| {
            let top = TreePath::default();
            let root =
                part.root.iter().map(move |step| placed(part, prefix, part.first, &top, step));
            let number = part.number_of_root_vacate();
            let last = part.root_vacate.iter();
            let last =
                last.map(move |step| placed(part, prefix, number, &TreePath::default(), step));
            let below = InTreeOrder::of_steps(part).chain(InTreeOrder::of_vacates(part));
            let below = below.map(move |(number, path, step, named)| PlacedStep {
                named,
                ..placed(part, prefix, number, &path, step)
            });
            root.chain(below).chain(last)
        })
    }

    /// What steps of this verb take the place of, or away, but for what other runs left behind; with the bytes
    /// that were there.
    pub(crate) fn displaced(&self, verb: Verb) -> Count {
        let mut displaced = Count::default();
        let steps = self.parts.iter().flat_map(Part::all_steps);
        let steps = steps.filter(|step| step.verb == verb && step.reason != Reason::Leftover);
        steps.filter_map(|step| step.destination).for_each(|was| displaced.add(was.bytes()));
        displaced
    }

    /// The step with this number.
    pub fn step(&self, number: usize) -> Option<PlacedStep<'_>> {
        // What has no steps begins where the next begins.
        let at = self.parts.partition_point(|part| part.first <= number).checked_sub(1)?;
        let (part, prefix) = (&self.parts[at], self.prefixes.get(at)?);
        let (folder, slot) = match part.at(number)? {
            StepLocation::Root(step) => {
                return Some(placed(part, prefix, number, &TreePath::default(), step));
            }
            StepLocation::Below(folder, slot) => (folder, slot),
        };
        let (at, folder) = (folder, &part.folders[folder]);
        let step = folder.step(slot)?;
        let path = match step.side {
            Side::Source => part.source_path(at),
            Side::Destination => part.folder_path(at),
        };
        let (name, named) = folder.told_of(step);
        Some(PlacedStep { named, ..placed(part, prefix, number, &path.join(name), step) })
    }

    /// Takes steps out of the plan, by their numbers, and with them what cannot be done without
    /// them. The others get new numbers.
    pub fn leave_out(&mut self, unwanted: &HashSet<usize>) {
        for part in &mut self.parts {
            part.declined |= policy::withdraw(part, unwanted) > 0;
            self.settles &= !part.declined;
        }
        self.number();
    }

    /// Takes out all steps but these, and what must be there for them: folders that are made.
    pub(crate) fn keep_only(&mut self, wanted: &dyn Fn(&PlacedStep<'_>) -> bool) {
        let mut unwanted = HashSet::new();
        let mut needed: HashSet<TreePath> = HashSet::new();
        // A folder stands before what is in it.
        let steps: Vec<PlacedStep<'_>> = self.steps().collect();
        for placed in steps.iter().rev() {
            let makes = placed.step.verb == Verb::Add && needed.contains(&placed.path);
            if makes || wanted(placed) {
                let (above, _) = placed.path.split_last();
                needed.insert(above.into());
            } else {
                unwanted.insert(placed.number);
            }
        }
        if !unwanted.is_empty() {
            self.leave_out(&unwanted);
        }
    }

    /// Numbers the steps through and adds them up.
    pub(crate) fn number(&mut self) {
        let mut next = 0;
        self.totals.forget_steps();
        for part in &mut self.parts {
            part.first = next;
            next += usize::from(part.root.is_some());
            for folder in &mut part.folders {
                folder.first = next;
                next += folder.steps.len();
            }
            for folder in &mut part.folders {
                folder.first_vacate = next;
                next += folder.vacates.len();
            }
            next += usize::from(part.root_vacate.is_some());
            part.all_steps().for_each(|step| self.totals.include(step));
        }
    }

    /// True if there is nothing to do since nothing can be taken from the source.
    pub fn is_locked(&self) -> bool {
        let is_lock = |problem: &Problem| {
            use Cause::{SourceFlagged, SourceLocked, SourceOfAnother};
            matches!(problem.cause, SourceLocked(_) | SourceFlagged | SourceOfAnother)
        };
        self.is_empty() && self.problems.iter().any(is_lock)
    }

    /// True if there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.totals.steps() == 0
    }
}

fn placed<'a>(
    part: &Part,
    prefix: &TreePath,
    number: usize,
    path: &TreePath,
    step: &'a Step,
) -> PlacedStep<'a> {
    let named = |id| prefix.join(part.path_of(id).as_bytes());
    let (linked_to, was) = (step.link().map(named), step.renamed_from().map(named));
    let path = prefix.join(path.as_bytes());
    PlacedStep { number, path, step, linked_to, was, named: None }
}
