//! `utter history`: past runs, and all changes to a path.

use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result};
use clap::{Args, ValueHint};
use clap_complete::engine::ArgValueCompleter;
use jiff::Timestamp;

use crate::commands::job_file::job_names;
use crate::context::{Command, Context};
use crate::exit::{self, Exit, WrongCall, wrong_call};
use crate::location::{Location, location};
use crate::options::{ShownOptions, values};
use crate::real::real;
use crate::records::{self, Lines, RunEntry, Store};
use crate::report::events::{
    self, Event, Head, Placed, ProblemLine, RecordedRun, RunOutcome, StepLine, TotalsLine,
};
use crate::reporter::Report;
use crate::terminal::{names, units};

/// Steps on a page.
const PAGE: u64 = 100;

const EXAMPLES: &str = "\
Examples:
  utter history                                  the last runs, the newest first
  utter history --outcome not-ok --since 7d      what failed this week
  utter history 42 --find remove                 what run 42 removed
  utter history --path /mnt/lantern/saltmere/logbooks/gull-ness-1931.txt";

/// List past runs, show one of them, or list all changes to a path
///
/// Every run that changes something, and every verification, leaves a record: its call, each step with its outcome,
/// and each problem. A killed run is shown as cut short, with what it had done by then.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct History {
    /// The number of a run, or its set-aside folder, to show its details [default: list the runs]
    #[arg(value_name = "RUN", value_hint = ValueHint::DirPath, value_parser = location(), conflicts_with_all = ["told_of", "last", "job", "outcome", "since", "destination", "limit"])]
    run: Option<Location>,
    /// List all recorded changes to this path, with run and reason
    ///
    /// Default: list the runs.
    #[arg(long = "path", id = "told_of", value_name = "PATH", value_hint = ValueHint::AnyPath, value_parser = location(), help_heading = "Runs", conflicts_with = "last")]
    told_of: Option<Location>,
    /// Print the last run in one line, as for a login message
    #[arg(long, help_heading = "Runs")]
    last: bool,
    #[command(flatten)]
    filters: Filters,
    /// List at most this many runs
    #[arg(
        long,
        value_name = "N",
        default_value = "30",
        help_heading = "Runs",
        hide_short_help = true
    )]
    limit: usize,
    /// With RUN: only steps of this kind, like remove, or with this text in the path
    ///
    /// Default: all.
    #[arg(long, value_name = "WORD", requires = "run", help_heading = "Steps")]
    find: Option<String>,
    /// With RUN: which page of 100 steps to list
    ///
    /// Default: the first; all for --format json and csv.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..), requires = "run", help_heading = "Steps", hide_short_help = true)]
    page: Option<u64>,
    #[command(flatten)]
    shown: ShownOptions,
}

/// Which runs to list.
#[derive(Debug, Args)]
#[command(next_help_heading = "Runs")]
struct Filters {
    /// Only runs of this job
    ///
    /// Default: all.
    #[arg(long, value_name = "JOB", add = ArgValueCompleter::new(job_names))]
    job: Option<String>,
    /// Only runs with this outcome: succeeded, not-ok, different, problems, refused, ended-early, drive-missing,
    /// invalid, stopped, cut-short or running
    ///
    /// Default: all.
    #[arg(long, value_name = "OUTCOME", value_parser = Wanted::read, hide_short_help = true)]
    outcome: Option<Wanted>,
    /// Only runs that began since then, like 7d or 2026-01-31
    ///
    /// Default: all.
    #[arg(long, value_name = "WHEN", value_parser = values::moment)]
    since: Option<values::Moment>,
    /// Only runs with this destination, or one below it
    ///
    /// Default: all.
    #[arg(long, value_name = "FOLDER", value_hint = ValueHint::DirPath, value_parser = location(), hide_short_help = true)]
    destination: Option<Location>,
}

