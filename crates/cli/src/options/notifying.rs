//! Notifications about the result of a run.

use std::io::{self, Write as _};
use std::os::unix::process::CommandExt as _;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use clap::Args;
use jiff::Zoned;
use rustix::process::{Pid, Signal};

use crate::exit::Exit;
use crate::location::{Location, location};
use crate::metrics;
use crate::options::values;
use crate::placeholders::Placeholders;
use crate::report::events::RunOutcome;
use crate::reporter::Summary;
use crate::terminal::{names, streams, units};

#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct NotifyOptions {
    /// Run this command after a failed run, with its output on standard input
    ///
    /// It is run with 'sh -c', for example to send a mail. In its environment are UTTER_COMMAND, UTTER_JOB,
    /// UTTER_OUTCOME, UTTER_EXIT_CODE, UTTER_RUN (the number for 'utter history'), UTTER_PROBLEMS, UTTER_ENTRIES
    /// and UTTER_BYTES. Its exit code is ignored. Not run in a dry run. Default: none.
    #[arg(long, value_name = "COMMAND", hide_short_help = true)]
    pub(crate) on_problem: Option<String>,
    /// The same after a successful run
    ///
    /// Default: none.
    #[arg(long, value_name = "COMMAND", hide_short_help = true)]
    pub(crate) on_success: Option<String>,
    /// Stop a command of --on-problem or --on-success that takes longer than this
    #[arg(long, value_name = "DURATION", default_value = "10m", value_parser = values::duration, hide_short_help = true)]
    pub(crate) hook_limit: Duration,
    /// Write the result to this file in Prometheus text format
    ///
    /// It is written whole and then renamed into place; {date}, {job} and the like in its name are filled in as for --log. Default: none.
    #[arg(long, value_name = "FILE", hide_short_help = true, value_parser = location())]
    pub(crate) metrics: Option<Location>,
}

impl NotifyOptions {
    /// True if a command needs the output.
    pub(super) fn needs_text(&self) -> bool {
        self.on_problem.is_some() || self.on_success.is_some()
    }

    /// The file for metrics.
    pub(super) fn path(&self) -> Option<PathBuf> {
        self.metrics.as_ref().map(Location::now)
    }

    /// Runs the notifications. A failure is reported and changes nothing.
    pub(crate) fn notify_all(&self, summary: &Summary, job: Option<&str>) {
        if let Some(file) = &self.metrics {
            let job = job.unwrap_or(summary.command);
            let placeholders = Placeholders::new(job, &Zoned::now());
            let path = PathBuf::from(placeholders.fill(&file.now().to_string_lossy()));
            if let Err(error) = metrics::write(&path, job, summary) {
                let shown = names::path(&path);
                streams::print_wrong(&format!(
                    "the metrics cannot be written to '{shown}': {error}"
                ));
            }
        }
        let (option, command) = match summary.exit {
            Exit::Done => ("--on-success", &self.on_success),
            _ => ("--on-problem", &self.on_problem),
        };
        if let Some(command) = command
            && let Err(why) = self.notify(command, summary, job)
        {
            streams::print_wrong(&format!("{option} '{command}' {why}"));
        }
    }

    fn notify(&self, command: &str, summary: &Summary, job: Option<&str>) -> Result<(), String> {
        let Summary { heard, exit, text, .. } = summary;
        let number = |number: u64| number.to_string();
        let run = heard.run.map(number).unwrap_or_default();
        let mut shell = Command::new("sh");
        shell
            .args(["-c", command])
            .envs([
                ("UTTER_COMMAND", summary.command.to_owned()),
                ("UTTER_JOB", job.unwrap_or_default().replace('\0', "")),
                ("UTTER_OUTCOME", RunOutcome::after(*exit).word().to_owned()),
                ("UTTER_EXIT_CODE", (*exit as u8).to_string()),
                ("UTTER_RUN", run),
                ("UTTER_PROBLEMS", number(heard.problems)),
                ("UTTER_ENTRIES", number(heard.entries)),
                ("UTTER_BYTES", number(heard.bytes)),
            ])
            .stdin(Stdio::piped())
            // Its output goes to stderr: programs parse stdout.
            .stdout(io::stderr())
            // So that all that it starts can be stopped.
            .process_group(0);
        let mut child = shell.spawn().map_err(|error| format!("cannot be run: {error}"))?;
        if let Some(mut stdin) = child.stdin.take() {
            let text = text.clone();
            // The command may ignore its input, or not read all of it.
            std::thread::spawn(move || stdin.write_all(text.as_bytes()));
        }
        let begun = Instant::now();
        loop {
            match child.try_wait() {
                Ok(Some(status)) if status.success() => return Ok(()),
                Ok(Some(status)) => return Err(format!("failed: {status}")),
                Ok(None) if begun.elapsed() < self.hook_limit => std::thread::sleep(MOMENT),
                Ok(None) => break,
                Err(error) => return Err(format!("failed: {error}")),
            }
        }
        let group = Pid::from_child(&child);
        let _ = rustix::process::kill_process_group(group, Signal::KILL);
        let _ = child.wait();
        Err(format!("was stopped after {}", units::span(self.hook_limit)))
    }
}

/// Between two looks whether a command has ended.
const MOMENT: Duration = Duration::from_millis(10);
