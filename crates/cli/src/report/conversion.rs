//! Converting the results of the core to events.

use std::fmt::Display;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::drives::{self, CaseFolding, Feature, Features};
use utter_echo_core::explain::{self, RuleTally, Survey};
use utter_echo_core::guard::Refusal;
use utter_echo_core::os::Kind;
use utter_echo_core::plan::{self, Count, NotHeld, PlacedStep, Plan, Reason, Tally};
use utter_echo_core::problem;
use utter_echo_core::request::{CompareBy, Places, Request, Task};
use utter_echo_core::select::RuleSummary;
use utter_echo_core::{self as core, Overview, StepOutcome};

use crate::exit::Exit;
use crate::location::Location;
use crate::report::events::{
    Amount, CommandWord, DifferenceLine, DriveLine, EndingWord, EntryType, Event, ExplainedLine,
    FoundLine, Head, Holds, Letters, NoteLine, OutcomeWord, ParticipationWord, Planned,
    ProblemLine, RuleLine, RunOutcome, RunTotals, Says, Selected, SetAsideRunLine, SideTotals,
    SideWord, StandingWord, StateWord, StepLine, Suggestion, TotalsLine, VerbTotals, VerbWord,
    VerdictLine, Word,
};
use crate::report::exact::Sources;
use crate::report::wording;
use crate::run_name;
use crate::signals::Stop;
use crate::terminal::names;

/// How long a run took, without the time of questions.
#[derive(Clone, Copy)]
pub(crate) struct Took {
    pub(crate) planning: Duration,
    /// Including reading back.
    pub(crate) executing: Duration,
    pub(crate) reading_back: Duration,
}

impl Head {
    /// The head of a command whose places were named in the call.
    pub(crate) fn called(
        command: CommandWord,
        sources: &[Location],
        destination: &Location,
        dry_run: bool,
    ) -> Self {
        let shown = |place: &Location| names::path(place.typed());
        let typed: Vec<_> = sources.iter().map(shown).collect();
        let sources: Vec<PathBuf> = sources.iter().map(Location::now).collect();
        Self {
            dry_run,
            sources: Sources::from(&*sources),
            destination: Some((&*destination.now()).into()),
            typed_places: Some(format!("{} → {}", typed.join(", "), shown(destination))),
            ..Self::new(command)
        }
    }

    /// The head of a command with a request, whose places are known without a name.
    pub(crate) fn of(request: &Request, dry_run: bool) -> Self {
        let Places { sources, destination, .. } = &request.places;
        let shown = |place: &PathBuf| names::path(place);
        let typed: Vec<_> = sources.iter().map(shown).collect();
        Self {
            dry_run,
            sources: Sources::from(&**sources),
            destination: Some((&**destination).into()),
            typed_places: Some(format!("{} → {}", typed.join(", "), shown(destination))),
            ..Self::new(request.task.into())
        }
    }

    /// The head of a saved plan.
    pub(crate) fn executing(self, plan: &Path) -> Self {
        Self { command: CommandWord::Execute, plan: Some(plan.into()), ..self }
    }
}

impl From<Task> for CommandWord {
    fn from(task: Task) -> Self {
        match task {
            Task::Copy => Self::Copy,
            Task::Mirror => Self::Mirror,
            Task::Verify => Self::Verify,
            Task::Undo => Self::Undo,
            Task::Move => Self::Move,
        }
    }
}

/// The steps of a plan that is not carried out, without its totals.
pub(crate) fn plan(plan: &Plan) -> impl Iterator<Item = Event> {
    let steps = plan.steps().map(|placed| step(&placed, None));
    notes(plan).chain(steps).chain(problems(&plan.problems)).chain(rules(plan))
}

/// The notes before a plan is carried out.
pub(crate) fn notes(plan: &Plan) -> impl Iterator<Item = Event> {
    let newer = Some(plan.newer_replaced()).filter(|newer| *newer > 0);
    let newer = newer.map(|newer| Event::note("newer-replaced", wording::newer_replaced(newer)));
    plan_notes(plan).chain(newer)
}

