//! Every step a run would take, and why.

use std::collections::HashSet;

use utter_echo_model::count::{self, Count};
use utter_echo_model::note::Note;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Problem};
use utter_echo_model::verb::{Reason, Side, Verb};
use utter_echo_select::RuleSummary;

use crate::compare::LeftBehind;
use crate::plan::order::InTreeOrder;
use crate::plan::totals::Totals;
use crate::policy::{self, Part, Step, StepId};

/// Whether a plan undoes a run, and in which way.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Undoes {
    /// It undoes none.
    #[default]
    Nothing,
    /// It moves entries back: its source is the destination of the run.
    Move,
    /// It restores the destination: its source is the state before the run.
    Run,
}

/// A plan: all steps of a run.
#[derive(Debug, Default)]
pub struct Plan {
    pub(crate) parts: Vec<Part>,
    /// The prefix of displayed paths, for each part.
    pub(crate) prefixes: Vec<TreePath>,
    /// Problems that prevented steps, in tree order.
    pub problems: Vec<Problem>,
    /// In no particular order.
    pub notes: Vec<Note>,
    /// Sums.
    pub totals: Totals,
    /// The decisions of each rule of the selection.
    pub decided: Vec<RuleSummary>,
    /// Everything below both roots was read, and every difference has a step. So once all steps are done, nothing
    /// of earlier runs is unfinished.
    pub(crate) settles: bool,
    /// For each part, the mount points of other drives below the destination that have steps, in the order of their
    /// numbers.
    pub(crate) drives: Vec<Vec<TreePath>>,
    /// Whether it undoes a run.
    pub undoes: Undoes,
    /// For each part, what earlier runs left unfinished.
    pub(crate) left_behind: Vec<LeftBehind>,
}

/// A step with its place.
#[derive(Debug)]
pub struct PlacedStep<'a> {
    /// Number of the step, which identifies its outcome.
    pub number: usize,
    /// Relative to the destination as the user named it; empty for that folder itself.
    pub path: TreePath,
    /// The step.
    pub step: &'a Step,
    /// For a hard link, the path that it is linked to.
    pub linked_to: Option<TreePath>,
    /// For a rename, the old path, if it differs.
    pub was: Option<TreePath>,
    /// The source's name, if that differs.
    pub named: Option<Vec<u8>>,
    /// Of the whole plan.
    pub undoes: Undoes,
}

impl Plan {
    /// All steps in tree order: a folder before its entries, names by their bytes. For each source, removals from
    /// it come after the steps in the destination.
    pub fn steps(&self) -> impl Iterator<Item = PlacedStep<'_>> {
        self.parts.iter().zip(&self.prefixes).flat_map(move |(part, prefix)| {
            let of_root = |side| Some((StepId::of_root(side), TreePath::default()));
            let root = of_root(Side::Destination).into_iter();
            let below = InTreeOrder::of(part, Side::Destination);
            let below = below.chain(InTreeOrder::of(part, Side::Source));
            let all = root.chain(below).chain(of_root(Side::Source));
            let placed = move |(id, path)| {
                let placed = placed(part, prefix, id, &path)?;
                Some(PlacedStep { undoes: self.undoes, ..placed })
            };
            all.filter_map(placed)
        })
    }

    /// Bytes of content that the run writes.
    pub fn bytes_to_write(&self) -> u64 {
        let steps = self.parts.iter().flat_map(Part::all_steps).filter(|step| step.writes());
        count::total(steps.map(Step::bytes))
    }

    /// Entries that steps of this verb displace, with their bytes, without leftovers.
    pub(crate) fn displaced(&self, verb: Verb) -> Count {
        let mut displaced = Count::default();
        let steps = self.parts.iter().flat_map(Part::all_steps);
        let steps = steps.filter(|step| step.verb == verb && step.reason != Reason::Leftover);
        steps.filter_map(|step| step.destination).for_each(|was| displaced.add(was.bytes()));
        displaced
    }

    /// The number of files in the destination that are replaced although they are newer than the source's. An undo puts
    /// back older files on purpose, for another reason.
    pub fn newer_replaced(&self) -> u64 {
        let is_newer = |step: &&Step| {
            let is_changed = matches!(step.reason, Reason::SizeTime | Reason::Content { .. });
            let times = step.source.zip(step.destination);
            let is_newer =
                times.is_some_and(|(source, there)| there.modified() > source.modified());
            step.verb == Verb::Replace && is_changed && is_newer
        };
        self.parts.iter().flat_map(Part::all_steps).filter(is_newer).count() as u64
    }

    /// The step with this number.
    pub fn step(&self, number: usize) -> Option<PlacedStep<'_>> {
        // A part without steps begins where the next one does.
        let at = self.parts.partition_point(|part| part.first <= number).checked_sub(1)?;
        let (part, prefix) = (&self.parts[at], self.prefixes.get(at)?);
        let id = part.id(number)?;
        placed(part, prefix, id, &part.path(id))
    }

    /// Removes steps by their numbers, and steps that depend on them. The others get new numbers.
    pub fn leave_out(&mut self, unwanted: &HashSet<usize>) {
        for part in &mut self.parts {
            part.declined |= policy::withdraw(part, unwanted) > 0;
            self.settles &= !part.declined;
        }
        self.number();
    }

    /// Removes all steps but these and the folders that they need.
    pub(crate) fn keep_only(&mut self, wanted: &dyn Fn(&PlacedStep<'_>) -> bool) {
        let mut unwanted = HashSet::new();
        let mut needed: HashSet<TreePath> = HashSet::new();
        // A folder comes before its entries.
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

    /// Numbers the steps and adds them up.
    pub(crate) fn number(&mut self) {
        let mut next = 0;
        self.totals.forget_steps();
        for part in &mut self.parts {
            next = part.number_from(next);
            part.all_steps().for_each(|step| self.totals.include(step));
        }
    }

    /// True if there is nothing to do because nothing can be removed from the source.
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
    part: &'a Part,
    prefix: &TreePath,
    id: StepId,
    path: &TreePath,
) -> Option<PlacedStep<'a>> {
    let step = part.step(id)?;
    let arrives = id.in_folder().filter(|_| id.side() == Side::Destination);
    let named = arrives.and_then(|at| part.folders[at].other_name_in_source(step));
    let shown = |id| prefix.join(part.path_of(id).as_bytes());
    let other = named.filter(|_| step.is_taken_over()).zip(arrives);
    let from = other.map(|(name, at)| prefix.join(part.source_path(at).join(name).as_bytes()));
    Some(PlacedStep {
        number: part.number(id),
        path: prefix.join(path.as_bytes()),
        step,
        linked_to: step.link().map(shown),
        was: step.renamed_from().map(shown).or(from),
        named: named.map(<[u8]>::to_vec),
        undoes: Undoes::default(),
    })
}
