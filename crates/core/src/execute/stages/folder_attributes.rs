//! Attributes of folders, set when everything in them is done.

use crate::execute::writer::ErrorContext as _;
use std::collections::HashSet;
use std::io::ErrorKind;
use std::os::fd::AsFd;

use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Operation;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::{Entry, Kind, Time};

use crate::execute::stages::run::PartRun;
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::{EntryOperation, StepResult, Writer};
use crate::policy::{Step, StepId};

/// Sets the attributes of every folder that was made or changed, the deepest first, since the caller may not be
/// able to enter a finished folder.
pub(super) fn finish_folders(run: &PartRun<'_>) {
    run.close_again();
    let part = run.site.part;
    let left: HashSet<u32> = part.renamed_away().map(|was| was.folder).collect();
    run.deepest_first(|at| {
        finish_below(run, at);
        restore_times(run, at, u32::try_from(at).is_ok_and(|at| left.contains(&at)));
    });
    if let Some(step) = part.root.as_ref().filter(|_| !run.site.takes_root_over()) {
        run.ledger.conclude(StepId::of_root(Side::Destination), finish_root(run, step));
    }
    run.lock_again();
}

fn finish_root(run: &PartRun<'_>, step: &Step) -> StepResult {
    let (top, entry) = (TreePath::default(), Entry::Open(run.root));
    let (writer, pair) = (&run.site.root_drive().writer, run.site.pair);
    let source = writer.model(&top, || Ok(Entry::Pinned(pair.source.as_fd())))?;
    let keeps_times = writer.capabilities.keeps_top_times(pair.destination.exists());
    writer.set_folder_attributes(&step.into(), source, entry, keeps_times)?;
    writer.aside.map_or(Ok(()), |aside| aside.note_after(writer, &top, entry))
}

/// Finishes the folders in one folder.
fn finish_below(run: &PartRun<'_>, at: usize) {
    let folder = &run.site.part.folders[at];
    let on = run.site.drive_of(at);
    let is_due = |(id, step): &(StepId, &Step)| {
        let changes = !matches!(step.verb, Verb::Rename | Verb::Remove);
        step.kind() == Kind::Folder && changes && !run.ledger.was_tried(*id)
    };
    let steps = run.site.part.steps_of(at, Side::Destination);
    let mut due = steps.filter(is_due).peekable();
    if due.peek().is_none() {
        return;
    }
    let place = match run.enter(at) {
        Ok(place) => place,
        // It may never have been made.
        Err(_) if run.must_end() || on.is_closed() => return,
        Err(error) => {
            run.ledger.set_all(due.map(|(id, _)| id), StepOutcome::Failed);
            return run.ledger.report(on, &run.site.part.folder_path(at), error);
        }
    };
    for (id, step) in due {
        let name = folder.name(step);
        // After a stop only folders that were made are finished.
        if run.must_end() && step.verb == Verb::Adjust {
            continue;
        }
        let finished = on.writer.finish_folder(&place, name, &EntryOperation::from(step));
        let at_name = StepSite { on, place: &place, name, step };
        let result = finished.and_then(|()| at_name.note_after());
        if run.must_end() && result.is_err() {
            continue;
        }
        run.ledger.conclude(id, result);
    }
}

/// Restores the times of a folder in which something happened, if it has no step of its own.
fn restore_times(run: &PartRun<'_>, at: usize, lost_some: bool) {
    let (site, part) = (run.site, run.site.part);
    let happened = part
        .steps_of(at, Side::Destination)
        .any(|(id, step)| step.verb != Verb::Adjust && run.ledger.was_tried(id));
    // What an earlier undo did in it is not known.
    let was_tried_before = site.is_undo() && !part.declined;
    let is_due = happened || lost_some || was_tried_before;
    let before = part.folders[at].head.before.filter(|_| is_due);
    let Some(before) = before.filter(|_| part.own_step(at).is_none()) else { return };
    let writer = &site.drive_of(at).writer;
    if at == 0 && !writer.capabilities.keeps_top_times(site.pair.destination.exists()) {
        return;
    }
    let path = part.folder_path(at);
    if let Err(error) = restore(run, (at, &path), &before, writer) {
        run.ledger.report(site.drive_of(at), &path, error);
    }
}

fn restore(
    run: &PartRun<'_>,
    (at, path): (usize, &TreePath),
    before: &State,
    writer: &Writer<'_>,
) -> StepResult {
    let to = match run.system().open_folder(run.root, path.as_bytes()) {
        // It was removed with leftovers of an interrupted run.
        Err(e) if e.kind() == ErrorKind::NotFound && run.site.is_undo() => return Ok(()),
        other => other.during(Operation::SetAttributes)?,
    };
    let now = run.system().stat(Entry::Open(to.as_fd())).during(Operation::SetAttributes)?;
    // Somebody else has changed it.
    if run.last_changes.are_followed((Side::Destination, at), &now) {
        return Ok(());
    }
    writer.restore_time(Entry::Open(to.as_fd()), before, || accessed_before(run, path))
}

/// The access time of a folder before the run that is undone, if known.
fn accessed_before(run: &PartRun<'_>, path: &TreePath) -> Option<Time> {
    let memory = run.site.part.memory.as_ref()?;
    memory.get(path.as_bytes()).map(|before| before.accessed)
}