fn plan_notes(plan: &Plan) -> impl Iterator<Item = Event> {
    plan.notes.iter().map(|note| {
        let path = wording::note_path(note).map(Into::into);
        Event::Note(NoteLine {
            code: wording::note_id(note).into(),
            path,
            text: wording::note(note),
        })
    })
}

/// A refused plan.
pub(crate) fn refused(refusal: &Refusal, has_begun: bool) -> Event {
    let told = refusal.to_string();
    let (cause, advice) = told.split_once("\n  ").unwrap_or((&told, ""));
    let lines =
        [advice, nothing_was_touched(has_begun)].into_iter().filter(|line| !line.is_empty());
    let (cause, advice) = (cause.to_owned(), Some(lines.collect::<Vec<_>>().join("\n")));
    let (operation, guard) = ("guard".into(), Some(refusal.guard().name().into()));
    Event::Problem(ProblemLine { path: None, operation, cause, advice, guard })
}

/// The outcome of each step of a run.
pub(crate) fn steps_taken(plan: &Plan, outcome: &core::Outcome) -> impl Iterator<Item = Event> {
    let steps = plan.steps().map(|placed| step(&placed, Some(outcome.of(placed.number))));
    problems(&plan.problems).chain(problems(&outcome.problems)).chain(steps)
}

/// The totals of a run.
pub(crate) fn totals_of_run(plan: &Plan, outcome: &core::Outcome, took: Took) -> TotalsLine {
    let run = RunTotals {
        done: VerbTotals::of(|verb| outcome.done(verb)),
        bytes_written: outcome.bytes_written,
        seconds: (took.planning + took.executing).as_secs_f64(),
        seconds_writing: took.executing.saturating_sub(took.reading_back).as_secs_f64(),
        seconds_reading_back: took.reading_back.as_secs_f64(),
        ending: match outcome.ending {
            core::Ending::Complete => EndingWord::Complete,
            core::Ending::Stopped => EndingWord::Stopped,
            core::Ending::Early(_) => EndingWord::Early,
        },
        set_aside: outcome.set_aside.as_deref().map(Into::into),
        journal_only: outcome.journal_only,
    };
    let totals = totals(plan, plan.problems.len() + outcome.problems.len());
    TotalsLine { run: Some(run), ..totals }
}

impl TotalsLine {
    /// Of two commands of a job.
    pub(crate) fn after(self, other: Self) -> Self {
        let run = match (self.run, other.run) {
            (Some(run), Some(other)) => Some(run.after(other)),
            (run, other) => run.or(other),
        };
        Self { run, problems: self.problems + other.problems, ..TotalsLine::default() }
    }
}

impl RunTotals {
    /// Added to what the same run did before.
    pub(crate) fn after(self, earlier: Self) -> Self {
        Self {
            done: self.done.with(&earlier.done),
            bytes_written: self.bytes_written + earlier.bytes_written,
            seconds: self.seconds + earlier.seconds,
            seconds_writing: self.seconds_writing + earlier.seconds_writing,
            seconds_reading_back: self.seconds_reading_back + earlier.seconds_reading_back,
            set_aside: self.set_aside.or(earlier.set_aside),
            ..self
        }
    }
}

fn nothing_was_touched(has_begun: bool) -> &'static str {
    if has_begun { "finished files are intact" } else { "nothing was touched" }
}

/// A declined plan.
pub(crate) fn declined(why: &str, has_begun: bool) -> Event {
    let advice = Some(nothing_was_touched(has_begun).to_owned());
    let (operation, cause) = ("ask".into(), why.to_owned());
    Event::Problem(ProblemLine { path: None, operation, cause, advice, guard: None })
}

/// Why a run ended early.
pub(crate) fn ending(plan: &Plan, outcome: &core::Outcome, stop: Option<Stop>) -> Option<Event> {
    let (cause, advice) = match &outcome.ending {
        core::Ending::Complete => return None,
        core::Ending::Stopped => return Some(stopped(stop.unwrap_or(Stop::Terminated))),
        core::Ending::Early(cause) if cause.is_full() && plan.totals.steps.remove.bytes > 0 => (
            format!("ended early: {cause}"),
            "free some space, or use --remove-first, and run the same command again",
        ),
        core::Ending::Early(cause) => {
            (format!("ended early: {cause}"), "fix the cause and run the same command again")
        }
    };
    Some(ended(cause, advice))
}

