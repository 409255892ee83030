//! `utter status`: whether all jobs are all right.

use std::collections::HashMap;
use std::ffi::OsString;
use std::time::Duration;

use anyhow::Result;
use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};
use utter_echo_core::drives;
use utter_echo_core::os::Linux;

use crate::call;
use crate::commands::job_file::JobFileOption;
use crate::commands::job_file::job_names;
use crate::context::{Command, Context};
use crate::exit::{self, Exit};
use crate::jobs::lock::{self, LockState};
use crate::jobs::{Job, JobFile};
use crate::options::ShownOptions;
use crate::real::real;
use crate::records::Within;
use crate::records::{Starts, Store};
use crate::report::conversion;
use crate::report::events::{
    self, DriveSpace, Event, Head, JobStatus, JobTimes, RunOutcome, TotalsLine,
};
use crate::reporter::Report;

/// The tolerated delay of a start: systems group starts.
const GRACE: Duration = Duration::from_secs(5 * 60);

const EXAMPLES: &str = "\
Examples:
  utter status                                all jobs
  utter status papers || notify-send 'papers were not copied'";

/// Show whether each job's last run succeeded and is recent enough
///
/// A job is OK if its last run succeeded and no scheduled start ('at' in the job file) was missed since. A job that
/// never ran is not OK; disabled jobs are skipped. The exit code is 0 if all jobs are OK, and otherwise 3.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Status {
    /// Only these jobs [default: all]
    #[arg(value_name = "JOB", add = ArgValueCompleter::new(job_names))]
    names: Vec<String>,
    #[command(flatten)]
    file: JobFileOption,
    #[command(flatten)]
    shown: ShownOptions,
}

impl Command for Status {
    fn run(&self, context: &Context) -> Result<Exit> {
        let form = self.shown.form_with_table();
        let file = self.file.read(context)?;
        let head = Head::of_jobs(events::CommandWord::Status, file.path(), false);
        let now = context.began.to_zoned(TimeZone::system());
        let names: Vec<&str> = match &*self.names {
            [] => file.names().collect(),
            names => names.iter().map(String::as_str).collect(),
        };
        let jobs: Vec<_> = names.iter().map(|name| (*name, file.job(name))).collect();
        if let Some((_, Err(wrong))) =
            jobs.iter().find(|(_, job)| job.is_err() && !self.names.is_empty())
        {
            return Err(wrong.clone().into());
        }
        let report = Report::new(form, head, &context.heard);
        let mut known = known(&file, &names, &report);
        let (mut problems, listed) = (0, Some(jobs.len() as u64));
        for (name, job) in jobs {
            match job {
                Ok(job) => {
                    let starts = known.remove(name).unwrap_or_default();
                    let look = lock::look(file.path(), name);
                    let stands = JobStatus::of(&job, (starts, look), &now);
                    let spaces = spaces(&job, context);
                    problems += u64::from(!stands.ok);
                    report.emit(Event::JobStatus(JobStatus { space: spaces, ..stands }));
                }
                Err(wrong) => {
                    problems += 1;
                    report.emit(conversion::wrong_job(&wrong));
                    let starts = known.remove(name).unwrap_or_default();
                    report.emit(Event::JobStatus(JobStatus::of_broken(name, starts)));
                }
            }
        }
        report.emit(TotalsLine { problems, listed, ..TotalsLine::default() }.into());
        Ok(exit::of_shown(if problems == 0 { Exit::Done } else { Exit::Problems }))
    }
}

/// The jobs according to the records.
fn known(file: &JobFile, names: &[&str], report: &Report) -> HashMap<String, Starts> {
    let known = Store::find().map(|store| store.starts(&real(file.path()), names));
    match known {
        Some(Ok(known)) => known,
        Some(Err(error)) => {
            let text = format!("the records of past runs cannot be read: {error}");
            report.emit(Event::note("unreadable-run-folder", text));
            HashMap::new()
        }
        None => HashMap::new(),
    }
}

impl JobStatus {
    /// Of a job that cannot be read.
    fn of_broken(name: &str, starts: Starts) -> Self {
        let Starts { last, last_succeeded, .. } = starts;
        Self {
            name: name.to_owned(),
            enabled: true,
            ok: false,
            outcome: RunOutcome::Invalid,
            run: last.as_ref().map(|last| last.run),
            space: Vec::new(),
            times: JobTimes {
                last: last.map(|last| last.began),
                last_succeeded: last_succeeded.map(|last| last.began),
                at: None,
                next: None,
                overdue_since: None,
            },
        }
    }

    /// The records of a job against its schedule.
    pub(super) fn of(job: &Job, (starts, look): (Starts, LockState), now: &Zoned) -> Self {
        let time = |text: &String| text.parse::<Timestamp>().ok();
        let Starts { last, last_ended, last_succeeded } = starts;
        let at = job.at.as_ref().filter(|_| job.enabled);
        let overdue_since = at.and_then(|when| {
            let grace = now.checked_sub(GRACE).ok()?;
            let due = when.before(&grace)?;
            let began = last.as_ref().and_then(|last| time(&last.began));
            // Jobs that never ran are marked as such.
            began.filter(|began| *began < due.timestamp()).map(|_| due)
        });
        let ended_well = last_ended.is_some_and(|last| last.outcome == RunOutcome::Succeeded);
        let ended_well = ended_well && look != LockState::CutShort;
        let outcome = match (look, last.as_ref()) {
            (LockState::GoingOn, _) => RunOutcome::Running,
            // It may have been killed before it left a record.
            (LockState::CutShort, _) => RunOutcome::CutShort,
            (LockState::Ended, last) => last.map_or(RunOutcome::NeverRun, |last| last.outcome),
        };
        let next = at.and_then(|when| when.after(now).next());
        Self {
            name: job.name.clone(),
            enabled: job.enabled,
            ok: !job.enabled || ended_well && overdue_since.is_none(),
            outcome,
            run: last.as_ref().map(|last| last.run),
            space: Vec::new(),
            times: JobTimes {
                last: last.map(|last| last.began),
                last_succeeded: last_succeeded.map(|last| last.began),
                at: job.at.as_ref().map(ToString::to_string),
                next: next.map(|next| next.timestamp().to_string()),
                overdue_since: overdue_since.map(|due| due.timestamp().to_string()),
            },
        }
    }
}

/// The space on each mounted destination of a job.
fn spaces(job: &Job, context: &Context) -> Vec<DriveSpace> {
    let room = |words: &Vec<OsString>| {
        let line = [OsString::from("utter")].into_iter().chain(words.iter().cloned());
        let called = call::parse_within(line, Within::of_job(&job.name), context).ok()?;
        let places = called.request().ok()??.places;
        let space = drives::room(&Linux, &places.destination).ok()?;
        let destination = (&*places.destination).into();
        Some(DriveSpace { destination, bytes: space.total, bytes_free: space.bytes })
    };
    job.calls.iter().filter_map(room).collect()
}

/// All valid jobs of a file, with their status.
pub(super) fn status_of_jobs(
    file: &JobFile,
    report: &Report,
    now: &Zoned,
) -> HashMap<String, JobStatus> {
    let names: Vec<&str> = file.names().collect();
    let mut known = known(file, &names, report);
    let jobs = names.iter().filter_map(|name| file.job(name).ok());
    jobs.map(|job| {
        let starts = known.remove(&job.name).unwrap_or_default();
        let look = lock::look(file.path(), &job.name);
        (job.name.clone(), JobStatus::of(&job, (starts, look), now))
    })
    .collect()
}
