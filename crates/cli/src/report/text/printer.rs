//! Printing events as text, and the totals at the end.

use crate::report::events::{
    CommandWord, EntryType, Event, Head, NoteLine, OutcomeWord, ProblemLine, RuleLine, StepLine,
    TotalsLine, VerbWord,
};
use crate::report::sink::Sink;
use crate::report::text::page::Page;
use crate::report::text::phrases::left_out;
use crate::report::text::styles::{BAD, FAINT, HEADING, style_of};
use crate::report::wording;
use crate::terminal::names;
use crate::terminal::streams;

/// Prints events as they come, and the totals at the end.
pub(crate) struct Text {
    pub(super) page: Box<dyn Page>,
    pub(super) command: CommandWord,
    /// "saltmere → keeper"
    pub(super) places: String,
    pub(super) dry_run: bool,
    pub(super) listed: ListedSteps,
    /// The events are those of a past run.
    pub(super) is_past: bool,
    /// Printed with the totals after a long list.
    pub(super) kept: HeldText,
    /// Differences still to be listed, and those beyond the limit.
    pub(super) unlisted: (u64, u64),
    pub(super) lines: u64,
}

/// The steps that are being listed.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum ListedSteps {
    None,
    Destination,
    /// Below their heading.
    Source,
}

/// Held back until the totals.
#[derive(Default)]
pub(super) struct HeldText {
    pub(super) notes: Vec<String>,
    pub(super) left_out: Vec<String>,
    pub(super) idle: Vec<String>,
    pub(super) suggestion: Option<String>,
    pub(super) jobs: Vec<Vec<String>>,
    pub(super) unwell: Vec<String>,
    pub(super) installed: bool,
    pub(super) runs: Vec<[String; 8]>,
    /// Printed before the events of a past run.
    pub(super) past: Option<Vec<String>>,
    pub(super) bytes_on_drive: u64,
}

impl Text {
    pub(crate) fn new(head: &Head, verbose: bool, page: Box<dyn Page>) -> Self {
        let mut text = Self {
            page,
            command: head.command,
            places: String::new(),
            dry_run: false,
            listed: if head.dry_run || verbose {
                ListedSteps::Destination
            } else {
                ListedSteps::None
            },
            is_past: false,
            kept: HeldText::default(),
            unlisted: (0, 0),
            lines: 0,
        };
        text.take_head(head);
        text
    }

    pub(super) fn take_head(&mut self, head: &Head) {
        let destination = head.destination.as_ref().map(|place| format!(" → {}", place.shown()));
        self.command = head.command;
        let places = || head.sources.shown() + &destination.unwrap_or_default();
        self.places = head.typed_places.clone().unwrap_or_else(places);
        self.dry_run = head.dry_run;
    }

    /// A heading where many runs follow one another.
    pub(crate) fn begin(&mut self) {
        let (command, places) = (self.command.word(), &self.places);
        let dry_run = if self.dry_run { " (dry run)" } else { "" };
        self.page.line(&format!("--- utter {command} {places}{dry_run}"));
    }

    pub(crate) fn end_with(&mut self, error: &anyhow::Error) {
        self.page.wrong(&format!("{error:#}"));
    }

    pub(super) fn line(&mut self, line: &str) {
        self.lines += 1;
        self.page.line(line);
    }

    pub(super) fn note(&mut self, NoteLine { text, .. }: &NoteLine) {
        let line = format!("{FAINT}note: {}{FAINT:#}", names::harmless(text));
        // It would scroll away above a long list.
        if self.dry_run || self.command == CommandWord::Verify {
            self.kept.notes.push(line);
        } else {
            self.line(&line);
        }
    }

    pub(super) fn rule(&mut self, rule: &RuleLine) {
        if self.command == CommandWord::Explain {
            return self.ruled(rule);
        }
        self.kept.left_out.extend(left_out(rule));
    }

    pub(super) fn totals(&mut self, totals: &TotalsLine) {
        match self.command {
            CommandWord::History => return self.history(totals),
            CommandWord::Status => return self.status(totals),
            CommandWord::Schedule => return self.schedule(totals),
            _ => {}
        }
        if let Some(selected) = &totals.selection {
            self.selected(selected);
        }
        if totals.listed.is_some_and(|listed| listed > 0) && self.command == CommandWord::Undo {
            self.past_runs(totals.listed.unwrap_or_default());
        }
        if matches!(self.command, CommandWord::Jobs | CommandWord::Run) {
            self.jobs(totals);
        }
        let Some(plan) = &totals.plan else { return };
        match (&totals.run, &totals.verdict) {
            (Some(run), _) => self.ran(plan, run, totals.problems),
            (_, Some(verdict)) => self.verdict(plan, verdict, totals.problems),
            (None, None) if self.dry_run => self.planned(plan, totals.problems),
            (None, None) => {}
        }
    }

