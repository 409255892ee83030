//! Past runs, and what happened to a path.

use std::time::Duration;

use crate::report::events::{
    Head, OutcomeWord, PathHistory, Placed, RecordedRun, RunEnded, RunOutcome, TotalsLine,
};
use crate::report::text::phrases::outcome_words;
use crate::report::text::phrases::when;
use crate::report::text::printer::{ListedSteps, Text};
use crate::report::text::styles::{BAD, FAINT, HEADING};
use crate::terminal::{names, units};

/// The header of the table of runs, numbers last.
pub(super) const RUNS: [&str; 8] =
    ["run", "began", "command", "destination", "outcome", "entries", "bytes", "took"];

impl Text {
    /// A run in a list, or a single run.
    pub(super) fn recorded(&mut self, run: &RecordedRun) {
        let destination = run.destination().map(|side| side.path.shown());
        let closed = run.closed.as_ref();
        let amount = |show: fn(&RunEnded) -> String| closed.map(show).unwrap_or_default();
        self.kept.runs.push([
            run.began.run.to_string(),
            when(&run.began.began),
            what(run),
            destination.unwrap_or_default(),
            marked(run.outcome, &described(run)),
            amount(|closed| units::count(closed.done.entries)),
            amount(|closed| units::bytes(closed.done.bytes)),
            amount(|closed| span(closed.seconds)),
        ]);
        self.kept.past = Some(lines(run));
    }

    /// The following events are those of a past run.
    pub(super) fn replay(&mut self, head: &Head) {
        for line in self.kept.past.take().into_iter().flatten() {
            self.line(&line);
        }
        self.kept.runs.clear();
        self.is_past = true;
        self.take_head(head);
        self.listed = ListedSteps::Destination;
    }

    /// What is listed.
    pub(super) fn history(&mut self, totals: &TotalsLine) {
        let rows = std::mem::take(&mut self.kept.runs);
        if totals.listed.is_none()
            && let Some([run, began, what, destination, outcome, ..]) = rows.first()
        {
            self.line(&format!("Last run: {run}, {what} to {destination}, {began}: {outcome}"));
        } else if !rows.is_empty() {
            let rows: Vec<Vec<String>> = rows.into_iter().map(Vec::from).collect();
            self.table(&RUNS, 5, &rows);
            self.line("");
            self.line("Details of a run: utter history RUN");
        }
    }

    pub(super) fn happened(&mut self, happened: &PathHistory) {
        let PathHistory { run, began, job, command, path, what, reason, outcome, .. } = happened;
        let job =
            job.as_ref().map_or_else(|| command.word().to_owned(), |job| format!("job {job}"));
        let job = names::harmless(&job);
        self.line(&format!("{HEADING}{}{HEADING:#}  run {run}, {job}", when(began)));
        let became = match outcome {
            None | Some(OutcomeWord::Done) => String::new(),
            Some(other) => format!(" {BAD}{}{BAD:#}", other.word().replace('-', " ")),
        };
        let (path, reason) = (path.shown(), names::harmless(reason));
        self.line(&format!("  {what} {path} {FAINT}· {reason}{FAINT:#}{became}"));
    }
}

/// Failed runs stand out.
pub(super) fn marked(outcome: RunOutcome, told: &str) -> String {
    match outcome {
        RunOutcome::Succeeded | RunOutcome::Running => told.to_owned(),
        _ => format!("{BAD}{told}{BAD:#}"),
    }
}

fn what(run: &RecordedRun) -> String {
    let command = run.began.command.word();
    match &run.began.job {
        Some(job) if job.calls > 1 => {
            format!("{} ({command}, {} of {})", names::harmless(&job.name), job.call, job.calls)
        }
        Some(job) => format!("{} ({command})", names::harmless(&job.name)),
        None => command.to_owned(),
    }
}

fn described(run: &RecordedRun) -> String {
    let problems = run.closed.as_ref().map(|closed| closed.problems);
    match (run.outcome, problems) {
        (RunOutcome::Problems, Some(problems @ 1..)) => {
            units::counted(problems, "problem", "problems")
        }
        (outcome, _) => outcome_words(outcome).to_owned(),
    }
}

fn span(seconds: f64) -> String {
    let span = Duration::try_from_secs_f64(seconds).unwrap_or_default();
    units::span(span.max(Duration::from_millis(1)))
}

/// The lines about a run above its own events.
fn lines(run: &RecordedRun) -> Vec<String> {
    let began = &run.began;
    let mut lines = vec![
        format!("{HEADING}Run {}: {}, {}{HEADING:#}", began.run, what(run), described(run)),
        format!("  {}", names::harmless(&began.line)),
        format!("  called in {}", began.folder.shown()),
    ];
    let took = run.closed.as_ref().map(|closed| format!(", took {}", span(closed.seconds)));
    let by = format!(
        "{} on {}",
        names::harmless(&began.caller.user),
        names::harmless(&began.caller.host)
    );
    let (time, took) = (when(&began.began), took.unwrap_or_default());
    lines.push(format!("  began {time}{took}; by {by}, process {}", began.caller.process));
    lines.extend(began.sides.iter().map(|side| format!("  {}", place(side))));
    if let Some(cause) = run.closed.as_ref().and_then(|closed| closed.cause.as_ref()) {
        lines.push(format!("  {BAD}it failed:{BAD:#} {}", names::harmless(cause)));
    }
    lines
}

fn place(side: &Placed) -> String {
    let mut drive = Vec::new();
    drive.extend(side.label.as_ref().map(|label| format!("drive {}", names::harmless(label))));
    drive.extend(side.mounted_at.as_ref().map(|at| format!("mounted at {}", at.shown())));
    drive.extend(side.uuid.as_ref().map(|uuid| names::harmless(uuid)));
    let drive = drive.join(", ");
    let path = side.path.shown();
    if drive.is_empty() { path } else { format!("{path} {FAINT}({drive}){FAINT:#}") }
}
