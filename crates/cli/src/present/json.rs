//! JSON for programs: an object a line. The shape is documented in `docs/json.md`; a change that
//! could break a reader raises [`VERSION`].

use std::io::{self, Write};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::Serialize;
use utter_echo_core::guard::Refusal;
use utter_echo_core::path::TreePath;
use utter_echo_core::plan::{Count, PlacedStep, Plan, Tally, Verb};
use utter_echo_core::problem;
use utter_echo_core::request::Request;
use utter_echo_core::select::Decided;
use utter_echo_core::{Ending, Outcome, StepOutcome};

use super::{Listing, Took, streams, suggest, words};

const VERSION: u32 = 2;

#[derive(Serialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
enum Line {
    Head(Head),
    Step(Step),
    Difference(Step),
    Problem(Problem),
    Note(Note),
    Rule(Ruled),
    Suggestion { command: String },
    Totals(Box<Totals>),
}

#[derive(Serialize)]
struct Head {
    version: u32,
    command: &'static str,
    sources: Vec<String>,
    destination: String,
    dry_run: bool,
}

#[derive(Serialize)]
struct Ruled {
    rule: String,
    taken: u64,
    left_out: u64,
    kept: u64,
}

#[derive(Serialize)]
pub(super) struct Path {
    path: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_base64: Option<String>,
}

#[derive(Serialize)]
struct Step {
    verb: &'static str,
    r#type: &'static str,
    #[serde(flatten)]
    path: Path,
    bytes: u64,
    reason: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    was: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    outcome: Option<&'static str>,
}

#[derive(Serialize)]
struct Problem {
    #[serde(flatten)]
    path: Option<Path>,
    operation: &'static str,
    cause: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    guard: Option<&'static str>,
}

#[derive(Serialize)]
struct Note {
    about: &'static str,
    text: String,
}

#[derive(Serialize)]
pub(super) struct Amount {
    entries: u64,
    bytes: u64,
}

#[derive(Serialize)]
pub(super) struct Side {
    folders: u64,
    files: u64,
    links: u64,
    others: u64,
    bytes: u64,
}

#[derive(Serialize)]
struct Verbs {
    add: Amount,
    replace: Amount,
    adjust: Amount,
    rename: Amount,
    remove: Amount,
}

#[derive(Serialize)]
struct Totals {
    planned: Verbs,
    unchanged: Amount,
    spared_newer: u64,
    held_back: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    sampled: Option<Amount>,
    source: Side,
    destination: Side,
    problems: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    run: Option<Run>,
}

#[derive(Serialize)]
struct Run {
    done: Verbs,
    bytes_written: u64,
    seconds: f64,
    ending: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    set_aside: Option<String>,
}

impl From<Count> for Amount {
    fn from(count: Count) -> Self {
        Self { entries: count.entries, bytes: count.bytes }
    }
}

impl From<Tally> for Side {
    fn from(tally: Tally) -> Self {
        let Tally { folders, files, links, others, bytes } = tally;
        Self { folders, files, links, others, bytes }
    }
}

impl From<&TreePath> for Path {
    fn from(path: &TreePath) -> Self {
        let bytes = path.as_bytes();
        let exact = std::str::from_utf8(bytes).is_err().then(|| STANDARD.encode(bytes));
        Self { path: String::from_utf8_lossy(bytes).into_owned(), path_base64: exact }
    }
}

impl Path {
    /// As text, and exactly where that is not the same.
    pub(super) fn parts(self) -> (String, Option<String>) {
        (self.path, self.path_base64)
    }
}

impl From<&problem::Problem> for Line {
    fn from(problem: &problem::Problem) -> Self {
        Self::Problem(Problem {
            path: Some((&problem.path).into()),
            operation: problem.operation.id(),
            cause: problem.cause.to_string(),
            guard: None,
        })
    }
}

pub(super) fn head(request: &Request, dry_run: bool) -> io::Result<()> {
    let shown = |path: &std::path::Path| path.to_string_lossy().into_owned();
    write_all([Line::Head(Head {
        version: VERSION,
        command: request.task.name(),
        sources: request.places.sources.iter().map(|path| shown(path)).collect(),
        destination: shown(&request.places.destination),
        dry_run,
    })])
}

pub(super) fn plan(plan: &Plan) -> io::Result<()> {
    let steps = plan.steps().map(|placed| Line::Step(step(&placed, None)));
    let found = notes(plan).chain(steps).chain(problems(plan)).chain(rules(plan));
    write_all(found.chain([totals(plan, None, 0)]))
}

fn rules(plan: &Plan) -> impl Iterator<Item = Line> {
    plan.decided.iter().cloned().map(|Decided { rule, taken, left_out, kept }| {
        Line::Rule(Ruled { rule, taken, left_out, kept })
    })
}

