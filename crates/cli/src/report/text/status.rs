//! The status of jobs.

use std::time::Duration;

use jiff::Timestamp;

use crate::report::events::{DriveSpace, JobStatus, RunOutcome, TotalsLine};
use crate::report::text::phrases::outcome_words;
use crate::report::text::phrases::when;
use crate::report::text::printer::Text;
use crate::report::text::styles::BAD;
use crate::terminal::{names, units};

const JOBS: [&str; 6] = ["job", "state", "last run", "last success", "next run", "free"];

impl Text {
    pub(super) fn job_stands(&mut self, job: &JobStatus) {
        let never = |time: &Option<String>| time.as_deref().map_or("never".to_owned(), when);
        self.kept.jobs.push(vec![
            names::harmless(&job.name),
            match (job.enabled, job.ok) {
                (false, _) => "not enabled".to_owned(),
                (true, true) => job_status(job),
                (true, false) => format!("{BAD}{}{BAD:#}", job_status(job)),
            },
            never(&job.times.last),
            job.times.last_succeeded.as_deref().map_or_else(|| "never".to_owned(), ago),
            next(job),
            spaces(job),
        ]);
        if !job.ok {
            self.kept.unwell.push(names::harmless(&job.name));
        }
    }

    pub(super) fn status(&mut self, totals: &TotalsLine) {
        let rows = std::mem::take(&mut self.kept.jobs);
        if !rows.is_empty() {
            self.table(&JOBS, JOBS.len(), &rows);
            self.line("");
        }
        let unwell = std::mem::take(&mut self.kept.unwell);
        self.line(&match (totals.listed, totals.problems) {
            (Some(0), _) => "This file has no jobs.".to_owned(),
            (_, 0) => "All jobs are OK.".to_owned(),
            _ if unwell.is_empty() => format!("{BAD}Not all is well{BAD:#}, see above."),
            _ => format!(
                "{BAD}Not all is well{BAD:#}: {}. To see why: utter history --job JOB",
                unwell.join(", ")
            ),
        });
    }
}

/// In a few words.
pub(super) fn job_status(job: &JobStatus) -> String {
    let outcome = outcome_words(job.outcome);
    match &job.times.overdue_since {
        Some(due) => format!("overdue since {}", when(due)),
        None if job.ok && job.outcome == RunOutcome::Succeeded => "ok".to_owned(),
        None => outcome.to_owned(),
    }
}

pub(super) fn next(job: &JobStatus) -> String {
    match (&job.times.next, &job.times.at) {
        (Some(next), _) => when(next),
        (None, Some(at)) if job.enabled => at.clone(),
        _ => "by hand".to_owned(),
    }
}

fn ago(time: &str) -> String {
    let span = time.parse::<Timestamp>().ok().map(|time| Timestamp::now().duration_since(time));
    match span.and_then(|span| Duration::try_from(span).ok()) {
        Some(span) => format!("{} ago", units::span(Duration::from_secs(span.as_secs().max(1)))),
        None => when(time),
    }
}

/// Each drive once.
fn spaces(job: &JobStatus) -> String {
    let mut spaces: Vec<String> = job.space.iter().map(room).collect();
    spaces.dedup();
    spaces.join(", ")
}

fn room(room: &DriveSpace) -> String {
    let part = room.bytes_free.saturating_mul(100).checked_div(room.bytes).unwrap_or_default();
    format!("{} ({part}%)", units::bytes(room.bytes_free))
}
