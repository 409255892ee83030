//! A plan is carried out in stages, each over all of a part, in an order that is written down here and nowhere
//! else; what is done to one entry is the `writer`'s.

use parking_lot::Mutex;
use std::io;
use std::os::fd::AsFd;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};

use utter_echo_drives::drive_handle::DriveHandle;
use utter_echo_drives::map::{DriveBelow, DriveMap};
use utter_echo_drives::write_back::{self, WriteBackLimit};
use utter_echo_files::leftovers;
use utter_echo_model::observe::Observer;
use utter_echo_model::problem::{Operation, Problem};
use utter_echo_model::running::Flush;
use utter_echo_model::verb::Verb;
use utter_echo_os::Entry;

use crate::execute::outcome::Outcome;
use crate::execute::stages::last_changes::LastChanges;
use crate::execute::stages::ledger::{Ledger, PartLedger};
use crate::execute::stages::names::Names;
use crate::execute::stages::put_off::PutOff;
use crate::execute::stages::run::{FlushState, PartRun, PartTerms, Terms};
use crate::execute::stages::site::{OnDrive, PartSite};
use crate::execute::stages::source_times::SourceTimes;
use crate::execute::stages::{
    enter, fill, flushing, folder_attributes, journal, make_space, recheck, removal, source_removal,
};
use crate::execute::writer::{ErrorContext as _, SetAsideWriter, WriteContext, Writer};
use crate::journal::SetAsideRun;
use crate::plan::Plan;
use crate::policy::Step;
use crate::sides::Pair;

