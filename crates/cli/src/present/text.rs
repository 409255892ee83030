//! Text for people.

use std::io::{self, Write};
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use utter_echo_core::aspect::{Aspect, Aspects};
use utter_echo_core::plan::{Count, Note, PlacedStep, Plan, Reason, Totals, Verb};
use utter_echo_core::problem::Problem;
use utter_echo_core::request::{By, Request, Task};
use utter_echo_core::select::Decided;
use utter_echo_core::{Ending, Outcome, StepOutcome};

use super::{Listing, Took, names, streams, units, words};

const HEADING: Style = Style::new().bold();
const FAINT: Style = Style::new().dimmed();
const GOOD: Style = AnsiColor::Green.on_default().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();

fn style_of(verb: Verb) -> Style {
    match verb {
        // Each legible on dark and on light.
        Verb::Add => AnsiColor::Green.on_default(),
        Verb::Replace => AnsiColor::Magenta.on_default(),
        Verb::Adjust => AnsiColor::BrightBlue.on_default(),
        Verb::Rename => HEADING,
        Verb::Remove => AnsiColor::Red.on_default().bold(),
    }
}

/// A plan, a line a step, its totals at the end.
pub(super) fn plan(plan: &Plan, request: &Request, quiet: bool) -> io::Result<()> {
    problems(&plan.problems)?;
    if quiet {
        return Ok(());
    }
    let mut out = io::BufWriter::new(streams::out());
    for placed in plan.steps() {
        step_line(&mut out, &placed, None)?;
    }
    if !plan.is_empty() {
        writeln!(out)?;
    }
    notes(&mut out, plan)?;
    let what = request.task.name();
    writeln!(out, "{HEADING}Plan to {what}{HEADING:#} {}", places(request))?;
    writeln!(out, "{}", plan_totals(plan))?;
    left_as_it_is(&mut out, plan)?;
    left_out(&mut out, plan)?;
    problem_count(&mut out, plan.problems.len())?;
    writeln!(out, "Dry run: nothing was touched.")?;
    out.flush()
}

/// Verb, path, size and reason of a step, and what became of it if that is not what it should.
pub(super) fn step_line(
    out: &mut impl Write,
    placed: &PlacedStep<'_>,
    outcome: Option<StepOutcome>,
) -> io::Result<()> {
    let step = placed.step;
    let style = style_of(step.verb);
    write!(
        out,
        "{style}{:<8}{style:#} {}",
        step.verb.name(),
        names::shown(placed.path.as_bytes())
    )?;
    if step.kind() == utter_echo_core::os::Kind::File
        && step.verb != Verb::Adjust
        && placed.linked_to.is_none()
    {
        write!(out, " {FAINT}·{FAINT:#} {}", units::bytes(step.bytes()))?;
    }
    write!(out, " {FAINT}· {}{FAINT:#}", words::reason(placed))?;
    match outcome {
        Some(StepOutcome::Failed) => write!(out, " {BAD}failed{BAD:#}")?,
        Some(StepOutcome::Overtaken) => write!(out, " {BAD}overtaken{BAD:#}")?,
        Some(StepOutcome::NotReached) => write!(out, " {BAD}not reached{BAD:#}")?,
        Some(StepOutcome::Done) | None => {}
    }
    writeln!(out)
}

/// One line: how much of each kind of step, and what stays.
pub(super) fn plan_totals(plan: &Plan) -> String {
    let totals = &plan.totals;
    let part = |count: Count, what: &str, with_bytes: bool| {
        let bytes =
            if with_bytes { format!(" ({})", units::bytes(count.bytes)) } else { String::new() };
        (count.entries > 0).then(|| format!("{what} {}{bytes}", units::count(count.entries)))
    };
    let parts = [
        part(totals.add, "add", true),
        part(totals.replace, "replace", true),
        part(totals.adjust, "adjust", false),
        part(totals.rename, "rename", false),
        part(totals.remove, "remove", true),
    ];
    let parts: Vec<_> = parts.into_iter().flatten().collect();
    let unchanged = format!("{} unchanged", units::count(totals.unchanged.entries));
    if parts.is_empty() {
        format!("Nothing to do: {unchanged}.")
    } else if totals.unchanged.entries == 0 {
        parts.join(" · ")
    } else {
        format!("{}; {unchanged}", parts.join(" · "))
    }
}

/// Problems only, and why the run ended if it did not come through.
pub(super) fn outcome_in_brief(plan: &Plan, outcome: &Outcome) -> io::Result<()> {
    problems(&plan.problems)?;
    problems(&outcome.problems)?;
    ending(&mut streams::err(), plan, &outcome.ending)
}