/// A run that was told to stop.
pub(crate) fn stopped(stop: Stop) -> Event {
    let cause = match stop {
        Stop::Interrupted | Stop::Terminated => "stopped",
        Stop::HoursOver => "ended early: the hours of --within are over",
    };
    ended(cause.to_owned(), "run the same command again to continue")
}

/// Why a run that waited for its drive ends.
pub(crate) fn gave_up(error: &anyhow::Error) -> Event {
    ended(format!("cannot continue: {error:#}"), "fix the cause and run the same command again")
}

fn ended(cause: String, advice: &str) -> Event {
    let advice = Some(format!("finished files are intact; {advice}"));
    Event::Problem(ProblemLine { path: None, operation: "run".into(), cause, advice, guard: None })
}

/// The events of a verification, with at most so many differences of each state.
pub(crate) fn verdict<'a>(
    plan: &'a Plan,
    request: &Request,
    limit: Option<usize>,
    suggestion: Option<String>,
) -> impl Iterator<Item = Event> + 'a {
    let limit = limit.unwrap_or(usize::MAX);
    let differences = STATES.into_iter().flat_map(move |(verb, state)| {
        let of_it = plan.steps().filter(move |placed| placed.step.verb == verb);
        let differences = plan.totals.of(verb).entries;
        let listed = differences.min(limit as u64);
        let found = (differences > 0).then_some(FoundLine { state, differences, listed });
        let each = of_it.take(limit).map(move |placed| difference(&placed, state));
        found.map(Event::Found).into_iter().chain(each)
    });
    let suggestion = suggestion.map(|command| Event::Suggestion(Suggestion { command }));
    let verdict = Some(VerdictLine::of(plan, request));
    let end = TotalsLine { verdict, ..totals(plan, plan.problems.len()) };
    let found = plan_notes(plan).chain(problems(&plan.problems)).chain(differences);
    found.chain(rules(plan)).chain(suggestion).chain([end.into()])
}

/// The states in printed order, each with what a mirror would do.
const STATES: [(plan::Verb, StateWord); 5] = [
    (plan::Verb::Add, StateWord::Missing),
    (plan::Verb::Remove, StateWord::Extra),
    (plan::Verb::Rename, StateWord::Moved),
    (plan::Verb::Replace, StateWord::Differs),
    (plan::Verb::Adjust, StateWord::Attributes),
];

impl VerdictLine {
    fn of(plan: &Plan, request: &Request) -> Self {
        let held = plan.notes.iter().find_map(|note| match note {
            plan::Note::NotHeld(not_held) => Some(*not_held),
            _ => None,
        });
        let left_out = |held: NotHeld| held.links + held.fifos + held.devices;
        Self {
            result: match plan.is_empty() {
                _ if !plan.problems.is_empty() => Says::NotProven,
                true => Says::Identical,
                false => Says::Different,
            },
            compared: compared(request, held.map_or(Attributes::NONE, |held| held.attributes)),
            not_held: held.map_or(0, left_out),
            sampled: (plan.totals.sampled.entries > 0).then(|| plan.totals.sampled.into()),
            content_differs: plan
                .steps()
                .any(|placed| matches!(placed.step.reason, Reason::Content { .. })),
        }
    }
}

/// The attributes that a verification compared.
fn compared(request: &Request, not_held: Attributes) -> Vec<Word> {
    let content = match request.changed.by {
        CompareBy::SizeTime | CompareBy::Size => "size",
        CompareBy::Content => "content",
        CompareBy::Presence => return vec!["presence".into()],
    };
    let is_compared = |attribute: &Attribute| {
        // Holes are not compared, and content is named with how it was compared.
        !matches!(attribute, Attribute::Content | Attribute::Holes) && !not_held.has(*attribute)
    };
    let content = request.carry.has(Attribute::Content).then_some(content);
    let carried = request.carry.iter().filter(is_compared).map(Attribute::name);
    content.into_iter().chain(carried).map(Into::into).collect()
}

