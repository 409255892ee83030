//! Removals from the destination, after everything else has arrived.

use utter_echo_model::verb::Verb;
use utter_echo_os::Kind;

use crate::execute::stages::run::PartRun;
use crate::plan;
use crate::policy::Step;

/// Files first, since a folder must be empty to be removed.
pub(super) fn remove(run: &PartRun<'_>) {
    remove_files(run);
    let folders = |step: &Step| step.verb == Verb::Remove && step.kind() == Kind::Folder;
    run.deepest_first(|at| {
        let slots = 0..run.site.part.folders[at].steps.len();
        run.work_on(at, slots, &folders, &|at| at.remove());
    });
}

/// Removes entries other than folders.
pub(super) fn remove_files(run: &PartRun<'_>) {
    run.each_folder(&plan::clears, &|at| at.remove());
}