/// A filter on outcomes.
#[derive(Clone, Copy, Debug)]
enum Wanted {
    NotOk,
    One(RunOutcome),
}

impl Wanted {
    fn read(word: &str) -> Result<Self, String> {
        match (word, RunOutcome::of(word)) {
            ("not-ok", _) => Ok(Self::NotOk),
            (_, Some(one)) => Ok(Self::One(one)),
            (_, None) => Err("an outcome is one of succeeded, not-ok, different, problems, refused, ended-early, drive-missing, invalid, stopped, cut-short and running".to_owned()),
        }
    }

    fn takes(self, outcome: RunOutcome) -> bool {
        match self {
            Self::NotOk => !matches!(outcome, RunOutcome::Succeeded | RunOutcome::Running),
            Self::One(one) => one == outcome,
        }
    }
}

impl Command for History {
    fn run(&self, context: &Context) -> Result<Exit> {
        let form = self.shown.form_with_table();
        let Some(store) = Store::find() else {
            wrong_call!(
                "your home folder is not known, so there are no records\n  set HOME or XDG_STATE_HOME"
            );
        };
        let unread = || {
            let folder = names::path(store.folder());
            WrongCall(format!("the records in '{folder}' cannot be read"))
        };
        let report = Report::new(form, Head::new(events::CommandWord::History), &context.heard);
        let listed = match (&self.run, &self.told_of) {
            (Some(run), _) => {
                let run = &run.find()?;
                let number = run.to_str().and_then(|text| text.parse().ok());
                let found = match number {
                    Some(number) => store.run(number),
                    None => store.run_of_folder(run),
                };
                let Some(run) = found.with_context(unread)? else {
                    let shown = names::path(run);
                    wrong_call!(
                        "there is no record of a run {shown}\n  'utter history' lists the runs with their numbers"
                    );
                };
                self.show(&store, run, &report);
                1
            }
            (None, Some(path)) => {
                self.report_path(&path.find()?, &store, &report, context).with_context(unread)?
            }
            (None, None) => {
                let runs = self.chosen(&store, context).with_context(unread)?;
                let runs: Vec<Event> = runs.map(Event::PastRun).collect();
                let count = runs.len() as u64;
                if count == 0 {
                    let text = "no recorded run matches".to_owned();
                    report.emit(Event::note("no-runs", text));
                }
                report.emit_all(runs);
                count
            }
        };
        let listed = Some(listed).filter(|_| !self.last);
        report.emit(TotalsLine { listed, ..TotalsLine::default() }.into());
        Ok(exit::of_shown(Exit::Done))
    }
}

impl History {
    /// The selected runs, the newest first.
    fn chosen(
        &self,
        store: &Store,
        context: &Context,
    ) -> std::io::Result<impl Iterator<Item = RecordedRun>> {
        let limit = if self.last { 1 } else { self.limit };
        let runs = self.entries(store, context)?.map(RunEntry::recorded);
        let takes =
            |run: &RecordedRun| self.filters.outcome.is_none_or(|wanted| wanted.takes(run.outcome));
        Ok(runs.filter(takes).take(limit))
    }

    fn entries(
        &self,
        store: &Store,
        context: &Context,
    ) -> std::io::Result<impl Iterator<Item = RunEntry>> {
        let since = self.filters.since.and_then(|since| since.before(context.began));
        let destination = self.filters.destination.as_ref().map(|place| real(&place.now()));
        let takes = move |run: &RunEntry| {
            let began = &run.began;
            let job = began.job.as_ref().map(|job| &job.name);
            let is_late = || began.began.parse::<Timestamp>().ok() >= since;
            let there = || began.sides.last().map(|side| side.path.to_path());
            let lies_there =
                |wanted: &PathBuf| there().is_some_and(|side| side.starts_with(wanted));
            (self.filters.job.is_none() || self.filters.job.as_ref() == job)
                && (since.is_none() || is_late())
                && destination.as_ref().is_none_or(lies_there)
        };
        Ok(store.runs()?.filter(takes))
    }