/// Each path with the rule that decided.
pub(crate) fn explained(explained: &[explain::Explained]) -> impl Iterator<Item = Event> {
    let one = |one: &explain::Explained| {
        Event::Path(ExplainedLine {
            path: (&one.path).into(),
            entry: one.kind.map(Into::into),
            decision: match one.fate {
                explain::Participation::Taken => ParticipationWord::Taken,
                explain::Participation::IfNeeded => ParticipationWord::IfNeeded,
                explain::Participation::LeftOut => ParticipationWord::LeftOut,
            },
            rule: one.rule.clone(),
            decided_by_folder: one.at.as_ref().map(Into::into),
        })
    };
    explained.iter().map(one).chain([TotalsLine::default().into()])
}

/// What each rule decided over a whole source.
pub(crate) fn survey(survey: &Survey) -> impl Iterator<Item = Event> {
    let rule = |RuleTally { rule, leaves_out, count }: &RuleTally| {
        let (taken, left_out) = if *leaves_out { (0, count.entries) } else { (count.entries, 0) };
        let (rule, bytes) = (rule.clone(), Some(count.bytes));
        Event::Rule(RuleLine { rule, taken, left_out, left_in_destination: 0, bytes })
    };
    let selection = Some(Selected { taken: survey.taken.into(), left_out: survey.left_out.into() });
    let problem_count = survey.problems.len() as u64;
    let end = TotalsLine { problems: problem_count, selection, ..TotalsLine::default() };
    problems(&survey.problems).chain(survey.rules.iter().map(rule)).chain([end.into()])
}

/// Mounted drives.
pub(crate) fn drives(drives: &[drives::Drive]) -> impl Iterator<Item = Event> {
    let end = TotalsLine { listed: Some(drives.len() as u64), ..TotalsLine::default() };
    drives.iter().map(|drive| Event::Drive(drive.into())).chain([end.into()])
}

/// Runs with set-aside entries.
pub(crate) fn past_runs(runs: &[Overview]) -> impl Iterator<Item = Event> {
    let end = TotalsLine { listed: Some(runs.len() as u64), ..TotalsLine::default() };
    runs.iter().map(|run| Event::SetAsideRun(run.into())).chain([end.into()])
}

/// A problem with a job.
pub(crate) fn wrong_job(wrong: &dyn Display) -> Event {
    of_a_job(&wrong.to_string())
}

/// A job with wrong places or rules.
pub(crate) fn job_that_fails(name: &str, error: &anyhow::Error) -> Event {
    of_a_job(&format!("job '{name}': {error:#}"))
}

/// Two jobs that write to one place.
pub(crate) fn shared_destination(name: &str, other: &str, place: &Path) -> Event {
    let place = names::path(place);
    of_a_job(&format!(
        "jobs '{name}' and '{other}' both write to '{place}'\n  give one another destination, or set shares-destination = true in both (for copies only)"
    ))
}

fn of_a_job(told: &str) -> Event {
    let (cause, advice) = told.split_once("\n  ").map_or((told, None), |(a, b)| (a, Some(b)));
    let (cause, advice) = (cause.to_owned(), advice.map(|advice| advice.replace("\n  ", "\n")));
    Event::Problem(ProblemLine { path: None, operation: "job".into(), cause, advice, guard: None })
}

/// Problems alone.
pub(crate) fn problems(problems: &[problem::Problem]) -> impl Iterator<Item = Event> {
    problems.iter().map(|problem| {
        Event::Problem(ProblemLine {
            path: Some((&problem.path).into()),
            operation: problem.operation.id().into(),
            cause: problem.cause.to_string(),
            advice: None,
            guard: None,
        })
    })
}

impl Event {
    pub(crate) fn note(code: &'static str, text: String) -> Self {
        Self::Note(NoteLine { code: code.into(), path: None, text })
    }
}

impl From<TotalsLine> for Event {
    fn from(totals: TotalsLine) -> Self {
        Self::Totals(Box::new(totals))
    }
}

