//! `utter jobs`: lists, checks and adds jobs.

use std::collections::HashSet;
use std::ffi::{OsStr, OsString};
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use anyhow::Result;
use clap::{Args, Subcommand};
use clap_complete::engine::ArgValueCompleter;
use jiff::tz::TimeZone;
use utter_echo_core::Session;
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Request, Task};

use crate::call;
use crate::commands::job_file::{JobQuery, job_names};
use crate::commands::status::status_of_jobs;
use crate::context::{Command, Context};
use crate::exit::{self, DriveMissing, Exit, WrongCall, wrong_call};
use crate::jobs::{self, Job, JobFile, NewJob};
use crate::records::Within;
use crate::report::events::{self, Event, Head, JobLine, Suggestion, TotalsLine};
use crate::report::{Format, conversion};
use crate::reporter::Report;
use crate::terminal::shell::quoted;
use crate::terminal::{names, streams};

const EXAMPLES: &str = "\
Examples:
  utter jobs                  what the job file holds
  utter jobs check            whether every job in it could be run
  utter jobs add papers -- mirror saltmere /mnt/lantern/saltmere
  utter jobs show papers      the command line that a job stands for";

const ADD_EXAMPLES: &str = "\
Example:
  utter jobs add papers -- mirror --exclude '*.tmp' saltmere /mnt/lantern/saltmere";

/// List, check, show and add jobs of the job file
///
/// A job is a command line with a name, kept in a file; 'utter run' runs it, and 'utter help job-file' shows such a
/// file. The file is the one given with --jobs, else utter-echo/utter.toml in your configuration folder
/// (~/.config), else, for root, /etc/utter-echo/utter.toml.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Jobs {
    #[command(subcommand)]
    what: Option<JobsAction>,
    #[command(flatten)]
    asked: JobQuery,
}

#[derive(Debug, Subcommand)]
enum JobsAction {
    /// Check jobs without running them: keys, values, paths, rules, and the jobs that follow them
    Check {
        /// Only these jobs [default: all]
        #[arg(value_name = "JOB", add = ArgValueCompleter::new(job_names))]
        names: Vec<String>,
    },
    /// Add a job to the file: a name, and after -- the command as you tried it
    ///
    /// Paths are written as absolute ones, --dry-run is left out, and everything else in the file stays unchanged,
    /// comments included. A missing file is created.
    #[command(after_help = ADD_EXAMPLES)]
    Add {
        /// The name of the new job
        #[arg(value_name = "JOB")]
        name: String,
        /// The command, with or without 'utter' before it
        #[arg(value_name = "LINE", required = true, last = true)]
        line: Vec<OsString>,
    },
    /// Print a JSON Schema of job files, for editors
    Schema,
    /// Print the command of a job, one for each pair of paths
    Show {
        /// The job
        #[arg(value_name = "JOB", add = ArgValueCompleter::new(job_names))]
        name: String,
    },
}

impl Command for Jobs {
    fn run(&self, context: &Context) -> Result<Exit> {
        match &self.what {
            None => list(&self.asked, context),
            Some(JobsAction::Check { names }) => check(names, &self.asked, context),
            Some(JobsAction::Show { name }) => show(name, &self.asked, context),
            Some(JobsAction::Add { name, line }) => add(name, line, &self.asked, context),
            Some(JobsAction::Schema) => {
                // The stream cannot fail.
                let _ = writeln!(
                    streams::out(),
                    "{}",
                    serde_json::to_string_pretty(&jobs::schema(context.program))?
                );
                Ok(exit::of_shown(Exit::Done))
            }
        }
    }
}

fn list(asked: &JobQuery, context: &Context) -> Result<Exit> {
    let form = asked.shown.settle()?;
    let file = asked.file.read(context)?;
    let report = Report::new(
        form,
        Head::of_jobs(events::CommandWord::Jobs, file.path(), false),
        &context.heard,
    );
    let (mut problems, mut listed) = (0, 0);
    let mut standing = status_of_jobs(&file, &report, &context.began.to_zoned(TimeZone::system()));
    for name in file.names() {
        listed += 1;
        match file.job(name) {
            Ok(job) => {
                let stands = standing.remove(name);
                report.emit(Event::Job(JobLine { status: stands, ..JobLine::from(&job) }));
            }
            Err(wrong) => {
                problems += 1;
                report.emit(conversion::wrong_job(&wrong));
            }
        }
    }
    report.emit(TotalsLine { problems, listed: Some(listed), ..TotalsLine::default() }.into());
    Ok(exit::of_shown(if problems == 0 { Exit::Done } else { Exit::WrongCall }))
}

