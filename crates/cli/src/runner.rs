//! Runs a plan of any origin: shows, guards, asks, executes, reports.

use std::cell::Cell;
use std::fs::File;
use std::io::{BufWriter, ErrorKind};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result};
use utter_echo_core::drives::RememberedDrive;
use utter_echo_core::guard::Refusal;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Note, Plan};
use utter_echo_core::request::{OnConflict, Places, Request, Task};
use utter_echo_core::{PlanError, Session, saved};

use crate::ask;
use crate::context::Context;
use crate::exit::{self, Exit, WrongCall};
use crate::hooks;
use crate::location::{DriveName, Location};
use crate::mounting::Mounts;
use crate::options::{Ask, Changing, Doing, SafetyOptions};
use crate::progress::Progress;
use crate::records::{RunKey, Watching};
use crate::remembered;
use crate::report::conversion::{self, Took};
use crate::report::events::{CommandWord, Event, Head, TotalsLine};
use crate::reporter::Report;
use crate::signals::Signals;
use crate::terminal::{names, units};

/// A run in progress.
pub(crate) struct Runner<'a> {
    pub(crate) request: &'a Request,
    doing: &'a Doing,
    pub(crate) report: &'a Report,
    between: RunKey,
    signals: &'a Signals,
    /// True once a part was carried out.
    has_begun: Cell<bool>,
}

/// The result of a run, before it is reported.
pub(crate) struct RunResult {
    exit: Exit,
    /// Why it ended before its time.
    ending: Option<Event>,
    totals: Option<TotalsLine>,
}

impl From<Exit> for RunResult {
    /// A run that ended before anything was touched.
    fn from(exit: Exit) -> Self {
        Self { exit, ending: None, totals: None }
    }
}

/// How to make a plan again.
#[derive(Clone, Copy, Default)]
pub(crate) struct PlanOptions<'a> {
    pub(crate) save_plan: Option<&'a Location>,
    pub(crate) wait_for_drive: Option<Duration>,
    /// `--all-or-nothing`: an incomplete plan is not carried out.
    pub(crate) all_or_nothing: bool,
}

impl<'a> PlanOptions<'a> {
    pub(crate) fn of(options: &'a Changing) -> Self {
        let save_plan = options.saving.save_plan.as_ref();
        let wait_for_drive = options.waiting.wait_for_drive;
        Self { save_plan, wait_for_drive, all_or_nothing: false }
    }
}

/// A run as it was asked for. Its places are looked up, and its rules read, once what it leaves is open and the user's
/// command before it has ended.
pub(crate) struct AskedRun<'a> {
    pub(crate) head: Head,
    /// The drives that it names.
    pub(crate) drives: Vec<&'a DriveName>,
    pub(crate) request: Box<dyn FnOnce() -> Result<Request> + 'a>,
}

impl<'a> AskedRun<'a> {
    /// Of a command that names its places.
    pub(crate) fn of(
        command: CommandWord,
        (sources, destination): (&'a [Location], &'a Location),
        changing: &'a Changing,
        request: impl FnOnce() -> Result<Request> + 'a,
    ) -> Self {
        let head = Head::called(command, sources, destination, changing.doing.safety.dry_run);
        let drives = changing.drives(sources, destination);
        Self { head, drives, request: Box::new(request) }
    }
}

/// Makes a plan and carries it out.
pub(crate) fn change(
    asked: AskedRun<'_>,
    doing: &Doing,
    anew: PlanOptions<'_>,
    context: &Context,
) -> Result<Exit> {
    around(asked, doing, context, |runner| {
        let Some(patience) = anew.wait_for_drive.filter(|_| !doing.safety.dry_run) else {
            return Ok(runner.end(runner.plan_and_carry_out(anew)?));
        };
        let drives = NamedDrives::of(runner.request)?;
        let mut came = runner.plan_and_carry_out(anew)?;
        while came.exit == Exit::EndedEarly && !drives.are_there() {
            let span = units::span(patience);
            let text = format!("a drive is gone; waiting up to {span} for it to return");
            runner.report.emit(Event::note("waiting", text));
            let is_back = drives.come_back_within(patience, runner.signals);
            let again = PlanOptions { save_plan: None, ..anew };
            let next = if is_back { runner.plan_and_carry_out(again) } else { break };
            // An earlier part was done, which the exit code must show.
            match next {
                Ok(next) if next.is_of_a_run() => came = next.after(came),
                Ok(_) => break,
                Err(_) if runner.signals.caught().is_some() => break,
                Err(error) => {
                    came.ending = Some(conversion::gave_up(&error));
                    break;
                }
            }
        }
        if let Some(stop) = runner.signals.caught() {
            came.exit = exit::of_stop(stop);
            came.ending = Some(conversion::stopped(stop));
        }
        Ok(runner.end(came))
    })
}

