//! The order of the stages, which is defined here and nowhere else. Each stage covers a whole part.

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
use crate::execute::stages::postponed::Postponed;
use crate::execute::stages::run::{FlushState, PartRun, PartTerms, Terms};
use crate::execute::stages::site::{OnDrive, PartSite};
use crate::execute::stages::source_times::SourceTimes;
use crate::execute::stages::{
    enter, fill, flushing, folder_attributes, journal, make_space, read_back_stage, removal,
    source_removal,
};
use crate::execute::writer::{ErrorContext as _, SetAsideWriter, WriteContext, Writer};
use crate::journal::SetAsideRun;
use crate::plan::Plan;
use crate::policy::Step;
use crate::sides::Pair;

/// When a stage runs.
#[derive(Clone, Copy)]
enum Gate {
    /// Always, to complete what was begun.
    Always,
    /// Unless the run must end.
    WhileItGoesOn,
    /// If this returns true.
    If(fn(&PartRun<'_>) -> bool),
}

/// A stage.
struct Stage {
    gate: Gate,
    work: fn(&PartRun<'_>),
}

/// The stages of a part, in order. Nothing is removed before its replacement has arrived; an entry replaces a
/// folder after the removals that empty it; attributes of folders are set when everything in them is done, since
/// that changes their times.
#[allow(clippy::redundant_closure_for_method_calls, reason = "their lifetimes differ")]
const STAGES: [Stage; 17] = [
    // An earlier undo may have been killed. No original entry has a hidden name.
    Stage { gate: Gate::If(|run| run.site.is_undo()), work: clear_leftovers },
    // The journal must have the state of entries before they change.
    Stage { gate: Gate::If(|run| run.sets_aside()), work: journal::note_all },
    Stage { gate: Gate::If(flushing::needs_marker), work: flushing::set_marker },
    // Removals come first only if the user requested that.
    Stage { gate: Gate::If(make_space::is_due), work: make_space::make_space },
    Stage { gate: Gate::WhileItGoesOn, work: fill::fill },
    Stage { gate: Gate::WhileItGoesOn, work: |run| Names::new(run).rename() },
    Stage { gate: Gate::WhileItGoesOn, work: |run| Names::new(run).link() },
    Stage { gate: Gate::WhileItGoesOn, work: removal::remove },
    // Replacements of folders that are empty by now.
    Stage { gate: Gate::WhileItGoesOn, work: |run| write_all(run, &takes_a_place) },
    Stage { gate: Gate::WhileItGoesOn, work: |run| Names::new(run).link_the_rest() },
    // Attributes of entries other than folders, if they had to wait.
    Stage { gate: Gate::WhileItGoesOn, work: |run| write_all(run, &adjusts) },
    Stage { gate: Gate::Always, work: folder_attributes::finish_folders },
    Stage { gate: Gate::If(flushing::is_due), work: flushing::flush },
    Stage {
        gate: Gate::If(|run| run.site.context.running.read_back),
        work: read_back_stage::read_back_files,
    },
    Stage { gate: Gate::If(|run| run.flushed.is_complete()), work: flushing::clear_markers },
    // Nothing is removed from the source before its copy is on the drive and verified.
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
    // Copies in the set-aside folder are no steps, and their bytes were not announced.
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
                .of_part(part)
                .setting_aside(aside.as_ref())
                .waiting_for_drive(),
            handle: OnceLock::new(),
            flushed_at: OnceLock::new(),
            closed: AtomicBool::new(false),
            is_device_cache_dropped: AtomicBool::new(false),
        });
        let (drives, disks) = (drives.collect(), pair.disks(system));
        let site = PartSite { context: &context, pair, part, prefix, drives, disks };
        carry_out_part(terms, (&site, &ledger), plan, at);
    }
    if let Some(aside) = aside
        && let Err(error) = aside.or_lose(end_journal(aside, running.flush))
    {
        let path = aside.path.as_os_str().as_encoded_bytes().into();
        ledger.report(Problem { path, operation: Operation::Flush, cause: error.into() });
    }
    let bytes_written = context.bytes_written.load(Ordering::Relaxed);
    let set_aside = aside.map(|aside| aside.path.clone());
    let journal_only = aside.is_some_and(|aside| !aside.keeps_displaced());
    let stopped = observer.stop_requested();
    Outcome { bytes_written, set_aside, journal_only, ..ledger.outcome(plan, stopped) }
}

fn end_journal(aside: &SetAsideRun<'_>, flush: Flush) -> io::Result<()> {
    aside.end_journal()?;
    if flush != Flush::None && aside.keeps_displaced() { aside.flush() } else { Ok(()) }
}

/// Ends the flush helpers, however the stages end.
struct EndHelpers<'s, 'a>(&'s PartSite<'a>);

impl Drop for EndHelpers<'_, '_> {
    fn drop(&mut self) {
        let backlogs = self.0.drives.iter().filter_map(|on| on.writer.backlog.as_ref());
        backlogs.for_each(WriteBackLimit::end);
    }
}

/// Passes on only the request to stop.
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
            may_lose: terms.may_lose,
            knows_all: plan.problems.is_empty(),
        },
        flushed: FlushState::new(plan, at),
        opened: Mutex::default(),
        postponed: Postponed::default(),
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
            // Without a helper no writer waits, and the flush at the end takes longer.
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

/// True if the part writes more than a drive writes at once.
fn writes_much(site: &PartSite<'_>) -> bool {
    let sizes = site.steps_there().map(|(_, step)| if step.writes() { step.bytes() } else { 0 });
    write_back::is_much(sizes)
}

/// Opens the journal's gate for a root that is made, since that is the first change.
fn open_gate_for_root(site: &PartSite<'_>) {
    let aside = site.root_drive().writer.aside;
    if let Some(aside) = aside.filter(|_| !site.pair.destination.exists()) {
        // An error of the journal is reported when it is written.
        let _ = aside.open_gate();
    }
}

/// Opens a drive, if it is still that of the plan. Otherwise its steps are reported as stale.
fn look_again(run: &PartRun<'_>, on: &OnDrive<'_>) {
    let opened = on.mounted.open(run.system(), run.root).and_then(|handle| {
        let now = run.system().stat(Entry::Open(handle.as_fd()))?;
        Ok((handle, now.identity))
    });
    if let Ok((handle, now)) = opened
        && (now == on.mounted.identity || !run.site.pair.destination.exists())
    {
        // Set once: a run looks only once.
        let _ = on.handle.set(DriveHandle::new(run.system(), handle));
    }
}

/// Clears leftovers of interrupted runs in the folders of the plan.
fn clear_leftovers(run: &PartRun<'_>) {
    let all = (0..run.site.part.folders.len()).collect();
    run.site.context.pool.each(all, |at| {
        let path = run.site.part.folder_path(at);
        let Ok(folder) = run.system().open_folder(run.root, path.as_bytes()) else { return };
        let keeps = |name: &[u8]| run.site.part.no_leftovers.contains(&path.join(name));
        let cleared = leftovers::clear_leftovers(run.system(), folder.as_fd(), &keeps);
        if let Err(error) = cleared.during(Operation::Remove) {
            run.ledger.report(run.site.drive_of(at), &path, error);
        }
    });
}
