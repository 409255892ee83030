//! `utter run`: jobs, one after another.

use std::collections::VecDeque;
use std::ffi::OsString;
use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::Result;
use clap::Args;
use clap::parser::ValueSource;
use clap_complete::engine::ArgValueCompleter;

use crate::call;
use crate::commands::job_file::JobQuery;
use crate::commands::job_file::job_names;
use crate::context::{Command, Context};
use crate::exit::{self, Exit, WrongCall, wrong_call};
use crate::jobs::lock::{self, JobLock, LockAttempt};
use crate::jobs::{Job, JobFile};
use crate::options::{Hours, NotifyOptions};
use crate::real::real;
use crate::records::Within;
use crate::records::{self, RecordRetention};
use crate::report::events::{
    self, Amount, Event, Head, JobCall, JobLine, JobResult, RunOutcome, TotalsLine,
};
use crate::report::{HeardTotals, conversion};
use crate::reporter::{Report, Summary};
use crate::signals::Signals;
use crate::terminal::streams;

const EXAMPLES: &str = "\
Examples:
  utter run --dry-run papers   what the job 'papers' would do
  utter run --all              every job that is enabled, in the order of the file";

/// Run jobs from the job file, one after another
///
/// A failed job does not stop the next one. Jobs listed under 'then' run after a job if it succeeded. Disabled jobs
/// are skipped. At the end a table shows the result of each, and the exit code is the worst of theirs. 'utter help
/// job-file' shows a job file.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
#[allow(clippy::struct_field_names, reason = "as the option is called")]
pub(crate) struct Run {
    /// The jobs, in the order to run them
    #[arg(value_name = "JOB", add = ArgValueCompleter::new(job_names))]
    names: Vec<String>,
    /// Run all jobs, in the order of the file
    #[arg(long, conflicts_with_all = ["names", "tags"], help_heading = "Jobs")]
    all: bool,
    /// Run the jobs with this tag; can be given several times
    ///
    /// Default: the named jobs.
    #[arg(long = "tag", value_name = "TAG", conflicts_with = "names", help_heading = "Jobs")]
    tags: Vec<String>,
    /// Only print what would be done, and why; touch nothing
    #[arg(long, short = 'n', help_heading = "Safety")]
    dry_run: bool,
    /// Begin only between these times of day, like 22:00..06:00, and stop at their end
    ///
    /// Default: as set in the jobs.
    #[arg(long, value_name = "HOURS", help_heading = "Jobs", value_parser = Hours::read, hide_short_help = true)]
    within: Option<Hours>,
    /// Wait for a job that is already running; without this, it is skipped
    #[arg(long, help_heading = "Jobs")]
    queue: bool,
    #[command(flatten)]
    asked: JobQuery,
}

impl Command for Run {
    fn run(&self, context: &Context) -> Result<Exit> {
        let form = self.asked.shown.settle()?;
        let file = self.asked.file.read(context)?;
        let jobs = self.chosen(&file)?;
        let keep = file.keep()?;
        let signals = context.signals()?;
        if let Some(hours) = self.within {
            hours.end(context.began)?;
        }
        let head = Head::of_jobs(events::CommandWord::Run, file.path(), self.dry_run);
        let report = Report::new(form, head, &context.heard);
        // Its own summary is separate from theirs.
        context.heard.take();
        let mut due: VecDeque<Job> = jobs.into();
        let mut ran: Vec<JobResult> = Vec::new();
        let mut worst = Exit::Done;
        while let Some(job) = due.pop_front() {
            if signals.caught().is_some() {
                ran.push(JobResult::passed_over(&job.name, RunOutcome::NotReached));
                continue;
            }
            if !job.enabled {
                ran.push(JobResult::passed_over(&job.name, RunOutcome::NotEnabled));
                continue;
            }
            report.emit(Event::Job(JobLine::from(&job)));
            let began = Instant::now();
            let (exit, heard) = match self.turn(&job, &file, signals) {
                LockAttempt::Ours(lock) => {
                    let came = self.run_job(&job, (file.path(), &keep), context);
                    lock.release();
                    came
                }
                LockAttempt::Of(process) => {
                    report.emit(conversion::job_in_use(&job.name, process));
                    (Exit::Refused, HeardTotals::default())
                }
            };
            worst = worst.worse(exit);
            ran.push(JobResult::of(&job.name, exit, (&heard, began.elapsed())));
            if exit == Exit::Done {
                let is_new = |name: &&String| {
                    due.iter().all(|job| job.name != **name)
                        && ran.iter().all(|ran| ran.name != **name)
                };
                let next: Vec<&String> = job.then.iter().filter(is_new).collect();
                for name in next.into_iter().rev() {
                    match file.job(name) {
                        Ok(next) => due.push_front(next),
                        Err(wrong) => {
                            report.emit(conversion::wrong_job(&wrong));
                            worst = worst.worse(Exit::WrongCall);
                        }
                    }
                }
            }
        }
        let totals = TotalsLine {
            problems: ran.iter().map(|ran| ran.problems).sum(),
            listed: Some(ran.len() as u64),
            ..TotalsLine::default()
        };
        report.emit_all(ran.into_iter().map(Event::JobResult).chain([totals.into()]));
        Ok(signals.caught().map_or(worst, exit::of_stop))
    }
}

impl Run {
    /// Locks the job. A dry run needs no lock.
    fn turn(&self, job: &Job, file: &JobFile, signals: &Signals) -> LockAttempt {
        match (self.dry_run, self.queue) {
            (true, _) => LockAttempt::Ours(JobLock::default()),
            (false, true) => lock::wait(file.path(), &job.name, signals),
            (false, false) => lock::take(file.path(), &job.name),
        }
    }