fn show(name: &str, asked: &JobQuery, context: &Context) -> Result<Exit> {
    let form = asked.shown.settle()?;
    let file = asked.file.read(context)?;
    let job = file.job(name)?;
    let head = Head::of_jobs(events::CommandWord::Jobs, file.path(), false);
    let report = Report::new(form, head, &context.heard);
    let lines = JobLine::from(&job).commands.into_iter();
    report.emit_all(lines.map(|command| Event::Suggestion(Suggestion { command })));
    report.emit(TotalsLine::default().into());
    Ok(exit::of_shown(Exit::Done))
}

fn add(name: &str, line: &[OsString], asked: &JobQuery, context: &Context) -> Result<Exit> {
    let form = asked.shown.settle()?;
    if name.is_empty() {
        wrong_call!("the job has no name\n  give it one, like 'papers'; nothing was added");
    }
    let line = if line.first().is_some_and(|word| word == "utter") { &line[1..] } else { line };
    let words = [OsString::from("utter")].into_iter().chain(line.iter().cloned());
    let called = match call::parse(context.program, words) {
        Ok(called) => called,
        Err(error) => {
            let (what, advice) = call::explained(&error);
            let advice = advice.unwrap_or_else(|| "try the line by itself first".to_owned());
            wrong_call!("{what}\n  {advice}\n  nothing was added");
        }
    };
    let job = NewJob::of(context.program, name, called.typed());
    let job = job.map_err(|what| WrongCall(format!("{what}\n  nothing was added")))?;
    let path = job.add_to(asked.file.path()?.as_deref())?;
    if form.format == Format::Json {
        let head = Head::of_jobs(events::CommandWord::Jobs, &path, false);
        let report = Report::new(form, head, &context.heard);
        let added = asked.file.read(context)?.job(name)?;
        report.emit_all([Event::Job(JobLine::from(&added)), TotalsLine::default().into()]);
        return Ok(Exit::Done);
    }
    // The stream cannot fail.
    let _ = writeln!(
        streams::out(),
        "Added job '{}' to {}\nRun it with: utter run {}",
        names::shown(name.as_bytes()),
        names::path(&path),
        quoted(OsStr::new(name))
    );
    Ok(Exit::Done)
}

fn check(names: &[String], asked: &JobQuery, context: &Context) -> Result<Exit> {
    let form = asked.shown.settle()?;
    let file = asked.file.read(context)?;
    let report = Report::new(
        form,
        Head::of_jobs(events::CommandWord::Jobs, file.path(), true),
        &context.heard,
    );
    let all: Vec<&str> = file.names().collect();
    let asked_for = if names.is_empty() { all } else { names.iter().map(String::as_str).collect() };
    let (calls, wrong) = calls_of(&file, &asked_for, context);
    let unsound = calls.iter().filter_map(|call| Some((call, call.fails(&calls)?)));
    let unsound = unsound.map(|(call, error)| conversion::job_that_fails(&call.job, &error));
    let shared = overlaps(&calls);
    let shared =
        shared.iter().map(|(a, b)| conversion::shared_destination(&a.job, &b.job, &b.place));
    let problems: Vec<Event> = wrong.into_iter().chain(unsound).chain(shared).collect();
    let exit = if problems.is_empty() { Exit::Done } else { Exit::WrongCall };
    let (count, listed) = (problems.len() as u64, Some(asked_for.len() as u64));
    let totals = TotalsLine { problems: count, listed, ..TotalsLine::default() };
    report.emit_all(problems.into_iter().chain([totals.into()]));
    Ok(exit::of_shown(exit))
}

/// A call of a job.
struct CheckedCall {
    job: String,
    request: Request,
    /// Its destination.
    place: PathBuf,
    /// The destination may be shared.
    is_shared: bool,
}

