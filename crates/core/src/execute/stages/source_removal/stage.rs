//! The order of removals from the source of a part.

use utter_echo_model::verb::Side;

use crate::execute::stages::run::PartRun;
use crate::execute::stages::source_removal::shared::SourceRemoval;

/// True if something is to be removed, and the copies are on the drive.
pub(in crate::execute::stages) fn is_due(run: &PartRun<'_>) -> bool {
    let part = run.site.part;
    let leaves = part.root_source_removal.is_some() || part.steps_on(Side::Source).next().is_some();
    leaves && run.flushed.is_complete() && !SourceRemoval { run }.must_stop()
}

/// Removes files first, then folders from the bottom up, and the root last.
pub(in crate::execute::stages) fn remove_from_source(run: &PartRun<'_>) {
    run.keep_source_times(|folder| !folder.source_removals.is_empty());
    let removal = SourceRemoval { run };
    removal.announce();
    let shared = removal.remove_files();
    removal.remove_shared(shared);
    removal.close_exits();
    removal.remove_folders();
    removal.remove_root();
}