/// Every step, with what became of it if it was not done.
pub(super) fn steps_taken(plan: &Plan, outcome: &Outcome) -> io::Result<()> {
    let mut out = io::BufWriter::new(streams::out());
    for placed in plan.steps() {
        step_line(&mut out, &placed, Some(outcome.of(placed.number)))?;
    }
    if !plan.is_empty() {
        writeln!(out)?;
    }
    out.flush()
}

/// The short block after a run.
pub(super) fn outcome(
    plan: &Plan,
    outcome: &Outcome,
    request: &Request,
    took: Took,
) -> io::Result<()> {
    problems(&plan.problems)?;
    problems(&outcome.problems)?;
    let mut out = io::BufWriter::new(streams::out());
    headline(&mut out, plan, outcome, request, took.planning + took.applying)?;
    for verb in Verb::ALL {
        let done = outcome.done(verb);
        if done.entries > 0 {
            let what = ["added", "replaced", "adjusted", "renamed", "removed"][verb as usize];
            done_line(&mut out, what, done, !matches!(verb, Verb::Adjust | Verb::Rename))?;
        }
    }
    if plan.totals.unchanged.entries > 0 || plan.is_empty() {
        done_line(&mut out, "unchanged", plan.totals.unchanged, true)?;
    }
    if outcome.bytes_written > 0 {
        let (bytes, rate) =
            (outcome.bytes_written, units::per_second(outcome.bytes_written, took.applying));
        writeln!(out, "  wrote      {} at {}/s", units::bytes(bytes), units::bytes(rate))?;
    }
    left_as_it_is(&mut out, plan)?;
    if let Some(run) = &outcome.set_aside {
        let shown = names::shown(run.as_os_str().as_encoded_bytes());
        let count = outcome.done(Verb::Replace).entries + outcome.done(Verb::Remove).entries;
        writeln!(out, "  set aside  {} in {shown}", units::entries(count))?;
        writeln!(out, "To take this run back: utter undo {shown}")?;
    }
    problem_count(&mut out, plan.problems.len() + outcome.problems.len())?;
    ending(&mut out, plan, &outcome.ending)?;
    out.flush()
}

fn ending(out: &mut impl Write, plan: &Plan, ending: &Ending) -> io::Result<()> {
    let cause = match ending {
        Ending::Complete => return Ok(()),
        Ending::Stopped => {
            return writeln!(
                out,
                "{BAD}Stopped.{BAD:#} What was done is whole; run the same line again to go on."
            );
        }
        Ending::Early(cause) => cause,
    };
    let gives_room = cause.is_full() && plan.totals.remove.bytes > 0;
    let hint = if gives_room { ", or let the removals make room with --remove-first," } else { "" };
    writeln!(
        out,
        "{BAD}Ended early: {cause}.{BAD:#} What was done is whole; mend the cause{hint} and run the \
         same line again."
    )
}

fn headline(
    out: &mut impl Write,
    plan: &Plan,
    outcome: &Outcome,
    request: &Request,
    took: Duration,
) -> io::Result<()> {
    let whole = matches!(outcome.ending, Ending::Complete)
        && plan.problems.is_empty()
        && outcome.problems.is_empty();
    let none = Verb::ALL.into_iter().all(|verb| outcome.done(verb).entries == 0);
    let what = match request.task {
        _ if !whole && none => "Nothing done:",
        _ if !whole => "Partly done:",
        _ if plan.is_empty() => "Nothing to do:",
        Task::Mirror => "Mirrored",
        Task::Undo => "Undone",
        Task::Copy | Task::Verify => "Copied",
    };
    // More figures than the eye wants, and less than a clock tells.
    let took = units::span(took.max(Duration::from_millis(1)));
    writeln!(out, "{HEADING}{what}{HEADING:#} {} in {took}", places(request))
}

fn done_line(out: &mut impl Write, what: &str, count: Count, with_bytes: bool) -> io::Result<()> {
    write!(out, "  {what:<10} {}", units::entries(count.entries))?;
    if with_bytes {
        write!(out, ", {}", units::bytes(count.bytes))?;
    }
    writeln!(out)
}

/// What differs and is not touched, by the user's own wish.
fn left_as_it_is(out: &mut impl Write, plan: &Plan) -> io::Result<()> {
    let Totals { spared_newer, held_back, .. } = plan.totals;
    if spared_newer > 0 {
        let count = units::counted(spared_newer, "file", "files");
        writeln!(out, "Kept: {count} newer than the source's.")?;
    }
    if held_back > 0 {
        let count = units::counted(held_back, "difference", "differences");
        writeln!(out, "Left as they are, for --steps or --carry: {count}.")?;
    }
    Ok(())
}