    fn report_path(
        &self,
        path: &Path,
        store: &Store,
        report: &Report,
        context: &Context,
    ) -> std::io::Result<u64> {
        let recorded = match (path.parent(), path.file_name()) {
            // The path itself may be a link.
            (Some(above), Some(name)) => real(above).join(name),
            _ => real(path),
        };
        let runs: Vec<RunEntry> = self.entries(store, context)?.collect();
        let found = records::search(store, &runs, &recorded);
        for (run, why) in found.unread {
            let text = format!("the record of run {run} cannot be read: {why}");
            report.emit(Event::note("unreadable-run-folder", text));
        }
        let count = found.happened.len() as u64;
        if count == 0 {
            let shown = names::path(path);
            let text = format!("no recorded run changed '{shown}'");
            report.emit(Event::note("no-runs", text));
        }
        report.emit_all(found.happened.into_iter().map(Event::PathHistory));
        Ok(count)
    }

    /// Prints the events of a run, its steps page by page.
    fn show(&self, store: &Store, run: RunEntry, report: &Report) {
        let lines = run.lines(store);
        let told = run.recorded();
        let is_whole = told.closed.is_some();
        report.emit(Event::PastRun(told));
        let mut lines = match lines {
            Ok(lines) => lines,
            Err(error) => {
                let text = format!("the record could only be read in part: {error}");
                report.emit(Event::note("unreadable-run-folder", text));
                return;
            }
        };
        let steps = self.replay(&mut lines, report);
        if let Some(why) = lines.damaged.filter(|_| is_whole) {
            let text = format!("the record is damaged, and could only be read in part: {why}");
            report.emit(Event::note("damaged", text));
        }
        let Some(page) = self.page_for(report) else { return };
        let (first, last) = ((page - 1) * PAGE, page * PAGE);
        if steps > last || page > 1 {
            let shown = match steps.min(last).saturating_sub(first) {
                0 => "no step matches".to_owned(),
                count => format!(
                    "steps {} to {} of {}",
                    units::count(first + 1),
                    units::count(first + count),
                    units::count(steps)
                ),
            };
            let next = format!("; --page {} shows the next, --find WORD searches", page + 1);
            let next = if steps > last { next } else { String::new() };
            report.emit(Event::note("listed-range", shown + &next));
        }
    }

    /// Prints the events of a record again; returns the number of selected steps.
    fn replay(&self, lines: &mut Lines, report: &Report) -> u64 {
        let (mut steps, page) = (0, self.page_for(report));
        // Printed at the end, as when it ran.
        let mut end = Vec::new();
        for event in lines {
            match event {
                Event::RunStarted(_) | Event::RunEnded(_) if !report.is_exact() => {}
                Event::Step(step) if self.takes(&step) => {
                    let is_shown = page.is_none_or(|page| steps / PAGE + 1 == page);
                    steps += 1;
                    if is_shown {
                        report.emit(Event::Step(step));
                    }
                }
                Event::Step(_) => {}
                Event::Problem(ProblemLine { path: None, .. })
                | Event::Totals(_)
                | Event::RunEnded(_) => {
                    end.push(event);
                }
                event => report.emit(event),
            }
        }
        report.emit_all(end);
        steps
    }

    /// The page to show; `None` for all.
    fn page_for(&self, report: &Report) -> Option<u64> {
        self.page.or_else(|| (!report.is_exact()).then_some(1))
    }

    fn takes(&self, step: &StepLine) -> bool {
        self.find.as_ref().is_none_or(|word| {
            let is_kind = step.verb.word() == word;
            is_kind || memchr::memmem::find(step.path.as_bytes(), word.as_bytes()).is_some()
        })
    }
}

impl RecordedRun {
    /// The destination, if it has one.
    pub(crate) fn destination(&self) -> Option<&Placed> {
        self.began.sides.last()
    }
}
