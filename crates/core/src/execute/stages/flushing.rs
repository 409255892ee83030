//! Flushing: setting the dirty marker, flushing the drives, and clearing the marker.

use std::os::fd::AsFd;
use std::sync::atomic::Ordering;

use utter_echo_drives::write_back::WriteBackLimit;
use utter_echo_files::dirty_marker::{self, MarkerSet};
use utter_echo_files::drive_clock;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Operation;
use utter_echo_model::running::Flush;
use utter_echo_model::verb::{Side, Verb};

use crate::execute::stages::run::PartRun;
use crate::execute::stages::site::OnDrive;
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::StepError;
use crate::policy::{Step, StepId};

/// A marker is needed only for a flush at the end: see [`dirty_marker`].
pub(super) fn needs_marker(run: &PartRun<'_>) -> bool {
    // Renames and removals from the source write no content.
    let writes = |step: &Step| step.verb != Verb::RemoveSource && !step.is_taken_over();
    run.site.context.running.flush == Flush::End && run.site.part.all_steps().any(writes)
}

/// Sets the marker of this run.
pub(super) fn set_marker(run: &PartRun<'_>) {
    let set = dirty_marker::set(run.system(), run.root);
    *run.flushed.own.lock() = set;
    for drive in &run.site.drives {
        drive.writer.marked.store(set != MarkerSet::Impossible, Ordering::Relaxed);
    }
}

pub(super) fn is_due(run: &PartRun<'_>) -> bool {
    let flushes = run.site.context.running.flush != Flush::None;
    flushes && (run.site.part.has_steps() || !run.flushed.marked_folders.is_empty())
}

/// Flushes each drive.
pub(super) fn flush(run: &PartRun<'_>) {
    let observer = run.site.context.observer;
    observer.flushing();
    let mut all = true;
    for on in &run.site.drives {
        let Some(handle) = on.handle.get() else { continue };
        if reads_back(run) {
            let name = run.site.context.temporaries.name();
            // Without this time each file is flushed by itself. It is set once: a run flushes only once.
            let now = drive_clock::now(run.system(), handle.as_fd(), &name);
            let _ = now.map(|now| on.flushed_at.set(now));
        }
        let backlog = on.writer.backlog.as_ref();
        // The drive does not report an earlier error again.
        let failed = backlog.and_then(WriteBackLimit::take_error);
        let flushed = handle.flush(run.system());
        match failed.map_or(flushed, Err) {
            Ok(()) => {
                observer.wrote(backlog.map_or(0, WriteBackLimit::settle));
                let is_device_cache_dropped = reads_back(run) && handle.forget(run.system());
                on.is_device_cache_dropped.store(is_device_cache_dropped, Ordering::Relaxed);
            }
            Err(error) => {
                all = false;
                let error = StepError(Operation::Flush, error.into());
                run.ledger.report(on, &on.mounted.path, error);
                // If the drive disappeared, its marker keeps the next run from trusting it.
                if !run.must_end() && !on.is_closed() {
                    mark_all_changed(run, on);
                }
            }
        }
    }
    run.flushed.all.store(all, Ordering::Relaxed);
}

/// True if written files are compared with the source.
fn reads_back(run: &PartRun<'_>) -> bool {
    run.site.context.running.read_back || run.site.part.steps_on(Side::Source).next().is_some()
}

/// Makes all written files on a drive look changed after a failed flush. It is unknown which of them are on the
/// drive, and in the cache all of them look right.
fn mark_all_changed(run: &PartRun<'_>, on: &OnDrive<'_>) {
    let part = run.site.part;
    let is_lost = |(id, step): &(StepId, &Step)| step.writes_file() && run.ledger.is_done(*id);
    let folders =
        (0..part.folders.len()).filter(|at| run.site.drive_of(*at).mounted.id == on.mounted.id);
    for at in folders {
        let mut lost = part.steps_of(at, Side::Destination).filter(is_lost).peekable();
        // A folder that is gone needs nothing.
        let Some(place) = lost.peek().and_then(|_| run.enter(at).ok()) else { continue };
        for (id, step) in lost {
            let name = part.folders[at].name(step);
            StepSite { on, place: &place, name, step }.mark_changed(run.system());
            run.ledger.set(id, StepOutcome::Failed);
        }
    }
}

/// Clears this run's own marker if everything that it began is complete and on the drive, and those of earlier runs
/// if it also read everything and did all steps.
pub(super) fn clear_markers(run: &PartRun<'_>) {
    let own = *run.flushed.own.lock();
    if own == MarkerSet::New && left_nothing_half(run) {
        clear(run, &TreePath::default());
    }
    if run.flushed.settles && run.site.steps_there().all(|(id, _)| run.ledger.is_done(id)) {
        run.flushed.marked_folders.iter().for_each(|path| clear(run, path));
    }
}

fn clear(run: &PartRun<'_>, path: &TreePath) {
    let folder = run.system().open_folder(run.root, path.as_bytes());
    let cleared = folder.and_then(|folder| dirty_marker::clear(run.system(), folder.as_fd()));
    if let Err(error) = cleared {
        // The marker stays, and nothing depends on it now.
        run.flushed.all.store(false, Ordering::Relaxed);
        run.ledger.report(run.site.root_drive(), path, StepError(Operation::Flush, error.into()));
    }
}

/// True unless a step failed that changes attributes in place. Other failed steps change nothing.
fn left_nothing_half(run: &PartRun<'_>) -> bool {
    let in_place = |verb| matches!(verb, Verb::Adjust | Verb::Rename);
    let is_half = |step: &Step| in_place(step.verb) && !step.is_taken_over() || step.makes_folder();
    let mut half = run.site.steps_there().filter(|(_, step)| is_half(step));
    half.all(|(id, _)| run.ledger.outcome(id) != StepOutcome::Failed)
}