/// The calls of jobs, and the problems of invalid ones.
fn calls_of(file: &JobFile, names: &[&str], context: &Context) -> (Vec<CheckedCall>, Vec<Event>) {
    let (mut calls, mut wrong) = (Vec::new(), Vec::new());
    // A job that several jobs lead to is reported once.
    let mut told = HashSet::new();
    for name in names {
        let job = match file.job(name).and_then(|job| file.check_order(&job).map(|()| job)) {
            Ok(job) => job,
            Err(error) => {
                let is_new = told.insert(error.to_string());
                wrong.extend(is_new.then(|| conversion::wrong_job(&error)));
                continue;
            }
        };
        for words in &job.calls {
            match CheckedCall::read(&job, words, context) {
                Ok(call) => calls.extend(call),
                Err(error) => wrong.push(conversion::job_that_fails(&job.name, &error)),
            }
        }
    }
    (calls, wrong)
}

impl CheckedCall {
    fn read(job: &Job, words: &[OsString], context: &Context) -> Result<Option<Self>> {
        let line = [OsString::from("utter")].into_iter().chain(words.iter().cloned());
        let within = Within::of_job(&job.name);
        let called = call::parse_within(line, within, context)
            .map_err(|error| WrongCall(call::explained(&error).0))?;
        let request = match called.request() {
            // Its drives are mounted when it runs.
            Err(error) if error.is::<DriveMissing>() && called.mounts_drives() => return Ok(None),
            other => other?,
        };
        let Some(request) = request else { return Ok(None) };
        let place = std::path::absolute(&request.places.destination)?;
        let is_shared = job.shares_destination && request.task == Task::Copy;
        let job = job.name.clone();
        Ok(Some(Self { job, request, place, is_shared }))
    }

    fn writes(&self) -> bool {
        !self.request.task.only_compares()
    }

    /// Why it cannot run now. A source that another job creates may be missing.
    fn fails(&self, all: &[Self]) -> Option<anyhow::Error> {
        let is_made = || all.iter().any(|other| other.writes() && other.place == self.place);
        if !self.writes() && !self.place.exists() && is_made() {
            return None;
        }
        let session = match Session::open(&Linux, &self.request) {
            Ok(session) => session,
            Err(error) => return Some(error.into()),
        };
        session.refuse_overlaps().err().map(Into::into)
    }
}

/// Pairs of jobs that write to one place, or one inside the other's; each pair once.
fn overlaps(calls: &[CheckedCall]) -> Vec<(&CheckedCall, &CheckedCall)> {
    let mut found: Vec<(&CheckedCall, &CheckedCall)> = Vec::new();
    for (at, call) in calls.iter().enumerate().filter(|(_, call)| call.writes()) {
        for other in calls[..at].iter().filter(|other| other.writes()) {
            let meet = call.place.starts_with(&other.place) || other.place.starts_with(&call.place);
            let is_meant = call.is_shared && other.is_shared || call.job == other.job;
            let is_listed = found.iter().any(|(a, b)| a.job == other.job && b.job == call.job);
            if meet && !is_meant && !is_listed {
                found.push((other, call));
            }
        }
    }
    found
}

impl From<&Job> for JobLine {
    fn from(job: &Job) -> Self {
        let line = |call: &Vec<OsString>| {
            let words = call.iter().map(|word| word_for_a_shell(word));
            ["utter".to_owned()].into_iter().chain(words).collect::<Vec<_>>().join(" ")
        };
        Self {
            name: job.name.clone(),
            description: job.description.clone(),
            enabled: job.enabled,
            tags: job.tags.clone(),
            then: job.then.clone(),
            commands: job.calls.iter().map(line).collect(),
            status: None,
        }
    }
}

/// The value is quoted without its option, for legibility.
fn word_for_a_shell(word: &OsStr) -> String {
    let bytes = word.as_bytes();
    let value = bytes.starts_with(b"--").then(|| bytes.iter().position(|byte| *byte == b'='));
    match value.flatten() {
        Some(at) => {
            let (option, value) = bytes.split_at(at + 1);
            String::from_utf8_lossy(option).into_owned() + &quoted(OsStr::from_bytes(value))
        }
        None => quoted(word),
    }
}

impl Head {
    /// The head of a command that reads the job file.
    pub(crate) fn of_jobs(command: events::CommandWord, file: &Path, dry_run: bool) -> Self {
        Self { dry_run, job_file: Some(file.into()), ..Self::new(command) }
    }
}
