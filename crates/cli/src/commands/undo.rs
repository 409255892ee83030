//! `utter undo`: reverses a move, or a run with set-aside entries.

use std::path::Path;

use anyhow::{Context as _, Result};
use clap::{Args, ValueHint};
use clap_complete::engine::ArgValueCompleter;
use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{PlacedStep, Verb};
use utter_echo_core::request::{Places, Request, Safety, Task};
use utter_echo_core::select::Selection;
use utter_echo_core::{PastRun, Session};

use crate::commands::past_runs::{self, WithRuns};
use crate::context::{Command, Context};
use crate::exit::{Exit, wrong_call};
use crate::location::{Location, location};
use crate::options::{Ask, OnlyOfRun, complete};
use crate::report::conversion;
use crate::report::events::{self, Event, Head};
use crate::runner::{self, AskedRun};
use crate::terminal::names;

const EXAMPLES: &str = "\
Examples:
  utter mirror --set-aside /mnt/lantern/aside saltmere /mnt/lantern/saltmere
  utter undo                                                     which runs can be taken back
  utter undo --dry-run /mnt/lantern/aside/2026-11-23T14-05-09Z   what that would change
  utter undo --discard-older 30d                                 free the space of old runs";

/// Reverse a move, or a run made with --set-aside
///
/// Moved entries are moved back. Added entries are removed; replaced, changed or removed entries are restored.
/// Entries changed since the run are left alone and listed, and the rest is done. Once everything is back, the
/// folder of the run is removed. On a terminal it asks before it removes anything, unless --yes is given. Without
/// RUN it lists the runs that can be undone, the newest first.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Undo {
    /// The folder of the run, as printed at its end, or its number in 'utter history' [default: list all runs]
    #[arg(value_name = "RUN", add = ArgValueCompleter::new(complete::runs), value_hint = ValueHint::DirPath, value_parser = location())]
    run: Option<Location>,
    #[command(flatten)]
    only: OnlyOfRun,
    #[command(flatten)]
    with: WithRuns,
}

impl Command for Undo {
    fn run(&self, context: &Context) -> Result<Exit> {
        let discarding = &self.with.discarding;
        if discarding.is_asked() {
            return past_runs::discard_runs(&self.with, context);
        }
        match &self.run {
            Some(run) if discarding.show => {
                past_runs::show(&self.with, &past_runs::folder_of(&run.find()?)?, context)
            }
            Some(run) => self.take_back(&past_runs::folder_of(&run.find()?)?, context),
            None => past_runs::list(&self.with, context),
        }
    }
}

impl Undo {
    fn take_back(&self, run: &Path, context: &Context) -> Result<Exit> {
        let run = PastRun::open(&Linux, run)?;
        if !run.is_move() {
            return self.put_back(&run, context);
        }
        let exit = self.move_back(&run, context)?;
        if exit != Exit::Done {
            return Ok(exit);
        }
        if self.with.doing.safety.dry_run {
            return if self.has_more(&run)? { self.put_back(&run, context) } else { Ok(exit) };
        }
        if !is_moved_back(&run)? {
            return Ok(exit);
        }
        if self.has_more(&run)? {
            return self.put_back(&run, context);
        }
        discard(&run).map(|()| exit)
    }

    /// More than moving back was done.
    fn has_more(&self, run: &PastRun<'_>) -> Result<bool> {
        if run.is_gone() {
            return Ok(false);
        }
        let request = request(run, Selection::everything(), self.with.doing.safety.guards());
        let session = Session::open_to_undo(&Linux, &request, run)?;
        let Ok(plan) = session.plan_to_undo() else { return Ok(true) };
        let is_done = plan.is_empty() && plan.problems.is_empty();
        Ok(!is_done || !self.with.doing.safety.dry_run && !session.not_back()?.is_empty())
    }