impl RunResult {
    /// Something was done.
    fn is_of_a_run(&self) -> bool {
        self.totals.as_ref().is_some_and(|totals| totals.run.is_some())
    }

    /// Added to an earlier part of the run.
    fn after(self, earlier: Self) -> Self {
        let earlier = earlier.totals.and_then(|totals| totals.run);
        let totals = self.totals.map(|totals| match (totals.run, earlier) {
            (Some(run), Some(earlier)) => TotalsLine { run: Some(run.after(earlier)), ..totals },
            (run, earlier) => TotalsLine { run: run.or(earlier), ..totals },
        });
        Self { totals, ..self }
    }
}

/// Sets up the run, and does `work` between the user's commands.
pub(crate) fn around(
    asked: AskedRun<'_>,
    doing: &Doing,
    context: &Context,
    work: impl FnOnce(&Runner<'_>) -> Result<Exit>,
) -> Result<Exit> {
    let form = doing.output.settle(&doing.verbose)?;
    let AskedRun { head, drives, request } = asked;
    let dry_run = doing.safety.dry_run;
    let signals = context.signals()?;
    if doing.safety.ask.is_some() && !dry_run {
        ask::require_terminal("--ask")?;
    }
    let kept = doing.output.keeping.open(&head, context)?;
    let between = RunKey::of(&head, context.line());
    let report = Report::kept(form, head, kept, &context.heard);
    let run = || {
        signals.check()?;
        let drives = drives.into_iter().filter(|_| doing.running.mount);
        let mounts = Mounts::of(drives, dry_run)?;
        let request = &request()?;
        if request.moving.on_conflict == OnConflict::Ask && !dry_run {
            ask::require_terminal("--on-conflict ask")?;
        }
        let has_begun = Cell::new(false);
        let runner = Runner { request, doing, report: &report, between, signals, has_begun };
        let came = work(&runner);
        report.emit_all(mounts.end());
        came
    };
    let settled = doing.running.settle(context, signals);
    let came =
        settled.and_then(|()| if dry_run { run() } else { hooks::around(&doing.writing, run) });
    doing.output.keeping.close(report, &came, context);
    came
}

impl Runner<'_> {
    fn plan_and_carry_out(&self, anew: PlanOptions<'_>) -> Result<RunResult> {
        let session = Session::open(&Linux, self.request)?;
        let progress =
            Progress::scanning(&self.doing.output, self.signals, || self.between.expected_totals());
        let begun = Instant::now();
        let plan = session.plan(&progress);
        let planning = begun.elapsed();
        progress.done();
        self.report.scanned_totals(progress.scanned_totals());
        self.signals.check()?;
        let mut plan = match self.whole(plan)? {
            Ok(plan) => plan,
            Err(exit) => return Ok(exit.into()),
        };
        plan = match self.recovered(&session, plan, || session.plan(&NoObserver))? {
            Ok(plan) => plan,
            Err(exit) => return Ok(exit.into()),
        };
        if self.request.moving.on_conflict == OnConflict::Ask && !self.doing.safety.dry_run {
            let Some(answers) = ask::about_conflicts(&plan, self.signals)? else {
                return Ok(self.declined(&plan, "declined at the prompt"));
            };
            if !answers.is_empty() {
                self.request.answer(answers);
                plan = match self.whole(session.plan(&NoObserver))? {
                    Ok(plan) => plan,
                    Err(exit) => return Ok(exit.into()),
                };
            }
        }
        if let Some(file) = anew.save_plan {
            let file = &file.find()?;
            save(&plan, self.request, file)?;
            let shown = names::path(file);
            let text = if self.doing.safety.dry_run {
                format!("the plan is saved; carry it out with: utter execute {shown}")
            } else {
                format!("the plan is saved in {shown}, and is carried out now")
            };
            self.report.emit(Event::note("plan-saved", text));
        }
        if anew.all_or_nothing && !self.doing.safety.dry_run && !plan.problems.is_empty() {
            self.report.emit_all(conversion::problems(&plan.problems));
            return Ok(self.declined(&plan, NOT_ALL));
        }
        self.carry_out(&session, plan, planning)
    }

    /// Makes the plan; again, if leftovers of a killed move had to be put back first.
    pub(crate) fn recovered(
        &self,
        session: &Session<'_>,
        plan: Plan,
        anew: impl Fn() -> Result<Plan, PlanError>,
    ) -> Result<Result<Plan, Exit>> {
        if self.doing.safety.dry_run {
            return Ok(Ok(plan));
        }
        match session.recover(&plan) {
            Err(refusal) => Ok(Err(self.refused(&refusal))),
            Ok(false) => Ok(Ok(plan)),
            Ok(true) => self.whole(anew()),
        }
    }

    /// The plan, unless a guard refused before it was complete.
    pub(crate) fn whole(&self, plan: Result<Plan, PlanError>) -> Result<Result<Plan, Exit>> {
        match plan {
            Err(PlanError::Refused(refusal)) => Ok(Err(self.refused(&refusal))),
            Err(other) => Err(other.into()),
            Ok(plan) => Ok(Ok(plan)),
        }
    }

    /// Reports a refusal.
    pub(crate) fn refused(&self, refusal: &Refusal) -> Exit {
        self.report.emit(conversion::refused(refusal, self.has_begun.get()));
        Exit::Refused
    }

    /// Reports the result of a run.
    fn end(&self, came: RunResult) -> Exit {
        let totals = came.totals.map(Event::from);
        self.report.emit_all(came.ending.into_iter().chain(totals));
        came.exit
    }

    /// Carries out a plan older than this run. For a dry run, stale steps are reported beforehand; with
    /// `--all-or-nothing` they stop the run.
    pub(crate) fn carry_out_known(
        &self,
        session: &Session<'_>,
        mut plan: Plan,
        all_or_nothing: bool,
    ) -> Result<Exit> {
        let dry_run = self.doing.safety.dry_run;
        if dry_run || all_or_nothing {
            plan.problems.extend(session.stale(&plan));
        }
        if all_or_nothing && !dry_run && !plan.problems.is_empty() {
            self.report.emit_all(conversion::problems(&plan.problems));
            return Ok(self.end(self.declined(&plan, NOT_ALL)));
        }
        Ok(self.end(self.carry_out(session, plan, Duration::ZERO)?))
    }

    /// Shows a plan, or guards it, asks if necessary, and carries it out.
    fn carry_out(
        &self,
        session: &Session<'_>,
        mut plan: Plan,
        planning: Duration,
    ) -> Result<RunResult> {
        if self.doing.safety.dry_run {
            self.report.emit_all(conversion::plan(&plan));
            let exit = match session.check_guards(&plan, &[]) {
                Err(refusal) => self.refused(&refusal),
                Ok(()) if plan.is_locked() => Exit::Refused,
                Ok(()) if plan.problems.is_empty() => Exit::Done,
                Ok(()) => Exit::Problems,
            };
            let totals = Some(conversion::totals(&plan, plan.problems.len()));
            return Ok(RunResult { exit, ending: None, totals });
        }
        match self.guard_or_ask(session, &plan)? {
            Guarded::Passed(notes) => plan.notes.extend(notes),
            Guarded::Refused(refusal) => {
                self.report.emit_all(conversion::problems(&plan.problems));
                let exit = self.refused(&refusal);
                let totals = Some(conversion::totals(&plan, plan.problems.len()));
                return Ok(RunResult { exit, ending: None, totals });
            }
            Guarded::Declined => return Ok(self.declined(&plan, "declined at the prompt")),
        }
        self.report.emit_all(conversion::notes(&plan));
        if plan.is_locked() {
            self.report.emit_all(conversion::problems(&plan.problems));
            return Ok(self.declined(&plan, "nothing can be taken from the source"));
        }
        if !self.is_agreed(&mut plan)? {
            return Ok(self.declined(&plan, "declined at the prompt"));
        }
        let reads_back = self.request.running.read_back || self.request.task.removes_sources();
        let progress = Progress::changing(&self.doing.output, self.signals, &plan, reads_back);
        let watching = Watching::new(&progress, self.report.recorder(), &plan);
        let begun = Instant::now();
        self.has_begun.set(true);
        let outcome = session.execute(&plan, &watching);
        progress.done();
        watching.settle(&outcome);
        if let (Some(_), Some(aside)) = (&outcome.set_aside, &self.request.safety.set_aside) {
            remembered::add(&aside.folder);
        }
        if let Some(error) = &outcome.lost_notes {
            let text = format!(
                "this move cannot be undone with 'utter undo', since its undo journal could not be written: {error}; --set-aside gives it another place"
            );
            self.report.emit(Event::note("not-undoable", text));
        }
        let (executing, reading_back) = (begun.elapsed(), progress.reading_back());
        let took = Took { planning, executing, reading_back };
        self.report.emit_all(conversion::steps_taken(&plan, &outcome));
        Ok(RunResult {
            exit: exit::of_outcome(&outcome, plan.problems.len(), self.signals.caught()),
            ending: conversion::ending(&plan, &outcome, self.signals.caught()),
            totals: Some(conversion::totals_of_run(&plan, &outcome, took)),
        })
    }

    /// A declined plan.
    fn declined(&self, plan: &Plan, why: &str) -> RunResult {
        self.report.emit(conversion::declined(why, self.has_begun.get()));
        let totals = Some(conversion::totals(plan, plan.problems.len()));
        RunResult { exit: Exit::Refused, ending: None, totals }
    }

    /// A refusal that the user can judge becomes a question on a terminal.
    fn guard_or_ask(&self, session: &Session<'_>, plan: &Plan) -> Result<Guarded> {
        let guarded = match session.guard(plan, &[]) {
            Err(refusal @ Refusal::Swapped { .. }) if ask::can_ask() => {
                if !ask::continue_despite(&refusal, self.signals)? {
                    return Ok(Guarded::Declined);
                }
                session.guard(plan, &[refusal.guard()])
            }
            guarded => guarded,
        };
        Ok(guarded.map_or_else(Guarded::Refused, Guarded::Passed))
    }

    /// Asks if necessary: always with `--ask`; before removals on a terminal without `--yes`.
    fn is_agreed(&self, plan: &mut Plan) -> Result<bool> {
        let SafetyOptions { ask, yes, .. } = &self.doing.safety;
        let destination = &self.request.places.destination;
        let removals = plan.totals.steps.remove.entries > plan.totals.leftovers;
        let removes = removals && self.request.task.asks_before_removing();
        let is_mirror = self.request.task == Task::Mirror;
        let replaces_newer = is_mirror && plan.newer_replaced() > 0;
        let unasked = !yes && ask.is_none();
        let wanted = ask.is_some() || unasked && (removes || replaces_newer) && ask::can_ask();
        if unasked && removes && !wanted {
            let removals = units::entries(plan.totals.steps.remove.entries);
            let text = format!(
                "removing {removals} without asking, since there is no terminal; --yes silences this note"
            );
            self.report.emit(Event::note("not-asked", text));
        }
        if !wanted || plan.is_empty() {
            return Ok(true);
        }
        match ask {
            Some(Ask::Each) => ask::about_each(plan, destination, self.signals),
            _ => ask::agreed(plan, destination, self.signals),
        }
    }
}