fn rules(plan: &Plan) -> impl Iterator<Item = Event> {
    plan.decided.iter().cloned().map(
        |RuleSummary { rule, taken, left_out, kept: left_in_destination }| {
            Event::Rule(RuleLine { rule, taken, left_out, left_in_destination, bytes: None })
        },
    )
}

fn step(placed: &PlacedStep<'_>, outcome: Option<StepOutcome>) -> Event {
    Event::Step(StepLine::of(placed, outcome))
}

impl StepLine {
    /// The steps of a plan with their outcomes.
    pub(crate) fn of(placed: &PlacedStep<'_>, outcome: Option<StepOutcome>) -> Self {
        Self {
            verb: placed.step.verb.into(),
            side: (placed.step.verb == plan::Verb::RemoveSource).then_some(SideWord::Source),
            entry: placed.step.kind().into(),
            path: (&placed.path).into(),
            was: placed.was.as_ref().map(Into::into),
            link_of: placed.linked_to.as_ref().map(Into::into),
            bytes: placed.step.bytes(),
            reason: wording::reason(placed),
            outcome: outcome.map(|outcome| match outcome {
                StepOutcome::Done => OutcomeWord::Done,
                StepOutcome::Failed => OutcomeWord::Failed,
                StepOutcome::Stale => OutcomeWord::Stale,
                StepOutcome::NotReached => OutcomeWord::NotReached,
            }),
        }
    }
}

fn difference(placed: &PlacedStep<'_>, state: StateWord) -> Event {
    Event::Difference(DifferenceLine {
        state,
        entry: placed.step.kind().into(),
        path: (&placed.path).into(),
        was: placed.was.as_ref().map(Into::into),
        bytes: placed.step.bytes(),
        reason: match state {
            StateWord::Missing => "only in the source".to_owned(),
            StateWord::Extra => "only in the destination".to_owned(),
            StateWord::Moved | StateWord::Differs | StateWord::Attributes => {
                wording::reason(placed)
            }
        },
    })
}

/// What a plan holds.
pub(crate) fn totals(plan: &Plan, problems: usize) -> TotalsLine {
    let totals = &plan.totals;
    let planned = Planned {
        steps: VerbTotals::of(|verb| totals.of(verb)),
        unchanged: totals.unchanged.into(),
        left_newer: totals.left_newer,
        held_back: totals.held_back,
        source: totals.source.into(),
        destination: totals.destination.into(),
    };
    TotalsLine { problems: problems as u64, plan: Some(planned), ..TotalsLine::default() }
}

impl VerbTotals {
    fn of(count: impl Fn(plan::Verb) -> Count) -> Self {
        Self {
            add: count(plan::Verb::Add).into(),
            replace: count(plan::Verb::Replace).into(),
            adjust: count(plan::Verb::Adjust).into(),
            rename: count(plan::Verb::Rename).into(),
            remove: count(plan::Verb::Remove).into(),
            left_source: count(plan::Verb::RemoveSource).into(),
        }
    }
}

impl VerbTotals {
    fn with(&self, other: &Self) -> Self {
        let sum = |a: Amount, b: Amount| Amount {
            entries: a.entries + b.entries,
            bytes: a.bytes + b.bytes,
        };
        Self {
            add: sum(self.add, other.add),
            replace: sum(self.replace, other.replace),
            adjust: sum(self.adjust, other.adjust),
            rename: sum(self.rename, other.rename),
            remove: sum(self.remove, other.remove),
            left_source: sum(self.left_source, other.left_source),
        }
    }
}

impl From<&plan::Totals> for VerbTotals {
    fn from(totals: &plan::Totals) -> Self {
        Self::of(|verb| totals.of(verb))
    }
}

impl From<plan::Verb> for VerbWord {
    fn from(verb: plan::Verb) -> Self {
        match verb {
            plan::Verb::Add => Self::Add,
            plan::Verb::Replace => Self::Replace,
            plan::Verb::Adjust => Self::Adjust,
            plan::Verb::Rename => Self::Rename,
            plan::Verb::Remove | plan::Verb::RemoveSource => Self::Remove,
        }
    }
}