/// When a stage is due.
#[derive(Clone, Copy)]
enum Gate {
    /// Whatever has happened: what was begun is made whole.
    Always,
    /// Unless the run is to end.
    WhileItGoesOn,
    /// If this says so.
    If(fn(&PartRun<'_>) -> bool),
}

/// One of the stages: when it is due, and what it does.
struct Stage {
    gate: Gate,
    work: fn(&PartRun<'_>),
}

/// The stages of a part, in their order. Nothing goes before its successor has arrived; what takes an
/// emptied folder's place comes after the removals that empty it; attributes of folders come when all in
/// them is done, since that changed their times.
#[allow(clippy::redundant_closure_for_method_calls, reason = "their lifetimes differ")]
const STAGES: [Stage; 17] = [
    // An earlier try to take a run back may have been killed. Nothing of what was lies under such names.
    Stage { gate: Gate::If(|run| run.site.takes_back()), work: clear_leftovers },
    // What is set aside can only be brought back as it was if that is known before anything changes.
    Stage { gate: Gate::If(|run| run.sets_aside()), work: journal::note_all },
    Stage { gate: Gate::If(flushing::needs_marker), work: flushing::set_marker },
    // The one exception, and only where the user asked for it, is that removals come first.
    Stage { gate: Gate::If(make_space::is_due), work: make_space::make_space },
    Stage { gate: Gate::WhileItGoesOn, work: fill::fill },
    Stage { gate: Gate::WhileItGoesOn, work: |run| Names::new(run).rename() },
    Stage { gate: Gate::WhileItGoesOn, work: |run| Names::new(run).link() },
    Stage { gate: Gate::WhileItGoesOn, work: removal::remove },
    // What takes the place of a folder that is empty by now.
    Stage { gate: Gate::WhileItGoesOn, work: |run| write_all(run, &takes_a_place) },
    Stage { gate: Gate::WhileItGoesOn, work: |run| Names::new(run).link_the_rest() },
    // Attributes of entries that are no folders, where they had to wait.
    Stage { gate: Gate::WhileItGoesOn, work: |run| write_all(run, &adjusts) },
    Stage { gate: Gate::Always, work: folder_attributes::finish_folders },
    Stage { gate: Gate::If(flushing::is_due), work: flushing::flush },
    Stage { gate: Gate::If(|run| run.site.context.running.recheck), work: recheck::recheck },
    Stage { gate: Gate::If(|run| run.flushed.is_complete()), work: flushing::clear_markers },
    // Nothing goes from the source before its copy is on the drive and beyond doubt.
    Stage { gate: Gate::If(source_removal::is_due), work: source_removal::remove_from_source },
    Stage { gate: Gate::Always, work: |run| run.source_times.restore(run.site, &run.last_changes) },
];

fn takes_a_place(step: &Step) -> bool {
    step.takes_a_folders_place() && step.link().is_none()
}

fn adjusts(step: &Step) -> bool {
    step.verb == Verb::Adjust && step.writes()
}

fn write_all(run: &PartRun<'_>, wanted: &(dyn Fn(&Step) -> bool + Sync)) {
    run.each_folder(wanted, &|at| at.write());
}

/// Carries out every part of a plan and flushes the drives.
pub(crate) fn carry_out(
    terms: &Terms<'_>,
    (pairs, maps): (&[Pair], &[DriveMap]),
    plan: &Plan,
) -> Outcome {
    let Terms { system, observer, running, aside, .. } = *terms;
    let count = usize::try_from(plan.totals.steps()).unwrap_or(usize::MAX);
    let context = WriteContext::new(system, observer, running);
    let ledger = Ledger::new(count, running.retries);
    // What is copied aside is no step, and no part of the bytes that were announced.
    let quiet = OnlyStopRequests(observer);
    let context_aside = WriteContext::new(system, &quiet, running);
    for (at, part) in plan.parts.iter().enumerate() {
        let (pair, prefix) = (&pairs[at], &plan.prefixes[at]);
        let aside = aside.map(|aside| {
            let writer = Writer::new(&context_aside, &aside.capabilities);
            SetAsideWriter { aside, writer, part: at, prefix }
        });
        let mounted: Vec<Arc<DriveBelow>> = maps[at].all();
        let drives = mounted.iter().map(|mounted| OnDrive {
            mounted,
            writer: Writer::new(&context, &mounted.capabilities)
                .remembering(part.memory.as_ref())
                .setting_aside(aside.as_ref())
                .waiting_for_drive(),
            handle: OnceLock::new(),
            closed: AtomicBool::new(false),
            is_read_itself: AtomicBool::new(false),
        });
        let (drives, disks) = (drives.collect(), pair.disks(system));
        let site = PartSite { context: &context, pair, part, prefix, drives, disks };
        carry_out_part(terms, (&site, &ledger), plan, at);
    }
    if let Some(aside) = aside
        && let Err(error) = aside.or_lose(end_notes(aside, running.flush))
    {
        let path = aside.path.as_os_str().as_encoded_bytes().into();
        ledger.report(Problem { path, operation: Operation::Flush, cause: error.into() });
    }
    let bytes_written = context.bytes_written.load(Ordering::Relaxed);
    let set_aside = aside.map(|aside| aside.path.clone());
    let notes_only = aside.is_some_and(|aside| !aside.keeps_displaced());
    let stopped = observer.stop_requested();
    Outcome { bytes_written, set_aside, notes_only, ..ledger.outcome(plan, stopped) }
}

fn end_notes(aside: &SetAsideRun<'_>, flush: Flush) -> io::Result<()> {
    aside.end_notes()?;
    if flush != Flush::None && aside.keeps_displaced() { aside.flush() } else { Ok(()) }
}

/// However the stages end, those who write out meanwhile end as well.
struct EndHelpers<'s, 'a>(&'s PartSite<'a>);

impl Drop for EndHelpers<'_, '_> {
    fn drop(&mut self) {
        let backlogs = self.0.drives.iter().filter_map(|on| on.writer.backlog.as_ref());
        backlogs.for_each(WriteBackLimit::end);
    }
}

/// Passes nothing on but the wish to stop.
struct OnlyStopRequests<'a>(&'a dyn Observer);

impl Observer for OnlyStopRequests<'_> {
    fn stop_requested(&self) -> bool {
        self.0.stop_requested()
    }
}

fn carry_out_part(
    terms: &Terms<'_>,
    (site, ledger): (&PartSite<'_>, &Ledger),
    plan: &Plan,
    at: usize,
) {
    let ledger = PartLedger { all: ledger, site };
    open_gate_for_root(site);
    let Some((root, _locks)) = enter::make_root(site, ledger) else { return };
    let run = PartRun {
        site,
        ledger,
        root: root.as_fd(),
        terms: PartTerms {
            interrupted: terms.interrupted.get(at),
            remove_first: terms.remove_first,
            removal: terms.removal,
            knows_all: plan.problems.is_empty(),
        },
        flushed: FlushState::new(plan, at),
        opened: Mutex::default(),
        put_off: PutOff::default(),
        source_times: SourceTimes::default(),
        last_changes: LastChanges::default(),
    };
    site.drives.iter().for_each(|on| look_again(&run, on));
    std::thread::scope(|scope| {
        let _ends = EndHelpers(site);
        let helped = site.drives.iter().filter(|_| writes_much(site));
        for (on, backlog) in helped.filter_map(|on| Some((on, on.writer.backlog.as_ref()?))) {
            let Some(handle) = on.handle.get() else { continue };
            backlog.begin();
            let helper = std::thread::Builder::new().spawn_scoped(scope, || {
                let write_out = || handle.flush(site.system());
                backlog.work_off(write_out, |bytes| site.context.observer.wrote(bytes));
            });
            // Without it nobody waits for the drive, and the flush at the end takes as long as it does.
            if helper.is_err() {
                backlog.end();
            }
        }
        for Stage { gate, work } in &STAGES {
            let due = match gate {
                Gate::Always => true,
                Gate::WhileItGoesOn => !run.must_end(),
                Gate::If(says_so) => says_so(&run),
            };
            if due {
                work(&run);
            }
        }
    });
}

/// True for what the drive could not write at once.
fn writes_much(site: &PartSite<'_>) -> bool {
    let sizes = site.steps_there().map(|(_, step)| if step.writes() { step.bytes() } else { 0 });
    write_back::is_much(sizes)
}

/// A root that is made is the first change.
fn open_gate_for_root(site: &PartSite<'_>) {
    let aside = site.root_drive().writer.aside;
    if let Some(aside) = aside.filter(|_| !site.pair.destination.exists()) {
        // What goes wrong with the notes is reported when they are written.
        let _ = aside.open_gate();
    }
}

/// Opens what is mounted, if it is still what the plan saw; else what lies on it is reported as
/// stale when its turn comes.
fn look_again(run: &PartRun<'_>, on: &OnDrive<'_>) {
    let opened = on.mounted.open(run.system(), run.root).and_then(|handle| {
        let now = run.system().stat(Entry::Open(handle.as_fd()))?;
        Ok((handle, now.identity))
    });
    if let Ok((handle, now)) = opened
        && (now == on.mounted.identity || !run.site.pair.destination.exists())
    {
        // Set once: a run looks but once.
        let _ = on.handle.set(DriveHandle::new(run.system(), handle));
    }
}

/// What interrupted runs left in the folders that something happens in.
fn clear_leftovers(run: &PartRun<'_>) {
    let all = (0..run.site.part.folders.len()).collect();
    run.site.context.pool.each(all, |at| {
        let path = run.site.part.folder_path(at);
        let Ok(folder) = run.system().open_folder(run.root, path.as_bytes()) else { return };
        let cleared = leftovers::clear_leftovers(run.system(), folder.as_fd());
        if let Err(error) = cleared.during(Operation::Remove) {
            run.ledger.report(run.site.drive_of(at), &path, error);
        }
    });
}