/// What the selection left out, by rule.
fn left_out(out: &mut impl Write, plan: &Plan) -> io::Result<()> {
    for Decided { rule, left_out, kept, .. } in &plan.decided {
        let source =
            (*left_out > 0).then(|| format!("{} of the source", units::entries(*left_out)));
        let kept =
            (*kept > 0).then(|| format!("{} kept in the destination", units::entries(*kept)));
        let told: Vec<_> = [source, kept].into_iter().flatten().collect();
        if !told.is_empty() {
            writeln!(out, "Left out by {}: {}.", names::shown(rule.as_bytes()), told.join(", "))?;
        }
    }
    Ok(())
}

/// Differences, both sides' counts, and one sentence.
pub(super) fn verdict(
    plan: &Plan,
    request: &Request,
    listing: Listing,
    quiet: bool,
) -> io::Result<()> {
    problems(&plan.problems)?;
    let mut out = io::BufWriter::new(streams::out());
    differences(&mut out, plan, listing.limit)?;
    if quiet {
        return out.flush();
    }
    notes(&mut out, plan)?;
    left_out(&mut out, plan)?;
    table(&mut out, plan)?;
    if plan.totals.held_back > 0 {
        let count = units::entries(plan.totals.held_back);
        writeln!(out, "Not counted: {count} that only the destination has.")?;
    }
    let (style, sentence) = sentence(plan, request);
    writeln!(out, "{style}{sentence}{style:#}")?;
    if let Some(confidence) = confidence(plan) {
        writeln!(out, "{confidence}")?;
    }
    if listing.suggest && !plan.is_empty() {
        writeln!(out, "To make it so: {}", super::suggest::command(plan, request))?;
    }
    out.flush()
}

/// By kind, each with its count, as far as the limit goes.
fn differences(out: &mut impl Write, plan: &Plan, limit: Option<usize>) -> io::Result<()> {
    let kinds = [
        (Verb::Add, "Missing in the destination"),
        (Verb::Remove, "Extra in the destination"),
        (Verb::Rename, "Elsewhere in the destination"),
        (Verb::Replace, "Not the same"),
        (Verb::Adjust, "The same but for attributes"),
    ];
    for (verb, what) in kinds {
        let count = plan.totals.of(verb).entries;
        if count == 0 {
            continue;
        }
        writeln!(out, "{HEADING}{what}: {}{HEADING:#}", units::entries(count))?;
        let limit = limit.unwrap_or(usize::MAX);
        for placed in plan.steps().filter(|placed| placed.step.verb == verb).take(limit) {
            difference_line(out, &placed)?;
        }
        let more = count.saturating_sub(limit as u64);
        if more > 0 && limit > 0 {
            writeln!(out, "         … and {} more", units::count(more))?;
        }
        writeln!(out)?;
    }
    Ok(())
}

fn sentence(plan: &Plan, request: &Request) -> (Style, String) {
    let differences = plan.totals.steps();
    if !plan.problems.is_empty() {
        let count = units::counted(plan.problems.len() as u64, "problem", "problems");
        let found = units::counted(differences, "difference", "differences");
        let sentence = format!(
            "Not proven: {count} kept part of it from being compared; {found} found in the rest."
        );
        return (BAD, sentence);
    }
    if differences > 0 {
        let totals = &plan.totals;
        let moved = match totals.rename.entries {
            0 => String::new(),
            moved => format!(" {} moved,", units::count(moved)),
        };
        let sentence = format!(
            "Different: {} missing, {} extra,{moved} {} not the same.",
            units::count(totals.add.entries),
            units::count(totals.remove.entries),
            units::count(totals.replace.entries + totals.adjust.entries),
        );
        return (BAD, sentence);
    }
    let count = units::entries(plan.totals.unchanged.entries);
    let left_out = plan.notes.iter().any(|note| match note {
        Note::NotHeld(not_held) => not_held.links + not_held.fifos + not_held.devices > 0,
        _ => false,
    });
    let how_far = if left_out { "Identical as far as the drive can hold it" } else { "Identical" };
    (GOOD, format!("{how_far}: {count} agree in {}.", compared(plan, request)))
}