    fn chosen(&self, file: &JobFile) -> Result<Vec<Job>> {
        let all = || file.names().map(|name| file.job(name));
        let mut chosen = Vec::new();
        if self.all {
            chosen = all().collect::<Result<_, _>>()?;
        }
        for tag in &self.tags {
            let before = chosen.len();
            for job in all() {
                let job = job?;
                let is_new = chosen.iter().all(|one: &Job| one.name != job.name);
                if job.tags.contains(tag) && is_new {
                    chosen.push(job);
                }
            }
            if chosen.len() == before {
                wrong_call!(
                    "no job has the tag '{tag}'\n  'utter jobs' lists the jobs with their tags"
                );
            }
        }
        for name in &self.names {
            chosen.push(file.job(name)?);
        }
        if chosen.is_empty() {
            wrong_call!(
                "no job is named\n  name a job, or use --all or --tag TAG; 'utter jobs' lists the jobs"
            );
        }
        chosen.iter().try_for_each(|job| file.check_order(job))?;
        Ok(chosen)
    }

    /// Makes all calls of a job, even after one failed.
    fn run_job(
        &self,
        job: &Job,
        (file, keep): (&Path, &RecordRetention),
        context: &Context,
    ) -> (Exit, HeardTotals) {
        let (mut worst, mut all) = (Exit::Done, HeardTotals::default());
        let calls = job.calls.len() as u64;
        for (call, words) in (1..).zip(&job.calls) {
            let words = self.words(words, context);
            let line = [OsString::from("utter")].into_iter().chain(words.iter().cloned());
            let name = job.name.clone();
            let start = all.run.unwrap_or_default();
            let of = JobCall { name, file: (&*real(file)).into(), start, call, calls };
            let within = Within { job: of, keep: keep.clone() };
            // No more calls begin, which is reported and recorded like any other end.
            let stopped = context.signals().ok().and_then(Signals::caught);
            let came = match stopped {
                Some(stop) => Err(stop.into()),
                None => make(line.collect(), within.clone(), context),
            };
            let exit = came.as_ref().map_or_else(exit::of_error, |exit| *exit);
            let mut heard = context.heard.take();
            if let (Err(error), false) = (&came, heard.has_report) {
                heard.run = failed(&words, within, error);
            }
            all.add(&heard);
            worst = worst.worse(exit);
            // Each job has its own hours.
            context.signals().inspect(|signals| signals.stop_at(None)).ok();
            if stopped.is_some() || matches!(exit, Exit::Interrupted | Exit::Terminated) {
                break;
            }
        }
        (worst, all)
    }

    /// The arguments of a call, with the options given to this command.
    fn words(&self, call: &[OsString], context: &Context) -> Vec<OsString> {
        let typed = |id: &str| {
            context.typed.subcommand().and_then(|(_, typed)| {
                let given = typed.value_source(id) == Some(ValueSource::CommandLine);
                given.then(|| typed.get_raw(id)).flatten()?.next().map(ToOwned::to_owned)
            })
        };
        let mut words = call.to_vec();
        for id in ["format", "color", "within"] {
            let Some(value) = typed(id) else { continue };
            let begin = format!("--{id}=");
            words.retain(|word| !word.to_string_lossy().starts_with(&begin));
            let mut word = OsString::from(begin);
            word.push(value);
            words.insert(1, word);
        }
        let is_verify = call.first().is_some_and(|word| word == "verify");
        let is_dry = call.iter().any(|word| word == "--dry-run");
        if self.dry_run && is_verify {
            // A dry run: no notifications, and no start of the job.
            let tells = ["--on-problem=", "--on-success=", "--metrics="];
            words.retain(|word| {
                !tells.iter().any(|option| word.to_string_lossy().starts_with(option))
            });
            words.insert(1, "--no-record".into());
        } else if self.dry_run && !is_dry {
            words.insert(1, "--dry-run".into());
        }
        words
    }
}

/// Makes one call of a job.
fn make(line: Vec<OsString>, within: Within, context: &Context) -> Result<Exit> {
    let run = || {
        match call::parse_within(line, within, context) {
            Ok(called) => called.run(),
            // The arguments of the file were parsed before; those given here may conflict with them.
            Err(error) => Err(WrongCall(call::explained(&error).0).into()),
        }
    };
    run().inspect_err(streams::print_error)
}

/// Records and notifies that a call failed before it could do so itself; returns the number of its record.
fn failed(words: &[OsString], within: Within, error: &anyhow::Error) -> Option<u64> {
    let has = |option: &str| words.iter().any(|word| word == option);
    if has("--dry-run") {
        return None;
    }
    let command = words.first()?.to_str().and_then(events::CommandWord::of)?;
    let job = within.job.name.clone();
    let run =
        if has("--no-record") { None } else { records::of_failed(command, words, within, error) };
    let summary = Summary {
        command: command.word(),
        destination: None,
        exit: exit::of_error(error),
        heard: HeardTotals { run, ..HeardTotals::default() },
        totals: None,
        text: format!("{error:#}\n"),
    };
    NotifyOptions::of_words(words).notify_all(&summary, Some(&job));
    run
}

impl JobResult {
    fn passed_over(name: &str, outcome: RunOutcome) -> Self {
        let done = Amount { entries: 0, bytes: 0 };
        Self { name: name.into(), outcome, exit_code: None, done, seconds: 0.0, problems: 0 }
    }

    fn of(name: &str, exit: Exit, (heard, took): (&HeardTotals, Duration)) -> Self {
        let outcome = RunOutcome::after(exit);
        let (done, seconds, problems) = (heard.done(), took.as_secs_f64(), heard.problems);
        Self { name: name.into(), outcome, exit_code: Some(exit as u8), done, seconds, problems }
    }
}
