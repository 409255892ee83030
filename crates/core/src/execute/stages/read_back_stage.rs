//! Reading written files back from the drive and comparing them with the source.

use crate::execute::writer::ErrorContext as _;
use std::os::fd::AsFd;

use utter_echo_drives::disk_order::RotationalDisks;
use utter_echo_files::same_content::{self, ReadLength};
use utter_echo_model::count;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::verb::Side;
use utter_echo_os::Entry;

use crate::execute::stages::read_back::{self, ReadBack};
use crate::execute::stages::run::PartRun;
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::{FolderPair, StepError, StepResult, was_interrupted};
use crate::policy::{Step, StepId};

/// What to drop from the cache before comparing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum CacheDrop {
    Both,
    Source,
    Destination,
    /// Both files were just read from their drives.
    Nothing,
}

/// Reads every added or replaced file again. A different one has failed after all.
pub(super) fn read_back_files(run: &PartRun<'_>) {
    let part = run.site.part;
    let written = part.all_steps().filter(|step| step.writes_file());
    let bytes = count::total(written.map(|step| step.bytes().saturating_mul(2)));
    run.site.context.observer.comparing(bytes);
    let back = ReadBack::of_written(run);
    if back.in_order(Step::writes_file, |id| read_back_one(run, &back, id)) {
        return;
    }
    let folders = part.folders.iter().enumerate();
    let written = folders.filter(|(_, folder)| folder.steps.iter().any(Step::writes_file));
    let folders: Vec<usize> = written.map(|(at, _)| at).collect();
    run.site.context.pool.each(folders, |at| {
        let Some(place) = enter(run, at) else { return };
        let steps = part.steps_of(at, Side::Destination).filter(|(_, step)| step.writes_file());
        steps.for_each(|(id, _)| read_back_step(run, &place, id, CacheDrop::Both));
    });
}

fn enter(run: &PartRun<'_>, at: usize) -> Option<FolderPair> {
    let report =
        |error| run.ledger.report(run.site.drive_of(at), &run.site.part.folder_path(at), error);
    run.enter(at).map_err(report).ok()
}

fn read_back_one(run: &PartRun<'_>, back: &ReadBack<'_, '_>, id: StepId) {
    let is_fresh = back.is_fresh(id);
    let drops = match &run.site.disks {
        RotationalDisks { source: Some(_), .. } if is_fresh => CacheDrop::Nothing,
        RotationalDisks { source: Some(_), .. } => CacheDrop::Destination,
        RotationalDisks { .. } if is_fresh => CacheDrop::Source,
        RotationalDisks { .. } => CacheDrop::Both,
    };
    if let Some(place) = back.places.take(id.folder()).or_else(|| enter(run, id.folder())) {
        read_back_step(run, &place, id, drops);
        back.places.give_back(id.folder(), place);
    }
}

fn read_back_step(run: &PartRun<'_>, place: &FolderPair, id: StepId, drops: CacheDrop) {
    let Some((step, name)) = run.site.step(id) else { return };
    if !run.ledger.is_done(id) || run.must_end() {
        return;
    }
    let at = StepSite { on: run.site.drive_of(id.folder()), place, name, step };
    let read_back = run.ledger.retry(|| read_back(run, &at, drops));
    run.site.context.pool.did(1);
    // An interrupted comparison means nothing.
    if let Err(error) = read_back
        && !was_interrupted(&error.1)
    {
        run.ledger.set(id, StepOutcome::Failed);
        if matches!(error.1, Cause::ReadBack(_)) {
            at.mark_changed(run.system());
        }
        run.ledger.report(at.on, &place.path.join(name), error);
    }
}

fn read_back(run: &PartRun<'_>, at: &StepSite<'_>, drops: CacheDrop) -> StepResult {
    let StepSite { place, name, step, .. } = *at;
    let (system, observer) = (run.system(), run.site.context.observer);
    let source = system.open_file(place.source()?, place.source_name(name));
    let source = source.during(Operation::Read)?;
    let copy = system.open_file(place.destination.as_fd(), name).during(Operation::ReadBack)?;
    let now = system.stat(Entry::Open(source.as_fd())).during(Operation::Read)?;
    if step.source.is_some_and(|planned| !planned.still(&now)) {
        // A source that changed since the copy cannot be compared.
        return Err(StepError(Operation::ReadBack, Cause::Stale("the source")));
    }
    if matches!(drops, CacheDrop::Both | CacheDrop::Destination) {
        // A file in use by another program is compared as the cache has it.
        let _ =
            read_back::drop_cache(run, Some(at.on), copy.as_fd()).during(Operation::ReadBack)?;
    }
    if matches!(drops, CacheDrop::Both | CacheDrop::Source) {
        // The source needs no flush.
        let _ = read_back::drop_cache(run, None, source.as_fd());
    }
    let (here, there) = (source.as_fd(), copy.as_fd());
    let size = ReadLength { size: now.size, block: run.site.block() };
    let differs = same_content::first_difference(system, here, there, size, |bytes, _| {
        observer.compared(bytes as u64);
        run.site.context.go_on()
    });
    match differs.during(Operation::ReadBack)? {
        Some(offset) => Err(StepError(Operation::ReadBack, Cause::ReadBack(offset))),
        None => Ok(()),
    }
}
