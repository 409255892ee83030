//! `utter run`: jobs, one after another.

use std::collections::{HashSet, VecDeque};
use std::ffi::OsString;
use std::time::{Duration, Instant};

use anyhow::Result;
use clap::Args;
use clap::parser::ValueSource;
use clap_complete::engine::ArgValueCompleter;

use crate::commands::job_file::JobQuery;
use crate::commands::job_file::job_names;
use crate::commands::job_run::{JobEnded, JobRun};
use crate::context::{Command, Context};
use crate::exit::{self, Exit, Refused, WrongCall, wrong_call};
use crate::jobs::lock::{self, JobLock, LockAttempt};
use crate::jobs::{Job, JobFile};
use crate::options::Hours;
use crate::records::RecordRetention;
use crate::report::events::{
    self, Amount, Event, Head, JobLine, JobResult, RunOutcome, TotalsLine,
};
use crate::report::{HeardTotals, conversion};
use crate::reporter::Report;
use crate::signals::Signals;

const EXAMPLES: &str = "\
Examples:
  utter run --dry-run papers   what the job 'papers' would do
  utter run --all              every job that is enabled, in the order of the file";

/// Run jobs from the job file, one after another
///
/// A failed job does not stop the next one, nor does one that cannot be read. A job listed under 'then' of another
/// runs after that one if it succeeded; with --all and --tag it runs in no other way. Disabled jobs are skipped, and
/// so are jobs outside the hours of their 'within'. At the end a table shows the result of each, and the exit code is the worst of theirs. 'utter help
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
        let keep = file.keep()?;
        let (due, later) = self.chosen(&file)?;
        let head = Head::of_jobs(events::CommandWord::Run, file.path(), self.dry_run);
        let report = Report::new(form, head, &context.heard);
        // Its own summary is separate from theirs.
        context.heard.take();
        let (ran, worst) = (Vec::new(), Exit::Done);
        let signals = context.signals()?;
        let (asked, file) = (self, &file);
        let mut turns = Turns { asked, file, keep, context, signals, report, due, ran, worst };
        while let Some(due) = turns.due.pop_front() {
            turns.take(due);
        }
        for name in later.iter().filter(|name| !turns.is_known(name)).collect::<Vec<_>>() {
            turns.pass_over(name, RunOutcome::NotReached);
        }
        Ok(turns.end())
    }
}

/// The jobs whose turn comes, and the results of those that had theirs.
struct Turns<'r> {
    asked: &'r Run,
    file: &'r JobFile,
    keep: RecordRetention,
    context: &'r Context,
    signals: &'r Signals,
    report: Report,
    due: VecDeque<Due>,
    ran: Vec<JobResult>,
    worst: Exit,
}