/// What a sample without differences says of the files that were not read: if more than this part
/// of them differed, one would have been met with a likelihood of 95 in 100.
fn confidence(plan: &Plan) -> Option<String> {
    let (read, all) = (plan.totals.sampled, plan.totals.source.files);
    if read.entries == 0 {
        return None;
    }
    let told = format!(
        "Read by chance: {} of {} files ({})",
        units::count(read.entries),
        units::count(all),
        units::bytes(read.bytes)
    );
    let differs = plan.steps().any(|placed| matches!(placed.step.reason, Reason::Content { .. }));
    if differs {
        return Some(format!("{told}, and some of them differ: verify with --by content."));
    }
    if read.entries >= all {
        return Some(format!("{told}, which is all of them."));
    }
    let part = 1.0 - 0.05_f64.powf(1.0 / read.entries as f64);
    Some(format!(
        "{told}, and all of them agree.\nWith 95 % confidence the content of less than {:.2} % of \
         all files differs.",
        part * 100.0
    ))
}

fn difference_line(out: &mut impl Write, placed: &PlacedStep<'_>) -> io::Result<()> {
    let step = placed.step;
    let (word, reason) = match step.verb {
        Verb::Add => ("missing", "only in the source".to_owned()),
        Verb::Remove => ("extra", "only in the destination".to_owned()),
        Verb::Rename => ("moved", words::reason(placed)),
        Verb::Replace | Verb::Adjust => ("differs", words::reason(placed)),
    };
    let style = style_of(step.verb);
    writeln!(
        out,
        "{style}{word:<8}{style:#} {} {FAINT}· {reason}{FAINT:#}",
        names::shown(placed.path.as_bytes())
    )
}

/// What a verification without differences vouches for.
fn compared(plan: &Plan, request: &Request) -> String {
    let content = match request.changed.by {
        By::SizeTime => "size",
        By::Content => "every byte",
        By::Size => "size alone",
        By::Presence => return "name and kind, and nothing else was compared".to_owned(),
    };
    let not_held = plan.notes.iter().find_map(|note| match note {
        Note::NotHeld(not_held) => Some(not_held.aspects),
        _ => None,
    });
    let not_held = not_held.unwrap_or(Aspects::NONE);
    let is_told = |aspect: &Aspect| {
        // Holes take no part in a comparison, and content is told with how it was compared.
        !matches!(aspect, Aspect::Content | Aspect::Holes) && !not_held.has(*aspect)
    };
    let carried: Aspects = request.carry.iter().filter(is_told).collect();
    let mut told = if request.carry.has(Aspect::Content) { vec![content] } else { Vec::new() };
    told.extend(carried.iter().map(Aspect::name));
    told.join(", ")
}

fn table(out: &mut impl Write, plan: &Plan) -> io::Result<()> {
    let (source, destination) = (&plan.totals.source, &plan.totals.destination);
    writeln!(out, "{HEADING}{:<14}{:>20}{:>20}{HEADING:#}", "", "source", "destination")?;
    let rows = [
        ("folders", source.folders, destination.folders),
        ("files", source.files, destination.files),
        ("links", source.links, destination.links),
        ("other entries", source.others, destination.others),
        ("bytes", source.bytes, destination.bytes),
    ];
    for (what, here, there) in rows {
        let style = if here == there { Style::new() } else { BAD };
        writeln!(
            out,
            "{what:<14}{:>20}{style}{:>20}{style:#}",
            units::count(here),
            units::count(there)
        )?;
    }
    writeln!(out)
}

fn places(request: &Request) -> String {
    let shown = |path: &std::path::Path| names::shown(path.as_os_str().as_encoded_bytes());
    let sources: Vec<_> = request.places.sources.iter().map(|path| shown(path)).collect();
    format!("{} → {}", sources.join(", "), shown(&request.places.destination))
}

pub(super) fn notes(out: &mut impl Write, plan: &Plan) -> io::Result<()> {
    for note in &plan.notes {
        writeln!(out, "{FAINT}note: {}{FAINT:#}", words::note(note))?;
    }
    Ok(())
}

fn problem_count(out: &mut impl Write, count: usize) -> io::Result<()> {
    if count == 0 {
        return Ok(());
    }
    let count = units::counted(count as u64, "problem", "problems");
    writeln!(out, "{BAD}{count}{BAD:#}, each named above on stderr.")
}

/// Problems go to stderr, a line each, in the shape `utter: path: what and why`.
pub(super) fn problems(problems: &[Problem]) -> io::Result<()> {
    let mut err = io::BufWriter::new(streams::err());
    for Problem { path, operation, cause } in problems {
        let path = names::shown(path.as_bytes());
        writeln!(err, "{BAD}utter:{BAD:#} {path}: {}: {cause}", operation.words())?;
    }
    err.flush()
}