    /// A move back of exactly what the run took from the source.
    fn move_back(&self, run: &PastRun<'_>, context: &Context) -> Result<Exit> {
        let Places { sources, destination, .. } = &run.purpose.places;
        let origin = sources.first().cloned().unwrap_or_default();
        let request = Request::new(Task::Move, Places::new(vec![destination.clone()], origin))
            .selecting(self.only.selection()?)
            .guarded(self.with.aside.over_move(self.with.doing.safety.guards(), context)?);
        let request = self.with.doing.apply(request);
        let dry_run = self.with.doing.safety.dry_run;
        let head = Head { command: events::CommandWord::Undo, ..Head::of(&request, dry_run) };
        let asked = AskedRun { head, drives: Vec::new(), request: Box::new(|| Ok(request)) };
        runner::around(asked, &self.with.doing, context, |runner| {
            let session = Session::open_to_move_back(&Linux, runner.request, run)?;
            let _lock = match if dry_run { Ok(None) } else { session.hold() } {
                Ok(lock) => lock,
                Err(refusal) => return Ok(runner.refused(&refusal)),
            };
            let plan_back = || session.plan_to_move_back();
            let plan = match runner.whole(plan_back())? {
                Ok(plan) => runner.recovered(&session, plan, plan_back)?,
                Err(exit) => Err(exit),
            };
            let plan = match plan {
                Ok(plan) => plan,
                Err(exit) => return Ok(exit),
            };
            let all_or_nothing = self.with.all_or_nothing.all_or_nothing;
            runner.carry_out_known(&session, plan, all_or_nothing)
        })
    }

    /// Puts back what the run displaced or changed, and removes what it created.
    fn put_back(&self, run: &PastRun<'_>, context: &Context) -> Result<Exit> {
        let guards = self.with.aside.over(self.with.doing.safety.guards(), context)?;
        let request = self.with.doing.apply(request(run, self.only.selection()?, guards));
        let safety = &self.with.doing.safety;
        let head = Head::of(&request, safety.dry_run);
        let asked = AskedRun { head, drives: Vec::new(), request: Box::new(|| Ok(request)) };
        runner::around(asked, &self.with.doing, context, |runner| {
            let session = Session::open_to_undo(&Linux, runner.request, run)?;
            let _lock = match if safety.dry_run { Ok(None) } else { session.hold() } {
                Ok(lock) => lock,
                Err(refusal) => return Ok(runner.refused(&refusal)),
            };
            let plan = match runner.whole(session.plan_to_undo())? {
                Ok(plan) => plan,
                Err(exit) => return Ok(exit),
            };
            let chooses = !self.only.only.is_empty() && !run.is_move();
            if plan.is_empty() && plan.problems.is_empty() && chooses {
                wrong_call!(
                    "nothing left to restore matches --only; nothing was touched\n  patterns match paths in the destination; 'utter undo --dry-run' without --only lists them"
                );
            }
            let was_chosen = safety.ask == Some(Ask::Each) || !self.only.only.is_empty();
            let is_whole = !was_chosen && plan.problems.is_empty();
            let all_or_nothing = self.with.all_or_nothing.all_or_nothing;
            let exit = runner.carry_out_known(&session, plan, all_or_nothing)?;
            if exit != Exit::Done || safety.dry_run {
                return Ok(exit);
            }
            // The journal is removed only after everything was put back.
            let left = if is_whole { session.not_back_after_all() } else { session.not_back()? };
            let shown = names::path(&run.path);
            if left.is_empty() {
                discard(run)?;
                return Ok(Exit::Done);
            }
            if !was_chosen {
                runner.report.emit_all(conversion::problems(&left));
            }
            let text = format!(
                "not all of {shown} could be restored, so it is kept and can still be undone"
            );
            runner.report.emit(Event::note("kept", text));
            Ok(if was_chosen { Exit::Done } else { Exit::Problems })
        })
    }
}

/// The request to put back what a run displaced.
fn request(run: &PastRun<'_>, selection: Selection, safety: Safety) -> Request {
    let atime = run.purpose.carry.has(Attribute::Atime);
    let destination = run.purpose.places.destination.clone();
    Request::new(Task::Undo, Places::new(vec![run.path.clone()], destination))
        .selecting(selection)
        .carrying(if atime { Attributes::ALL.with(Attribute::Atime) } else { Attributes::ALL })
        .guarded(safety)
}

/// Everything that the move took is back.
fn is_moved_back(run: &PastRun<'_>) -> Result<bool> {
    let places = Places::new(vec![run.path.clone()], run.purpose.places.destination.clone());
    let request = Request::new(Task::Move, places);
    let plan = Session::open_to_move_back(&Linux, &request, run)?.plan_to_move_back()?;
    let moves = |placed: PlacedStep<'_>| placed.step.verb != Verb::Adjust;
    Ok(plan.problems.is_empty() && !plan.steps().any(moves))
}

fn discard(run: &PastRun<'_>) -> Result<()> {
    let shown = names::path(&run.path);
    run.discard()
        .with_context(|| format!("everything is restored, but '{shown}' cannot be removed"))
}