pub(super) fn refusal(refusal: &Refusal) -> io::Result<()> {
    write_all([Line::Problem(Problem {
        path: None,
        operation: "guard",
        cause: refusal.to_string().replace("\n  ", "; "),
        guard: Some(refusal.guard().name()),
    })])
}

pub(super) fn outcome(plan: &Plan, outcome: &Outcome, took: Took) -> io::Result<()> {
    let steps = plan.steps().map(|placed| {
        let became = match outcome.of(placed.number) {
            StepOutcome::Done => "done",
            StepOutcome::Failed => "failed",
            StepOutcome::Overtaken => "overtaken",
            StepOutcome::NotReached => "not-reached",
        };
        Line::Step(step(&placed, Some(became)))
    });
    let run = Run {
        done: verbs(|verb| outcome.done(verb)),
        bytes_written: outcome.bytes_written,
        seconds: (took.planning + took.applying).as_secs_f64(),
        ending: match outcome.ending {
            Ending::Complete => "complete",
            Ending::Stopped => "stopped",
            Ending::Early(_) => "early",
        },
        set_aside: outcome.set_aside.as_ref().map(|path| path.to_string_lossy().into_owned()),
    };
    let own_problems = outcome.problems.iter().map(Line::from);
    let end = totals(plan, Some(run), outcome.problems.len());
    write_all(steps.chain(problems(plan)).chain(own_problems).chain([end]))
}

pub(super) fn verdict(plan: &Plan, listing: Listing, request: &Request) -> io::Result<()> {
    let mut listed = [0; Verb::ALL.len()];
    let limit = listing.limit.unwrap_or(usize::MAX);
    let within_limit = |placed: &PlacedStep<'_>| {
        let count = &mut listed[placed.step.verb as usize];
        *count += 1;
        *count <= limit
    };
    let differences = plan.steps().filter(within_limit);
    let differences = differences.map(|placed| Line::Difference(step(&placed, None)));
    let suggestion = (listing.suggest && !plan.is_empty())
        .then(|| Line::Suggestion { command: suggest::command(plan, request) });
    let found = notes(plan).chain(differences).chain(problems(plan)).chain(rules(plan));
    write_all(found.chain(suggestion).chain([totals(plan, None, 0)]))
}

fn step(placed: &PlacedStep<'_>, outcome: Option<&'static str>) -> Step {
    Step {
        verb: placed.step.verb.name(),
        r#type: words::kind(placed.step.kind()),
        path: (&placed.path).into(),
        bytes: placed.step.bytes(),
        reason: words::reason(placed),
        was: placed.was.as_ref().map(|was| String::from_utf8_lossy(was.as_bytes()).into_owned()),
        outcome,
    }
}

fn problems(plan: &Plan) -> impl Iterator<Item = Line> {
    plan.problems.iter().map(Line::from)
}

pub(super) fn problems_alone(problems: &[problem::Problem]) -> io::Result<()> {
    write_all(problems.iter().map(Line::from))
}

/// Something worth knowing in the middle of a run.
pub(super) fn note(about: &'static str, text: String) -> io::Result<()> {
    write_all([Line::Note(Note { about, text })])
}

/// Before the run: whoever reads along should know in time.
pub(super) fn notes_first(plan: &Plan) -> io::Result<()> {
    write_all(notes(plan))
}

fn notes(plan: &Plan) -> impl Iterator<Item = Line> {
    plan.notes
        .iter()
        .map(|note| Line::Note(Note { about: words::note_id(note), text: words::note(note) }))
}

fn verbs(count: impl Fn(Verb) -> Count) -> Verbs {
    Verbs {
        add: count(Verb::Add).into(),
        replace: count(Verb::Replace).into(),
        adjust: count(Verb::Adjust).into(),
        rename: count(Verb::Rename).into(),
        remove: count(Verb::Remove).into(),
    }
}

fn totals(plan: &Plan, run: Option<Run>, run_problems: usize) -> Line {
    let totals = &plan.totals;
    Line::Totals(Box::new(Totals {
        planned: verbs(|verb| totals.of(verb)),
        unchanged: totals.unchanged.into(),
        spared_newer: totals.spared_newer,
        held_back: totals.held_back,
        sampled: (totals.sampled.entries > 0).then(|| totals.sampled.into()),
        source: totals.source.into(),
        destination: totals.destination.into(),
        problems: plan.problems.len() + run_problems,
        run,
    }))
}

fn write_all(lines: impl IntoIterator<Item = Line>) -> io::Result<()> {
    let mut out = io::BufWriter::new(streams::raw_out());
    for line in lines {
        serde_json::to_writer(&mut out, &line)?;
        out.write_all(b"\n")?;
    }
    out.flush()
}
