//! Station: deeds. A plan is carried out in stages, each over all of a part, in an order that is
//! written down here and nowhere else; what is done to one entry is the `writer`'s.

use parking_lot::Mutex;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use utter_echo_drives::write_back;
use utter_echo_files::leftovers;
use utter_echo_model::verb::Side;
use utter_echo_os::Entry;

use utter_echo_drives::map::{DriveBelow, DriveMap};
use utter_echo_drives::write_back::WriteBackLimit;
use utter_echo_model::observe::Observer;
use utter_echo_model::problem::{Operation, Problem};
use utter_echo_model::running::Flush;

use crate::execute::outcome::Outcome;
use crate::execute::stages::ledger::Ledger;
use crate::execute::stages::put_off::PutOff;
use crate::execute::stages::run::{FlushState, OnDrive, PartProgress, PartRun, PartTerms, Terms};
use crate::execute::writer::{ErrorContext as _, SetAsideWriter, WriteContext, Writer};
use crate::journal::SetAsideRun;
use crate::plan::Plan;
use crate::sides::Pair;

/// When a stage is due.
#[derive(Clone, Copy)]
pub(super) enum Gate {
    /// Whatever has happened: what was begun is made whole.
    Always,
    /// Unless the run is to end.
    WhileItGoesOn,
    /// If this says so.
    If(fn(&PartRun<'_>) -> bool),
}

/// One of the stages: when it is due, and what it does in the root that it is given.
pub(super) struct Stage {
    gate: Gate,
    work: fn(&PartRun<'_>, BorrowedFd<'_>),
}

/// The stages of a part, in their order. Nothing goes before its successor has arrived; what takes an
/// emptied folder's place comes after the removals that empty it; attributes of folders come when all in
/// them is done, since that changed their times.
#[allow(clippy::redundant_closure_for_method_calls, reason = "their lifetimes differ")]
pub(super) const STAGES: [Stage; 17] = [
    // An earlier try to take a run back may have been killed. Nothing of what was lies under such names.
    Stage { gate: Gate::If(|run| run.takes_back()), work: |run, root| run.clear_leftovers(root) },
    // What is set aside can only be brought back as it was if that is known before anything changes.
    Stage { gate: Gate::If(|run| run.sets_aside()), work: |run, root| run.note_all(root) },
    Stage { gate: Gate::If(|run| run.leaves_a_doubt()), work: |run, root| run.leave_doubts(root) },
    // The one exception, and only where the user asked for it, is that removals come first.
    Stage { gate: Gate::If(|run| run.makes_room()), work: |run, root| run.make_room(root) },
    Stage { gate: Gate::WhileItGoesOn, work: |run, root| run.fill(root) },
    Stage { gate: Gate::WhileItGoesOn, work: |run, root| run.rename(root) },
    Stage { gate: Gate::WhileItGoesOn, work: |run, root| run.link(root) },
    Stage { gate: Gate::WhileItGoesOn, work: |run, root| run.remove(root) },
    Stage { gate: Gate::WhileItGoesOn, work: |run, root| run.take_places(root) },
    Stage { gate: Gate::WhileItGoesOn, work: |run, root| run.link_the_rest(root) },
    Stage { gate: Gate::WhileItGoesOn, work: |run, root| run.adjust(root) },
    Stage { gate: Gate::Always, work: |run, root| run.finish_folders(root) },
    Stage { gate: Gate::If(|run| run.flushes()), work: |run, root| run.flush(root) },
    Stage { gate: Gate::If(|run| run.rechecks()), work: |run, root| run.recheck(root) },
    Stage { gate: Gate::If(|run| run.has_flushed()), work: |run, root| run.clear_doubts(root) },
    // Nothing goes from the source before its copy is on the drive and beyond doubt.
    Stage { gate: Gate::If(|run| run.may_vacate()), work: |run, root| run.vacate(root) },
    Stage { gate: Gate::Always, work: |run, _| run.give_times_back() },
];

/// Carries out every part of a plan and flushes the drives.
pub(crate) fn carry_out(
    terms: &Terms<'_>,
    (pairs, maps): (&[Pair], &[DriveMap]),
    plan: &Plan,
) -> Outcome {
    let Terms { system, observer, running, remove_first, aside, interrupted, removal } = *terms;
    let count = usize::try_from(plan.totals.steps()).unwrap_or(usize::MAX);
    let context = WriteContext::new(system, observer, running);
    let ledger = Ledger::new(count, running.retries);
    // What is copied aside is no step, and no part of the bytes that were announced.
    let quiet = OnlyStopRequests(observer);
    let means_aside = WriteContext::new(system, &quiet, running);
    for (at, part) in plan.parts.iter().enumerate() {
        let (pair, prefix) = (&pairs[at], &plan.prefixes[at]);
        let aside = aside.map(|aside| {
            let writer = Writer::new(&means_aside, &aside.capabilities);
            SetAsideWriter { aside, writer, part: at, prefix }
        });
        let mounted: Vec<Arc<DriveBelow>> = maps[at].all();
        let drives = mounted.iter().map(|mounted| OnDrive {
            mounted,
            writer: Writer::new(&context, &mounted.capabilities)
                .for_single(pair.single.as_ref())
                .remembering(part.memory.as_ref())
                .setting_aside(aside.as_ref())
                .waiting_for_drive(),
            handle: OnceLock::new(),
            closed: AtomicBool::new(false),
        });
        let run = PartRun {
            context: &context,
            ledger: &ledger,
            pair,
            part,
            prefix,
            drives: drives.collect(),
            disks: pair.disks(system),
            flush_state: FlushState::new(plan, at),
            progress: PartProgress {
                opened: Mutex::default(),
                times_here: Mutex::default(),
                put_off: PutOff::default(),
                linking: Mutex::default(),
            },
            terms: PartTerms {
                interrupted: interrupted.get(at),
                remove_first,
                removal,
                knows_all: plan.problems.is_empty(),
            },
        };
        run.go();
    }
    let keep = |aside: &SetAsideRun<'_>| {
        aside.end_notes()?;
        let flushes = running.flush != Flush::None && aside.keeps_displaced();
        if flushes { aside.flush() } else { Ok(()) }
    };
    if let Some(aside) = aside
        && let Err(error) = aside.or_lose(keep(aside))
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

/// However the stages end, those who write out meanwhile end as well.
pub(super) struct EndHelpers<'r, 'a>(&'r PartRun<'a>);

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

impl PartRun<'_> {
    pub(crate) fn go(&self) {
        self.open_gate_for_root();
        let Some(root) = self.make_root() else { return };
        let root = root.as_fd();
        // One that was there the guard has locked.
        let is_new = !self.pair.destination.exists();
        let _lock = is_new.then(|| self.system().lock(root));
        self.drives.iter().for_each(|on| self.look_again(on, root));
        std::thread::scope(|scope| {
            let _ends = EndHelpers(self);
            let helped = self.drives.iter().filter(|_| self.writes_much());
            for (on, backlog) in helped.filter_map(|on| Some((on, on.writer.backlog.as_ref()?))) {
                let Some(handle) = on.handle.get() else { continue };
                backlog.begin();
                scope.spawn(|| {
                    let write_out = || self.system().flush_drive(handle.as_fd());
                    backlog.work_off(write_out, |bytes| self.context.observer.wrote(bytes));
                });
            }
            for Stage { gate, work } in &STAGES {
                let due = match gate {
                    Gate::Always => true,
                    Gate::WhileItGoesOn => !self.context.must_end(),
                    Gate::If(says_so) => says_so(self),
                };
                if due {
                    work(self, root);
                }
            }
        });
    }

    /// True for what the drive could not write at once.
    fn writes_much(&self) -> bool {
        let there = self.part.all_steps().filter(|step| step.side == Side::Destination);
        write_back::is_much(there.map(|step| if step.writes() { step.bytes() } else { 0 }))
    }

    /// A root that is made is the first deed.
    fn open_gate_for_root(&self) {
        if let Some(aside) = self.drives[0].writer.aside.filter(|_| !self.pair.destination.exists())
        {
            // What goes wrong with the notes is told when they are written.
            let _ = aside.open_gate();
        }
    }

    /// Opens what is mounted, if it is still what the plan saw; else what lies on it is told of as
    /// overtaken when its turn comes.
    fn look_again(&self, on: &OnDrive<'_>, root: BorrowedFd<'_>) {
        let opened = on.mounted.open(self.system(), root).and_then(|handle| {
            let now = self.system().stat(Entry::Open(handle.as_fd()))?;
            Ok((handle, now.identity))
        });
        if let Ok((handle, now)) = opened
            && (now == on.mounted.identity || !self.pair.destination.exists())
        {
            // Set once: a run looks but once.
            let _ = on.handle.set(handle);
        }
    }

    /// What interrupted runs left in the folders that something happens in.
    pub(crate) fn clear_leftovers(&self, root: BorrowedFd<'_>) {
        let all = (0..self.part.folders.len()).collect();
        self.context.pool.each(all, |at| {
            let path = self.part.folder_path(at);
            let Ok(folder) = self.system().open_folder(root, path.as_bytes()) else { return };
            let cleared = leftovers::clear_leftovers(self.system(), folder.as_fd());
            if let Err(error) = cleared.during(Operation::Remove) {
                self.report(self.drive_of(at), &path, error);
            }
        });
    }
}
