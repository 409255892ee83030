//! Making space: on a nearly full drive, steps that free space come first.

use std::os::fd::AsFd as _;

use utter_echo_drives::features::Feature;
use utter_echo_model::verb::{Side, Verb};

use crate::execute::stages::removal;
use crate::execute::stages::run::PartRun;
use crate::plan::{self, SpaceNeed};
use crate::policy::{Step, StepId};

/// True if the drives may have too little space for another order, or the user requested it.
pub(super) fn is_due(run: &PartRun<'_>) -> bool {
    if run.sets_aside() || run.site.is_undo() {
        return run.terms.remove_first;
    }
    let may = |step: &Step| plan::shrinks(step);
    run.terms.remove_first || run.site.part.all_steps().any(may) && !has_space_for_all(run)
}

fn has_space_for_all(run: &PartRun<'_>) -> bool {
    let site = run.site;
    site.drives.iter().all(|on| {
        let is_there = |id: StepId| site.drive_of(id.folder()).mounted.id == on.mounted.id;
        let steps = site.steps_there().filter(|(id, _)| is_there(*id)).map(|(_, step)| step);
        // A drive that is no longer mounted makes its steps stale.
        on.handle.get().is_none_or(|handle| {
            run.system().space(handle.as_fd()).is_ok_and(|space| {
                let holds_holes = on.mounted.capabilities.drive.holds(Feature::Holes);
                SpaceNeed::of(steps, &space, holds_holes).bytes(false) <= space.bytes
            })
        })
    })
}

/// Removes files, if requested, and then replaces those that become shorter, the shortest first, since each frees
/// space for the next.
pub(super) fn make_space(run: &PartRun<'_>) {
    if run.terms.remove_first {
        removal::remove_files(run);
    }
    // Replacements of folders and hard links must wait.
    let shrinks = |step: &Step| step.verb == Verb::Replace && plan::shrinks(step);
    let all = run.site.part.steps_on(Side::Destination).filter(|(_, step)| shrinks(step));
    let mut shrinking: Vec<_> = all.map(|(id, step)| (step.bytes(), id)).collect();
    shrinking.sort_unstable();
    for (_, id) in shrinking {
        run.work_on(id.folder(), id.slot()..id.slot() + 1, &|_| true, &|at| at.write());
    }
}