const NOT_ALL: &str = "some steps are no longer possible, and --all-or-nothing was given";

/// The decision of guards and user on a plan.
enum Guarded {
    Passed(Vec<Note>),
    Refused(Refusal),
    Declined,
}

/// The drives that a run needs.
struct NamedDrives(Vec<RememberedDrive>);

impl NamedDrives {
    fn of(request: &Request) -> Result<Self> {
        let Places { sources, destination, .. } = &request.places;
        let all = sources.iter().chain([destination]);
        let known = |path: &PathBuf| {
            RememberedDrive::holding(&Linux, path).with_context(|| {
                let path = names::path(&request.places.shown(path));
                WrongCall(format!("cannot determine the drive of '{path}', to wait for it"))
            })
        };
        all.map(known).collect::<Result<_>>().map(Self)
    }

    fn are_there(&self) -> bool {
        self.0.iter().all(|drive| drive.is_there(&Linux))
    }

    /// Also false after a signal.
    fn come_back_within(&self, patience: Duration, signals: &Signals) -> bool {
        let begun = Instant::now();
        while begun.elapsed() < patience && signals.caught().is_none() {
            if self.are_there() {
                return true;
            }
            std::thread::sleep(Duration::from_millis(200).min(patience));
        }
        signals.caught().is_none() && self.are_there()
    }
}

/// Never overwrites a file: it might be another plan, or anything else.
fn save(plan: &Plan, request: &Request, file: &Path) -> Result<()> {
    let shown = names::path(file);
    let out = File::create_new(file).map_err(|error| match error.kind() {
        ErrorKind::AlreadyExists => WrongCall(format!(
            "'{shown}' already exists, so the plan was not saved and nothing was touched\n  choose another name for --save-plan, or remove that file"
        )),
        _ => WrongCall(format!(
            "cannot save the plan to '{shown}': {error}\n  choose a folder that you may write to"
        )),
    })?;
    let saved = saved::write(plan, request, BufWriter::new(&out)).and_then(|()| out.sync_all());
    if saved.is_err() {
        // Otherwise the next attempt would find half a file. If it cannot be removed, it stays.
        let _ = std::fs::remove_file(file);
    }
    saved.with_context(|| WrongCall(format!("cannot save the plan to '{shown}'")))
}
