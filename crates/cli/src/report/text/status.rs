//! The status of jobs.

use std::time::Duration;

use jiff::Timestamp;

use crate::report::events::{JobStands, Room, RunOutcome, TotalsLine};
use crate::report::text::phrases::outcome_words;
use crate::report::text::phrases::when;
use crate::report::text::printer::Text;
use crate::report::text::styles::BAD;
use crate::terminal::{names, units};

const JOBS: [&str; 6] = ["job", "", "last run", "last went well", "next run", "room left"];

impl Text {
    pub(super) fn job_stands(&mut self, job: &JobStands) {
        let never = |time: &Option<String>| time.as_deref().map_or("never".to_owned(), when);
        self.kept.jobs.push(vec![
            names::harmless(&job.name),
            match (job.enabled, job.is_well) {
                (false, _) => "not enabled".to_owned(),
                (true, true) => job_status(job),
                (true, false) => format!("{BAD}{}{BAD:#}", job_status(job)),
            },
            never(&job.times.last),
            job.times.last_well.as_deref().map_or_else(|| "never".to_owned(), ago),
            next(job),
            rooms(job),
        ]);
        if !job.is_well {
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
            (Some(0), _) => "There is no job in this file.".to_owned(),
            (_, 0) => "All is well.".to_owned(),
            _ if unwell.is_empty() => format!("{BAD}Not all is well{BAD:#}, see above."),
            _ => format!(
                "{BAD}Not all is well{BAD:#}: {}. To see why: utter history --job JOB",
                unwell.join(", ")
            ),
        });
    }
}

/// In a few words.
pub(super) fn job_status(job: &JobStands) -> String {
    let outcome = outcome_words(job.outcome);
    match &job.times.overdue_since {
        Some(due) => format!("overdue since {}", when(due)),
        None if job.is_well && job.outcome == RunOutcome::Well => "well".to_owned(),
        None => outcome.to_owned(),
    }
}

pub(super) fn next(job: &JobStands) -> String {
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
fn rooms(job: &JobStands) -> String {
    let mut rooms: Vec<String> = job.rooms.iter().map(room).collect();
    rooms.dedup();
    rooms.join(", ")
}

fn room(room: &Room) -> String {
    let part = room.bytes_free.saturating_mul(100).checked_div(room.bytes).unwrap_or_default();
    format!("{} ({part}%)", units::bytes(room.bytes_free))
}
