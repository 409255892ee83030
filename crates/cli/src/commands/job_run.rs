//! One start of a job: all its commands, reported once.

use std::ffi::OsString;
use std::path::Path;

use anyhow::Result;
use clap::{ArgMatches, FromArgMatches as _};
use jiff::Timestamp;

use crate::call;
use crate::context::Context;
use crate::exit::{self, Exit, WrongCall};
use crate::jobs::{Job, JobFile};
use crate::options::{Hours, NotifyOptions};
use crate::real::real;
use crate::records::{self, RecordRetention, Within};
use crate::report::HeardTotals;
use crate::report::events::{CommandWord, JobCall, TotalsLine};
use crate::reporter::Summary;
use crate::signals::Signals;
use crate::terminal::streams;

/// A start of a job. Its commands are carried out even after one failed; their records are theirs, and the
/// notifications are the job's.
pub(super) struct JobRun<'r> {
    name: &'r str,
    /// The file that it is in.
    file: &'r Path,
    keep: &'r RecordRetention,
    /// The words of each command.
    commands: Vec<Vec<OsString>>,
    /// As asked of all jobs.
    dry_run: bool,
    /// Its options; `None` if those given now conflict with them.
    settings: Option<ArgMatches>,
    context: &'r Context,
}

/// How a job ended.
pub(super) struct JobEnded {
    pub(super) exit: Exit,
    pub(super) heard: HeardTotals,
    /// What its commands reported.
    summaries: Vec<Summary>,
}

impl<'r> JobRun<'r> {
    pub(super) fn of(
        job: &'r Job,
        (file, keep): (&'r Path, &'r RecordRetention),
        (commands, dry_run): (Vec<Vec<OsString>>, bool),
        context: &'r Context,
    ) -> Self {
        let settings = commands.first().and_then(|words| typed(words, context));
        Self { name: &job.name, file, keep, commands, dry_run, settings, context }
    }

    /// A job that cannot be read; the defaults of its file say who is told.
    pub(super) fn of_broken(
        name: &'r str,
        (file, keep): (&'r JobFile, &'r RecordRetention),
        dry_run: bool,
        context: &'r Context,
    ) -> Self {
        let settings = file.defaults_alone().ok().and_then(|words| typed(&words, context));
        Self { name, file: file.path(), keep, commands: Vec::new(), dry_run, settings, context }
    }

    fn is_set(&self, option: &str) -> bool {
        let set = |typed: &ArgMatches| typed.try_get_one::<bool>(option).ok().flatten().copied();
        self.settings.as_ref().and_then(set).unwrap_or(false)
    }

    /// True if it changes nothing.
    pub(super) fn is_dry(&self) -> bool {
        self.dry_run || self.is_set("dry_run")
    }

    /// True outside the hours in which it may begin.
    pub(super) fn is_not_due(&self) -> bool {
        let hours = self.settings.as_ref().and_then(|typed| typed.get_one::<Hours>("within"));
        hours.is_some_and(|hours| hours.end(Timestamp::now()).is_err())
    }

    /// Carries out all commands.
    pub(super) fn run(&self) -> JobEnded {
        let mut ended =
            JobEnded { exit: Exit::Done, heard: HeardTotals::default(), summaries: Vec::new() };
        for (call, words) in (1..).zip(&self.commands) {
            let within = self.within(call, &ended);
            // No more commands begin, which is reported and recorded like any other end.
            let stopped = self.context.signals().ok().and_then(Signals::caught);
            let came = match stopped {
                Some(stop) => Err(stop.into()),
                None => self.make(words, within.clone()),
            };
            let exit = came.as_ref().map_or_else(exit::of_error, |exit| *exit);
            let mut heard = self.context.heard.take();
            ended.summaries.append(&mut self.context.summaries.borrow_mut());
            if let (Err(error), false) = (&came, heard.has_report) {
                heard.run = self.failed(words, within, error, &mut ended);
            }
            ended.heard.add(&heard);
            ended.exit = ended.exit.worse(exit);
            // Each job has its own hours.
            self.context.signals().inspect(|signals| signals.stop_at(None)).ok();
            if stopped.is_some() || matches!(exit, Exit::Interrupted | Exit::Terminated) {
                break;
            }
        }
        self.notify(&mut ended);
        ended
    }

    /// Reports that it could not begin.
    pub(super) fn fail(&self, error: &anyhow::Error) -> JobEnded {
        let (exit, heard) = (exit::of_error(error), HeardTotals::default());
        let mut ended = JobEnded { exit, heard, summaries: Vec::new() };
        let words = self.commands.first().cloned().unwrap_or_else(|| {
            let mut jobs = OsString::from("--jobs=");
            jobs.push(self.file);
            vec!["run".into(), jobs, "--".into(), self.name.into()]
        });
        let within = self.within(1, &ended);
        ended.heard.run = self.failed(&words, within, error, &mut ended);
        self.notify(&mut ended);
        ended
    }

    fn within(&self, call: u64, ended: &JobEnded) -> Within {
        let (name, calls) = (self.name.to_owned(), self.commands.len().max(1) as u64);
        let (file, start) = ((&*real(self.file)).into(), ended.heard.run.unwrap_or_default());
        let job = JobCall { name, file, start, call, calls };
        Within { job, keep: self.keep.clone() }
    }

    fn make(&self, words: &[OsString], within: Within) -> Result<Exit> {
        let made = match call::parse_within(line(words), within, self.context) {
            Ok(called) => called.run(),
            // The arguments of the file were parsed before; those given here may conflict with them.
            Err(error) => Err(WrongCall(call::explained(&error).0).into()),
        };
        made.inspect_err(streams::print_error)
    }

    /// Records a command that failed before it could do so itself; returns the number of its record.
    fn failed(
        &self,
        words: &[OsString],
        within: Within,
        error: &anyhow::Error,
        ended: &mut JobEnded,
    ) -> Option<u64> {
        if self.is_dry() {
            return None;
        }
        let command = words.first()?.to_str().and_then(CommandWord::of)?;
        let run = if self.is_set("no_record") {
            None
        } else {
            records::of_failed(command, words, within, error)
        };
        ended.summaries.push(Summary {
            command: command.word(),
            destination: None,
            exit: exit::of_error(error),
            heard: HeardTotals::default(),
            totals: None,
            text: format!("{error:#}\n"),
        });
        run
    }

    /// Notifies about all commands at once.
    fn notify(&self, ended: &mut JobEnded) {
        let summaries = std::mem::take(&mut ended.summaries);
        let settings = self.settings.as_ref();
        let notifying = settings.and_then(|typed| NotifyOptions::from_arg_matches(typed).ok());
        let Some(first) = summaries.first() else { return };
        let Some(notifying) = notifying.filter(|_| !self.is_dry()) else { return };
        let (command, destination) = (first.command, first.destination.clone());
        let text = summaries.iter().map(|one| &*one.text).collect::<Vec<_>>().join("\n");
        let totals = summaries.into_iter().filter_map(|one| one.totals).reduce(TotalsLine::after);
        let (exit, heard) = (ended.exit, ended.heard);
        let summary = Summary { command, destination, exit, heard, totals, text };
        notifying.notify_all(&summary, Some(self.name));
    }
}

fn typed(words: &[OsString], context: &Context) -> Option<ArgMatches> {
    let called = call::parse(context.program, line(words)).ok()?;
    called.typed().subcommand().map(|(_, typed)| typed.clone())
}

fn line(words: &[OsString]) -> impl Iterator<Item = OsString> {
    [OsString::from("utter")].into_iter().chain(words.iter().cloned())
}
