//! `utter undo` without a run or with `--discard`: lists set-aside runs, and removes them for good.

use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context as _, Result};
use clap::Args;
use utter_echo_core::os::Linux;
use utter_echo_core::{Overview, PastRun, discard, past_run, past_runs};

use crate::ask;
use crate::context::Context;
use crate::exit::{self, Exit, Refused, WrongCall, wrong_call};
use crate::options::{AllOrNothing, Discarding, Doing, SettingAside};
use crate::records::Store;
use crate::remembered;
use crate::report::conversion;
use crate::report::events::{CommandWord, Event, Head, StepLine};
use crate::reporter::Report;
use crate::run_name;
use crate::terminal::{names, streams};

/// What to do with set-aside runs.
#[derive(Debug, Args)]
pub(super) struct WithRuns {
    #[command(flatten)]
    pub(super) doing: Doing,
    #[command(flatten)]
    pub(super) aside: SettingAside,
    #[command(flatten)]
    pub(super) all_or_nothing: AllOrNothing,
    #[command(flatten)]
    pub(super) discarding: Discarding,
}

/// Lists the runs that can be undone.
pub(super) fn list(args: &WithRuns, context: &Context) -> Result<Exit> {
    let (safety, all) = (&args.doing.safety, args.all_or_nothing.all_or_nothing);
    if safety.ask.is_some() || args.aside.set_aside.is_some() || all {
        wrong_call!("the run to undo is missing\n  name one of the runs that 'utter undo' lists");
    }
    let report = report(args, context)?;
    let runs = known(&report);
    if runs.is_empty() {
        let text = "no run with a set-aside folder is known".to_owned();
        report.emit(Event::note("no-runs", text));
    }
    report.emit_all(conversion::past_runs(&runs));
    Ok(exit::of_shown(Exit::Done))
}

fn report(args: &WithRuns, context: &Context) -> Result<Report> {
    let form = args.doing.output.settle(&args.doing.verbose)?;
    let dry_run = args.discarding.is_asked() && args.doing.safety.dry_run;
    let head = Head { dry_run, ..Head::new(CommandWord::Undo) };
    let mut keeping = args.doing.output.keeping.clone();
    // A list needs no hint.
    keeping.no_record |= !args.discarding.is_asked();
    let kept = keeping.open(&head, context)?;
    Ok(Report::kept(form, head, kept, &context.heard))
}

/// All runs in the remembered folders, the newest first.
fn known(report: &Report) -> Vec<Overview> {
    let mut runs = Vec::new();
    for folder in remembered::folders() {
        match past_runs(&Linux, &folder) {
            Ok(found) => runs.extend(found),
            Err(error) => {
                let shown = names::path(&folder);
                let text = format!(
                    "'{shown}' cannot be read: {error}; if its drive is not mounted, mount it to see its runs"
                );
                report.emit(Event::note("unreadable-run-folder", text));
            }
        }
    }
    runs.sort_by(|a, b| b.name.cmp(&a.name));
    runs
}

/// Prints the journal of a run.
pub(super) fn show(args: &WithRuns, path: &Path, context: &Context) -> Result<Exit> {
    let run = PastRun::open(&Linux, path)?;
    let form = args.doing.output.settle(&args.doing.verbose)?;
    let report =
        Report::new(form, Head { dry_run: true, ..Head::new(CommandWord::Undo) }, &context.heard);
    for placed in run.plan().steps() {
        let mut step = StepLine::of(&placed, None);
        if run.has_compared(&placed) {
            step.reason.push_str("; its copy was compared and is identical");
        }
        report.emit(Event::Step(step));
    }
    let overview: Vec<Overview> = past_run(&Linux, path).into_iter().collect();
    report.emit_all(conversion::past_runs(&overview));
    Ok(exit::of_shown(Exit::Done))
}

/// Removes the set-aside entries of runs for good.
pub(super) fn discard_runs(args: &WithRuns, context: &Context) -> Result<Exit> {
    let report = report(args, context)?;
    let came = report_discards(args, &report, context);
    args.doing.output.keeping.close(report, &came, context);
    came
}

fn report_discards(args: &WithRuns, report: &Report, context: &Context) -> Result<Exit> {
    let Discarding { discard: path, discard_older: age, .. } = &args.discarding;
    let mut runs = Vec::new();
    if let Some(path) = path {
        runs.push(named(&folder_of(&path.find()?)?)?);
    }
    if let Some(age) = age {
        runs.extend(older_than(*age, context, report));
    }
    if runs.is_empty() {
        let text = "no run began longer ago than that; nothing was removed".to_owned();
        report.emit(Event::note("no-runs", text));
    }
    report.emit_all(conversion::past_runs(&runs));
    if runs.is_empty() || args.doing.safety.dry_run {
        return Ok(Exit::Done);
    }
    let signals = context.signals()?;
    if !args.doing.safety.yes {
        if !ask::can_ask() {
            wrong_call!(
                "discarded entries cannot be restored, and there is no terminal to ask on; nothing was touched\n  check with --dry-run, then use --yes"
            );
        }
        if !ask::discard(runs.len(), signals)? {
            return Err(Refused("declined at the prompt".into()).into());
        }
    }
    let mut exit = Exit::Done;
    for run in &runs {
        if let Some(stop) = signals.caught() {
            streams::print_wrong("stopped; the runs that are left can still be undone");
            return Ok(exit::of_stop(stop));
        }
        if let Err(error) = discard(&Linux, &run.path) {
            streams::print_error(&error.into());
            exit = Exit::Problems;
        }
    }
    Ok(exit)
}

/// The folder of a run that is named by its folder, or by its number in the records.
pub(super) fn folder_of(run: &Path) -> Result<PathBuf> {
    let number = run.to_str().and_then(|text| text.parse().ok()).filter(|_| !run.exists());
    let Some(number) = number else { return Ok(run.to_owned()) };
    let entry = Store::find().map(|store| store.run(number)).transpose();
    let entry = entry.with_context(|| WrongCall("the records cannot be read".to_owned()))?;
    let Some(entry) = entry.flatten() else {
        wrong_call!(
            "there is no record of a run {number}, and no folder of that name; nothing was touched\n  'utter undo' lists the runs that can be undone"
        );
    };
    let Some(folder) = entry.set_aside_folder() else {
        wrong_call!(
            "run {number} set nothing aside, so it cannot be undone; nothing was touched\n  'utter undo' lists the runs that can be undone"
        );
    };
    Ok(folder)
}

fn named(path: &Path) -> Result<Overview> {
    if let Some(run) = past_run(&Linux, path) {
        return Ok(run);
    }
    wrong_call!(
        "'{}' is not the folder of a set-aside run; nothing was touched\n  'utter undo' lists the runs",
        names::path(path)
    );
}

fn older_than(age: Duration, context: &Context, report: &Report) -> Vec<Overview> {
    let oldest = run_name::of(context.began - age);
    known(report).into_iter().filter(|run| run.name < oldest).collect()
}
