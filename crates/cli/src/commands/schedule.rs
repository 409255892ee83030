//! `utter schedule`: schedules jobs with systemd or cron.

use std::ffi::OsString;
use std::path::PathBuf;

use anyhow::{Context as _, Result};
use clap::{Args, ValueHint};
use clap_complete::engine::ArgValueCompleter;
use jiff::Zoned;
use jiff::tz::TimeZone;
use utter_echo_core::drives;
use utter_echo_core::os::Linux;

use crate::call;
use crate::commands::job_file::JobFileOption;
use crate::commands::job_file::job_names;
use crate::context::{Command, Context};
use crate::exit::{self, Exit, wrong_call};
use crate::jobs::{Job, JobFile};
use crate::location::{Location, location};
use crate::options::ShownOptions;
use crate::records::Within;
use crate::report::events::{self, Event, Head, ScheduledJob, TotalsLine, UnitFile};
use crate::reporter::Report;
use crate::schedule::{
    CommandLine, Manager, NotInstalled, Scheduled, When, change_table, cron, systemd,
};
use crate::terminal::{names, streams};

const EXAMPLES: &str = "\
Examples:
  utter schedule papers                     when it would start, and what would be installed
  utter schedule --install papers           have it started at the times that the job file says
  utter schedule --at 'weekdays 18:00' papers
  utter schedule --remove papers";

/// Schedule jobs with systemd or cron
///
/// Without --install it shows the next three starts, and the systemd units that would start them: for root those of
/// the machine, else your own. A start missed while the machine was off is made up for. Scheduled runs have the
/// lowest priority. The job file's 'at' sets the time: 'daily 02:30', 'weekdays 18:00', 'mondays 06:00', 'hourly',
/// 'every 15 minutes', 'every 6 hours', 'monthly 1 03:00' or 'when mounted', in local time.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Schedule {
    /// The jobs
    #[arg(required = true, value_name = "JOB", add = ArgValueCompleter::new(job_names))]
    names: Vec<String>,
    /// When they start, instead of the time in the job file
    ///
    /// Default: as set in the job file.
    #[arg(long, value_name = "WHEN", help_heading = "Schedule")]
    at: Option<When>,
    /// Install the schedule
    #[arg(long, conflicts_with = "remove", help_heading = "Schedule")]
    install: bool,
    /// Remove the schedule
    #[arg(long, conflicts_with = "at", help_heading = "Schedule")]
    remove: bool,
    /// Use cron instead of systemd
    #[arg(long, conflicts_with = "into", help_heading = "Schedule")]
    cron: bool,
    /// With --install or --remove: write or remove the units there; start or stop nothing
    ///
    /// Default: /etc/systemd/system for root, else systemd/user in your configuration folder.
    #[arg(long, value_name = "FOLDER", value_hint = ValueHint::DirPath, value_parser = location(), help_heading = "Schedule", hide_short_help = true)]
    into: Option<Location>,
    #[command(flatten)]
    file: JobFileOption,
    #[command(flatten)]
    shown: ShownOptions,
}

impl Command for Schedule {
    fn run(&self, context: &Context) -> Result<Exit> {
        let form = self.shown.settle()?;
        if self.into.is_some() && !self.install && !self.remove {
            wrong_call!("--into needs --install or --remove\n  add one of them");
        }
        let file = self.file.read(context)?;
        if self.remove {
            return self.take_away();
        }
        let now = context.began.to_zoned(TimeZone::system());
        let jobs = self.names.iter().map(|name| self.scheduled(&file.job(name)?, &file, context));
        let jobs: Vec<Scheduled> = jobs.collect::<Result<_>>()?;
        let head = Head::of_jobs(events::CommandWord::Schedule, file.path(), !self.install);
        let report = Report::new(form, head, &context.heard);
        for job in &jobs {
            report.emit(Event::Scheduled(self.starts_of(job, &now)?));
            if self.install {
                self.install(job, &now)?;
            }
            self.note(job, &now, &report);
        }
        let listed = Some(jobs.len() as u64);
        report.emit(TotalsLine { listed, ..TotalsLine::default() }.into());
        Ok(if self.install { Exit::Done } else { exit::of_shown(Exit::Done) })
    }
}

impl Schedule {
    fn scheduled(&self, job: &Job, file: &JobFile, context: &Context) -> Result<Scheduled> {
        file.check_order(job)?;
        let shown = names::harmless(&job.name);
        let Some(when) = self.at.clone().or_else(|| job.at.clone()) else {
            wrong_call!(
                "job '{shown}' has no start time\n  write at = \"daily 02:30\" in the job file, or use --at"
            );
        };
        if !job.enabled {
            wrong_call!("job '{shown}' is not enabled\n  write enabled = true in the job file");
        }
        let mounted_at = match when {
            When::Mounted if self.cron => {
                wrong_call!("cron cannot start a job when a drive is mounted\n  leave out --cron")
            }
            When::Mounted => Some(mounted_at(job, context)?),
            _ => None,
        };
        Ok(Scheduled {
            name: job.name.clone(),
            description: job.description.clone(),
            when,
            command: command_line(job, file)?,
            has_commands: has_commands(job, file),
            is_roots: matches!(Manager::of_caller(), Manager::Machine),
            mounted_at,
        })
    }

    fn folder(&self) -> Result<PathBuf> {
        let own = || Manager::of_caller().folder();
        let into = self.into.as_ref().map(Location::find).transpose()?;
        into.or_else(own).context("your settings folder is not known\n  set HOME")
    }

