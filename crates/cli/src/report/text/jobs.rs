//! Jobs and their results.

use std::time::Duration;

use crate::report::events::{CommandWord, JobLine, JobResult, TotalsLine};
use crate::report::text::phrases::outcome_words;
use crate::report::text::phrases::when;
use crate::report::text::printer::Text;
use crate::report::text::status;
use crate::report::text::styles::{BAD, FAINT, HEADING};
use crate::terminal::{names, units};

/// The header of the table of jobs that ran.
const COLUMNS: [&str; 6] = ["", "", "entries", "bytes", "time", "problems"];

impl Text {
    pub(super) fn job(&mut self, job: &JobLine) {
        if self.lines > 0 {
            self.line("");
        }
        self.line(&format!("{HEADING}{}{HEADING:#}", names::harmless(&job.name)));
        if self.command == CommandWord::Run {
            return;
        }
        if let Some(description) = &job.description {
            self.line(&format!("  {FAINT}{}{FAINT:#}", names::harmless(description)));
        }
        for command in &job.commands {
            self.line(&format!("  {}", names::harmless(command)));
        }
        let facts = [("then", &job.then), ("tags", &job.tags)];
        for (what, names) in facts.into_iter().filter(|(_, names)| !names.is_empty()) {
            self.line(&format!("  {what}: {}", names::harmless(&names.join(", "))));
        }
        let Some(stands) = &job.status else { return };
        if !job.enabled {
            self.line("  not enabled");
        }
        if let Some(last) = &stands.times.last {
            self.line(&format!("  last run: {}, {}", when(last), status::job_status(stands)));
        }
        if let Some(at) = stands.times.at.as_ref().filter(|_| stands.enabled) {
            self.line(&format!("  next run: {} ({})", status::next(stands), names::harmless(at)));
        }
    }

    pub(super) fn job_ran(&mut self, ran: &JobResult) {
        let span = Duration::try_from_secs_f64(ran.seconds).unwrap_or_default();
        let was_run = ran.exit_code.is_some();
        let shown = |text: String| if was_run { text } else { String::new() };
        self.kept.jobs.push(vec![
            names::harmless(&ran.name),
            outcome_words(ran.outcome).to_owned(),
            shown(units::count(ran.done.entries)),
            shown(units::bytes(ran.done.bytes)),
            shown(units::span(span.max(Duration::from_millis(1)))),
            shown(units::count(ran.problems)),
        ]);
    }

    /// The totals of the listing, or of the runs.
    pub(super) fn jobs(&mut self, totals: &TotalsLine) {
        let rows = std::mem::take(&mut self.kept.jobs);
        if !rows.is_empty() {
            self.line("");
            self.table(&COLUMNS, 2, &rows);
        }
        let Some(count) = totals.listed.filter(|_| self.command == CommandWord::Jobs) else {
            return;
        };
        let jobs = units::counted(count, "job", "jobs");
        let line = match (self.dry_run, totals.problems) {
            (_, 0) if count == 0 => "This file has no jobs.".to_owned(),
            (true, 0) => format!("Checked {jobs}: no errors."),
            (true, _) => format!("Checked {jobs}: {BAD}some of them cannot run{BAD:#}, see above."),
            (false, _) => format!("{jobs}; run one with: utter run JOB"),
        };
        if self.lines > 0 {
            self.line("");
        }
        self.line(&line);
    }
}