impl From<Kind> for EntryType {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::File => Self::File,
            Kind::Folder => Self::Folder,
            Kind::Symlink => Self::Symlink,
            Kind::Fifo => Self::Fifo,
            Kind::Socket => Self::Socket,
            Kind::CharDevice | Kind::BlockDevice => Self::Device,
        }
    }
}

impl From<Count> for Amount {
    fn from(count: Count) -> Self {
        Self { entries: count.entries, bytes: count.bytes }
    }
}

impl From<Tally> for SideTotals {
    fn from(tally: Tally) -> Self {
        let Tally { folders, files, links, others, bytes } = tally;
        Self { folders, files, links, others, bytes }
    }
}

impl From<&drives::Drive> for DriveLine {
    fn from(drive: &drives::Drive) -> Self {
        Self {
            mounted_at: (&*drive.mounted_at).into(),
            device: (&*drive.device).into(),
            file_system: drive.kind.clone(),
            label: drive.label.clone(),
            uuid: drive.uuid.clone(),
            bytes: drive.space.total,
            bytes_free: drive.space.bytes,
            writable: drive.writable,
            holds: drive.abilities.as_ref().map(Into::into),
        }
    }
}

impl From<&Features> for Holds {
    fn from(abilities: &Features) -> Self {
        let held = Feature::ALL.into_iter().filter(|ability| abilities.holds(*ability));
        let names = &abilities.names;
        Self {
            features: held.filter_map(|a| wording::ability(a).map(Into::into)).collect(),
            flags: abilities.flags.names().map(Into::into).collect(),
            time_resolution_nanoseconds: abilities.grain,
            forbidden_in_names: names.forbidden.clone(),
            names_without_control_characters: names.no_control,
            names_letters: match names.letters {
                drives::NameBytes::Any => Letters::Any,
                drives::NameBytes::Utf8 => Letters::Utf8,
                drives::NameBytes::Ascii => Letters::Ascii,
            },
            names_no_trailing_dot_or_space: names.firm_end,
            names_case_insensitive: names.folding != CaseFolding::Never,
            largest_file: abilities.largest_file,
        }
    }
}

impl From<&Overview> for SetAsideRunLine {
    fn from(run: &Overview) -> Self {
        let about = run.known.as_ref().ok().and_then(|(_, about)| about.as_ref());
        let destination = about.map(core::RunSummary::destination);
        Self {
            path: (&*run.path).into(),
            began: began(&run.name).map(|began| began.to_string()),
            state: run.known.as_ref().map_or(StandingWord::Unreadable, |(standing, _)| {
                match standing {
                    core::Standing::NeverBegun => StandingWord::NeverBegun,
                    core::Standing::CutShort => StandingWord::CutShort,
                    core::Standing::Complete => StandingWord::Complete,
                    core::Standing::BeingUndone => StandingWord::BeingUndone,
                    core::Standing::Undone => StandingWord::Undone,
                }
            }),
            cause: run.known.as_ref().err().cloned(),
            command: about.map(|about| about.task.name().into()),
            destination: destination.as_deref().map(Into::into),
            replaced: about.map(|about| about.replaced.into()),
            removed: about.map(|about| about.removed.into()),
            bytes_on_drive: run.room,
        }
    }
}

impl RunOutcome {
    /// Of a run that ended with this.
    pub(crate) fn after(exit: Exit) -> Self {
        match exit {
            Exit::Done => Self::Succeeded,
            Exit::Different => Self::Different,
            Exit::Problems | Exit::CutOff => Self::Problems,
            Exit::WrongCall => Self::Invalid,
            Exit::Refused => Self::Refused,
            Exit::EndedEarly => Self::EndedEarly,
            Exit::DriveMissing => Self::DriveMissing,
            Exit::Interrupted | Exit::Terminated => Self::Stopped,
        }
    }
}

/// The start of a run, from its name.
fn began(name: &str) -> Option<Timestamp> {
    const LENGTH: usize = "0000-00-00T00-00-00Z".len();
    let time = DateTime::strptime(run_name::FORM, name.get(..LENGTH)?).ok()?;
    time.to_zoned(TimeZone::UTC).ok().map(|zoned| zoned.timestamp())
}