    /// Steps in the source come last, below a heading.
    fn step(&mut self, step: &StepLine) {
        if step.side.is_some() && self.listed == ListedSteps::Destination {
            self.listed = ListedSteps::Source;
            // An undo lists its own removals, or with --show those of the run that it would undo.
            let heading = match self.command {
                CommandWord::Undo => "Once its copy is verified:",
                _ => "From the source, once its copy is verified:",
            };
            self.line(&format!("{HEADING}{heading}{HEADING:#}"));
        }
        self.line(&step_line(step));
    }

    pub(super) fn print_held(&mut self, lines: fn(&mut HeldText) -> &mut Vec<String>) {
        for line in std::mem::take(lines(&mut self.kept)) {
            self.line(&line);
        }
    }
}

impl Sink for Text {
    fn show(&mut self, event: &Event) {
        match event {
            Event::Note(note) => self.note(note),
            Event::Step(step) if self.listed != ListedSteps::None => self.step(step),
            Event::Head(head)
                if self.command == CommandWord::History && head.command != CommandWord::History =>
            {
                self.replay(head);
            }
            Event::Head(_) | Event::Step(_) | Event::RunStarted(_) | Event::RunEnded(_) => {}
            Event::Difference(difference) => self.difference(difference),
            Event::Found(found) => self.found(found),
            Event::Problem(problem) if self.is_past => {
                self.line(&format!(
                    "{BAD}problem{BAD:#}  {}",
                    names::harmless(&problem_text(problem))
                ));
            }
            Event::Problem(problem) => self.page.wrong(&problem_text(problem)),
            Event::Rule(rule) => self.rule(rule),
            Event::Suggestion(line) if self.command == CommandWord::Jobs => {
                self.line(&line.command);
            }
            Event::Suggestion(suggestion) => {
                self.kept.suggestion = Some(suggestion.command.clone());
            }
            Event::Path(explained) => self.explained(explained),
            Event::Drive(drive) => self.drive(drive),
            Event::SetAsideRun(run) => self.past_run(run),
            Event::Job(job) => self.job(job),
            Event::JobResult(ran) => self.job_ran(ran),
            Event::JobStatus(job) => self.job_stands(job),
            Event::Scheduled(job) => self.scheduled(job),
            Event::PastRun(run) => self.recorded(run),
            Event::PathHistory(happened) => self.happened(happened),
            Event::Totals(totals) => self.totals(totals),
        }
    }

    fn flush(&mut self) {
        self.page.flush();
    }
}

/// Verb, path, size and reason of a step, and its outcome unless done.
pub(crate) fn step_line(step: &StepLine) -> String {
    let style = style_of(step);
    let word = step.verb.word();
    let has_size = step.entry == EntryType::File
        && !matches!(step.verb, VerbWord::Adjust | VerbWord::Rename)
        && step.link_of.is_none();
    let size = if has_size {
        format!(" {FAINT}·{FAINT:#} {}", crate::terminal::units::bytes(step.bytes))
    } else {
        String::new()
    };
    let became = match step.outcome {
        None | Some(OutcomeWord::Done) => String::new(),
        Some(other) => format!(" {BAD}{}{BAD:#}", other.word().replace('-', " ")),
    };
    let (path, reason) = (step.path.shown(), &step.reason);
    format!("{style}{word:<8}{style:#} {path}{size} {FAINT}· {reason}{FAINT:#}{became}")
}

/// A problem goes to stderr.
pub(crate) fn problem(problem: &ProblemLine) {
    streams::print_wrong(&problem_text(problem));
}

/// The path, what and why, and then what to do next.
fn problem_text(problem: &ProblemLine) -> String {
    let ProblemLine { path, operation, cause, advice, guard } = problem;
    let place = path.as_ref().map(|path| format!("{}: ", path.shown())).unwrap_or_default();
    let what = match guard {
        Some(guard) => format!("the guard '{guard}' refuses the plan: "),
        None => wording::operation(operation).map(|words| format!("{words}: ")).unwrap_or_default(),
    };
    let mut text = format!("{place}{what}{cause}");
    for line in advice.iter().flat_map(|advice| advice.lines()) {
        text += "\n  ";
        text += line.trim_start();
    }
    text
}