impl Turns<'_> {
    fn take(&mut self, Due { name, job }: Due) {
        if self.signals.caught().is_some() {
            return self.pass_over(&name, RunOutcome::NotReached);
        }
        let began = Instant::now();
        let (file, dry_run) = (self.file, self.asked.dry_run);
        let job = match job {
            Ok(job) => job,
            Err(wrong) => {
                self.report.emit(conversion::wrong_job(&wrong));
                let broken = JobRun::of_broken(&name, (file, &self.keep), dry_run, self.context);
                let ended = broken.fail(&wrong.into());
                return self.note(&name, &ended, began.elapsed());
            }
        };
        if !job.enabled {
            return self.pass_over(&name, RunOutcome::NotEnabled);
        }
        let commands = job.calls.iter().map(|words| self.asked.words(words, self.context));
        let commands = (commands.collect(), dry_run);
        let run = JobRun::of(&job, (file.path(), &self.keep), commands, self.context);
        if run.is_not_due() {
            return self.pass_over(&name, RunOutcome::NotDue);
        }
        self.report.emit(Event::Job(JobLine::from(&job)));
        let ended = match self.asked.turn(&job, file, self.signals) {
            LockAttempt::Ours(lock) => {
                let ended = run.run();
                lock.release();
                ended
            }
            LockAttempt::Of(process) => {
                let error = in_use(&name, process);
                self.report.emit(conversion::wrong_job(&error));
                run.fail(&error.into())
            }
        };
        let is_real = dry_run || !run.is_dry();
        self.note(&name, &ended, began.elapsed());
        if ended.exit == Exit::Done && is_real {
            let next: Vec<&String> = job.then.iter().filter(|name| !self.is_known(name)).collect();
            let next = next.into_iter().rev().map(|name| Due::of(file, name));
            next.for_each(|next| self.due.push_front(next));
        }
    }

    /// True for a job that had its turn, or will have it.
    fn is_known(&self, name: &str) -> bool {
        self.due.iter().any(|due| due.name == name) || self.ran.iter().any(|ran| ran.name == name)
    }

    fn pass_over(&mut self, name: &str, outcome: RunOutcome) {
        self.ran.push(JobResult::passed_over(name, outcome));
    }

    fn note(&mut self, name: &str, ended: &JobEnded, took: Duration) {
        self.worst = self.worst.worse(ended.exit);
        self.ran.push(JobResult::of(name, ended.exit, (&ended.heard, took)));
    }

    /// Shows the table.
    fn end(self) -> Exit {
        let totals = TotalsLine {
            problems: self.ran.iter().map(|ran| ran.problems).sum(),
            listed: Some(self.ran.len() as u64),
            ..TotalsLine::default()
        };
        let results = self.ran.into_iter().map(Event::JobResult);
        self.report.emit_all(results.chain([totals.into()]));
        self.signals.caught().map_or(self.worst, exit::of_stop)
    }
}

/// A job whose turn comes, as far as it can be read.
struct Due {
    name: String,
    job: Result<Job, WrongCall>,
}

impl Due {
    fn of(file: &JobFile, name: &str) -> Self {
        let job = file.job(name).and_then(|job| file.check_order(&job).map(|()| job));
        Self { name: name.to_owned(), job }
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

    /// True for a job that is asked for without its name. Whether one that cannot be read has a tag is not known.
    fn takes(&self, due: &Due) -> bool {
        let has_tag = |job: &Job| job.tags.iter().any(|tag| self.tags.contains(tag));
        self.all || !self.tags.is_empty() && due.job.as_ref().map_or(true, has_tag)
    }

    /// The jobs to begin with, and those of the others asked for that run only after one of them.
    fn chosen(&self, file: &JobFile) -> Result<(VecDeque<Due>, Vec<String>)> {
        let is_named = !self.all && self.tags.is_empty();
        let all: Vec<Due> = if is_named {
            self.names.iter().try_for_each(|name| file.find(name).map(drop))?;
            self.names.iter().map(|name| Due::of(file, name)).collect()
        } else {
            file.names().map(|name| Due::of(file, name)).collect()
        };
        let read = || all.iter().filter_map(|due| due.job.as_ref().ok());
        let lacks = |tag: &&String| read().all(|job| !job.tags.contains(tag));
        if let Some(tag) = self.tags.iter().find(lacks) {
            wrong_call!(
                "no job has the tag '{tag}'\n  'utter jobs' lists the jobs with their tags"
            );
        }
        let followers: HashSet<String> = read().flat_map(|job| job.then.iter().cloned()).collect();
        let (later, first): (Vec<Due>, Vec<Due>) = all
            .into_iter()
            .filter(|due| is_named || self.takes(due))
            .partition(|due| !is_named && followers.contains(&due.name));
        if first.is_empty() && later.is_empty() {
            wrong_call!(
                "no job is named\n  name a job, or use --all or --tag TAG; 'utter jobs' lists the jobs"
            );
        }
        Ok((first.into(), later.into_iter().map(|due| due.name).collect()))
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
            // A dry run is no start of the job.
            words.insert(1, "--no-record".into());
        } else if self.dry_run && !is_dry {
            words.insert(1, "--dry-run".into());
        }
        words
    }
}

fn in_use(name: &str, process: Option<u32>) -> Refused {
    let by = process.map_or("another process".to_owned(), |process| format!("process {process}"));
    Refused(format!("job '{name}' is being run by {by}\n  wait for it to end, or use --queue"))
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
