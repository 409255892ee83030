//! Differences, past runs and the like as a table for other programs, as RFC 4180 has it. Problems go to stderr, as
//! with text.

use crate::report::events::{
    CommandWord, DifferenceLine, Event, FoundLine, Head, JobStatus, OutcomeWord, PathHistory,
    RecordedRun, StepLine,
};
use crate::report::sink::Sink;
use crate::report::text;
use crate::terminal::streams::{self, Out};
use crate::terminal::units;

pub(crate) struct Csv {
    rows: csv::Writer<Out>,
    command: Option<CommandWord>,
    heads: Heads,
    /// The run whose steps may follow.
    waiting: Option<Vec<Vec<u8>>>,
}

type Heads = &'static [&'static str];

const DIFFERENCES: Heads = &["difference", "type", "path", "bytes", "reason"];
const STEPS: Heads = &["step", "type", "path", "bytes", "reason", "outcome"];
const RUNS: Heads = &[
    "run",
    "began",
    "command",
    "job",
    "destination",
    "outcome",
    "code",
    "entries",
    "bytes",
    "seconds",
    "problems",
    "cause",
];
const HAPPENED: Heads =
    &["run", "began", "job", "command", "what", "path", "was", "reason", "outcome"];
const JOBS: Heads =
    &["job", "enabled", "ok", "outcome", "run", "last", "last_succeeded", "next", "overdue_since"];

impl Csv {
    pub(crate) fn new() -> Self {
        let rows = csv::Writer::from_writer(streams::raw_out());
        Self { rows, command: None, heads: &[], waiting: None }
    }

    fn row(&mut self, heads: Heads, fields: &[Vec<u8>]) {
        // The stream cannot fail, and every row has as many fields as the header.
        if self.heads != heads {
            self.heads = heads;
            let _ = self.rows.write_record(heads);
        }
        if !fields.is_empty() {
            let _ = self.rows.write_record(fields);
        }
    }

    fn write_pending(&mut self) {
        if let Some(fields) = self.waiting.take() {
            self.row(RUNS, &fields);
        }
    }

    fn head(&mut self, head: &Head) {
        match self.command {
            None => self.command = Some(head.command),
            // For a single run, the steps make the table.
            Some(_) => self.waiting = None,
        }
        if self.command == Some(CommandWord::Verify) {
            self.row(DIFFERENCES, &[]);
        }
    }
}

impl Sink for Csv {
    fn show(&mut self, event: &Event) {
        match event {
            Event::Head(head) => self.head(head),
            Event::Difference(difference) => {
                let DifferenceLine { state, entry, path, bytes, reason, .. } = difference;
                let fields = [word(state.word()), word(entry.word()), path.as_bytes().to_vec()];
                let rest = [number(bytes), word(reason)];
                self.row(DIFFERENCES, &[&fields[..], &rest].concat());
            }
            Event::Step(StepLine { verb, entry, path, bytes, reason, outcome, .. }) => {
                let fields = [word(verb.word()), word(entry.word()), path.as_bytes().to_vec()];
                let rest =
                    [number(bytes), word(reason), word(outcome.map_or("", OutcomeWord::word))];
                self.row(STEPS, &[&fields[..], &rest].concat());
            }
            Event::PastRun(run) => {
                self.write_pending();
                self.waiting = Some(recorded(run));
            }
            Event::PathHistory(happened) => self.row(HAPPENED, &happened_fields(happened)),
            Event::JobStatus(job) => self.row(JOBS, &job_status(job)),
            Event::Found(FoundLine { state, differences, listed }) if listed < differences => {
                let (count, state) = (units::count(differences - listed), state.word());
                streams::emit(&format!(
                    "utter: {count} more differences ({state}) are not listed because of --limit"
                ));
            }
            Event::Problem(problem) => text::problem(problem),
            Event::Totals(_) => self.write_pending(),
            _ => {}
        }
    }

    fn flush(&mut self) {
        let _ = self.rows.flush();
    }
}

fn word(word: &str) -> Vec<u8> {
    word.as_bytes().to_vec()
}

fn number<T: ToString + ?Sized>(number: &T) -> Vec<u8> {
    number.to_string().into_bytes()
}

fn text_or_empty<T: ToString>(value: Option<T>) -> Vec<u8> {
    value.map(|value| number(&value)).unwrap_or_default()
}

fn recorded(run: &RecordedRun) -> Vec<Vec<u8>> {
    let (began, closed) = (&run.began, run.closed.as_ref());
    let job = began.job.as_ref().map(|job| &job.name);
    let destination = began.sides.last().map(|side| side.path.as_bytes().to_vec());
    vec![
        number(&began.run),
        word(&began.began),
        word(began.command.word()),
        text_or_empty(job),
        destination.unwrap_or_default(),
        word(run.outcome.word()),
        text_or_empty(closed.map(|closed| closed.exit_code)),
        text_or_empty(closed.map(|closed| closed.done.entries)),
        text_or_empty(closed.map(|closed| closed.done.bytes)),
        text_or_empty(closed.map(|closed| closed.seconds)),
        text_or_empty(closed.map(|closed| closed.problems)),
        text_or_empty(closed.and_then(|closed| closed.cause.as_ref())),
    ]
}

fn happened_fields(happened: &PathHistory) -> Vec<Vec<u8>> {
    let PathHistory { run, began, job, command, path, was, what, reason, outcome } = happened;
    vec![
        number(run),
        word(began),
        text_or_empty(job.as_ref()),
        word(command.word()),
        word(what),
        path.as_bytes().to_vec(),
        was.as_ref().map(|was| was.as_bytes().to_vec()).unwrap_or_default(),
        word(reason),
        word(outcome.map_or("", OutcomeWord::word)),
    ]
}

fn job_status(job: &JobStatus) -> Vec<Vec<u8>> {
    vec![
        word(&job.name),
        number(&job.enabled),
        number(&job.ok),
        word(job.outcome.word()),
        text_or_empty(job.run),
        text_or_empty(job.times.last.as_ref()),
        text_or_empty(job.times.last_succeeded.as_ref()),
        text_or_empty(job.times.next.as_ref()),
        text_or_empty(job.times.overdue_since.as_ref()),
    ]
}