    fn starts_of(&self, job: &Scheduled, now: &Zoned) -> Result<ScheduledJob> {
        let files = if self.cron {
            let lines =
                cron::lines(&job.name, &job.when, &job.command).map(|lines| lines.join("\n"));
            vec![UnitFile { path: None, text: lines.unwrap_or_default() }]
        } else {
            let folder = self.folder()?;
            let file = |unit: systemd::Unit| {
                let path = folder.join(&unit.name);
                UnitFile { path: Some((&*path).into()), text: unit.text }
            };
            systemd::units(job, now).into_iter().map(file).collect()
        };
        Ok(ScheduledJob {
            name: job.name.clone(),
            at: job.when.to_string(),
            next: job.when.after(now).take(3).map(|next| next.timestamp().to_string()).collect(),
            installed: self.install && self.into.is_none(),
            files,
        })
    }

    fn install(&self, job: &Scheduled, now: &Zoned) -> Result<()> {
        if self.cron {
            let lines = cron::lines(&job.name, &job.when, &job.command);
            let lines = lines.map(|lines| lines.join("\n") + "\n").unwrap_or_default();
            let changed = change_table(|table| cron::without(table, &job.name) + &lines);
            return changed.map_err(NotInstalled::into_error);
        }
        let starts = self.into.is_none();
        let units = systemd::units(job, now);
        Manager::of_caller()
            .install(&self.folder()?, &units, starts)
            .map_err(NotInstalled::into_error)
    }

    /// Of all jobs that are named, also if one is not there.
    fn take_away(&self) -> Result<Exit> {
        let mut failed = None;
        for name in &self.names {
            let removed = if self.cron {
                change_table(|table| cron::without(table, name))
            } else {
                let (folder, stops) = (self.folder()?, self.into.is_none());
                Manager::of_caller().remove(&folder, &systemd::unit_name(name), stops)
            };
            if let Err(error) = removed {
                let shown = names::harmless(name);
                let error = error.into_error();
                streams::print_wrong(&format!("job '{shown}': {error:#}"));
                let exit = exit::of_error(&error);
                failed = Some(failed.map_or(exit, |worst: Exit| worst.worse(exit)));
            }
        }
        Ok(failed.unwrap_or(Exit::Done))
    }

    /// Notes for the user who schedules a job.
    fn note(&self, job: &Scheduled, now: &Zoned, report: &Report) {
        for (start, is_gap) in job.when.clock_changes(now) {
            let (day, time) = (start.strftime("%Y-%m-%d"), start.strftime("%H:%M"));
            let text = if is_gap {
                format!("on {day} the clock skips this time, so the job starts at {time}")
            } else {
                format!("on {day} the clock shows {time} twice; the job starts the first time only")
            };
            report.emit(Event::note("clock-change", text));
        }
        if self.at.is_some() {
            let text = format!(
                "'utter status' uses these times once the job file has at = \"{}\"",
                job.when
            );
            report.emit(Event::note("not-in-job-file", text));
        }
        if !job.is_roots && !self.cron {
            let text =
                "it starts only while you are logged in; 'loginctl enable-linger' changes that";
            report.emit(Event::note("only-logged-in", text.to_owned()));
        }
    }
}

/// The command that runs a job of this file.
fn command_line(job: &Job, file: &JobFile) -> Result<CommandLine> {
    let program = std::env::current_exe().context("the path of utter itself is not known")?;
    let mut jobs = OsString::from("--jobs=");
    jobs.push(std::path::absolute(file.path())?);
    let words = vec![program.into(), "run".into(), jobs, "--".into(), OsString::from(&job.name)];
    // The place of records, so that 'utter status' finds them.
    let state =
        std::env::var_os("XDG_STATE_HOME").map(|value| ("XDG_STATE_HOME".to_owned(), value));
    Ok(CommandLine { words, environment: state.into_iter().collect() })
}

/// The mount point of a job's destination.
fn mounted_at(job: &Job, context: &Context) -> Result<PathBuf> {
    let shown = names::harmless(&job.name);
    let words = job.calls.first().into_iter().flatten().cloned();
    let line = [OsString::from("utter")].into_iter().chain(words);
    let called = call::parse_within(line, Within::of_job(&job.name), context);
    let request = called.ok().and_then(|called| called.request().ok()).flatten();
    let Some(request) = request else {
        wrong_call!(
            "the drive of job '{shown}' must be mounted for that\n  mount it, then try again"
        );
    };
    let drive = drives::beneath(&Linux, &[request.places.destination]).pop().flatten();
    match drive.map(|drive| drive.mounted_at) {
        Some(mounted_at) if mounted_at.parent().is_some() => Ok(mounted_at),
        _ => wrong_call!(
            "the destination of job '{shown}' is on the system's drive, which is always mounted\n  mount its own drive, or choose another time"
        ),
    }
}

/// True if a job, or one that runs after it, runs commands or mounts drives.
fn has_commands(job: &Job, file: &JobFile) -> bool {
    let runs = |word: &OsString| {
        let word = word.to_string_lossy();
        ["--run-before", "--run-after", "--on-problem", "--on-success", "--mount"]
            .iter()
            .any(|option| word.starts_with(option))
    };
    let next = || job.then.iter().filter_map(|name| file.job(name).ok());
    job.calls.iter().flatten().any(runs) || next().any(|next| has_commands(&next, file))
}
