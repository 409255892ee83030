//! Questions before a run. They go to the terminal, wherever the streams go.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use anyhow::Result;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use utter_echo_core::guard::Refusal;
use utter_echo_core::plan::{PlacedStep, Plan, Undoes, Verb};
use utter_echo_core::problem::{Cause, Problem};
use utter_echo_core::request::OnConflict;

use crate::exit::WrongCall;
use crate::report::events::StepLine;
use crate::report::{text, wording};
use crate::signals::Signals;
use crate::terminal::{names, units};

/// The number of removals shown with the question.
const SHOWN: usize = 10;
/// Steps on a page.
const PAGE: usize = 20;

/// An interactive terminal.
struct Terminal {
    shown: anstream::AutoStream<File>,
    typed: File,
}

impl Terminal {
    /// The controlling terminal, if this process is in its foreground: reading in the background would stop it.
    fn open() -> Result<Self, NoTerminal> {
        let open = || {
            let typed = File::options().read(true).write(true).open("/dev/tty")?;
            let in_front = rustix::termios::tcgetpgrp(&typed)? == rustix::process::getpgrp();
            let shown = anstream::AutoStream::auto(typed.try_clone()?);
            Ok::<_, io::Error>(in_front.then_some(Self { shown, typed }))
        };
        open().ok().flatten().ok_or(NoTerminal)
    }
}

impl Write for Terminal {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.shown.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.shown.flush()
    }
}

pub(crate) fn can_ask() -> bool {
    Terminal::open().is_ok()
}

/// For an option that needs a terminal.
pub(crate) fn require_terminal(option: &str) -> Result<(), WrongCall> {
    let told = |NoTerminal| {
        WrongCall(format!(
            "{option} needs a terminal to ask on\n  leave it out in scripts, or look first with --dry-run"
        ))
    };
    Terminal::open().map(|_| ()).map_err(told)
}

/// The decision for each conflict of a move, by path. `None` if the user quits.
pub(crate) fn about_conflicts(
    plan: &Plan,
    signals: &Signals,
) -> Result<Option<HashMap<Vec<u8>, OnConflict>>> {
    let conflicts =
        plan.problems.iter().filter(|problem| matches!(problem.cause, Cause::NameTaken));
    let (mut answers, mut rest) = (HashMap::new(), None);
    for Problem { path, .. } in conflicts {
        let how = match rest {
            Some(how) => how,
            None => match about_conflict(path.as_bytes(), signals)? {
                None => return Ok(None),
                Some((how, for_all)) => {
                    rest = for_all.then_some(how);
                    how
                }
            },
        };
        answers.insert(path.as_bytes().to_vec(), how);
    }
    Ok(Some(answers))
}

/// The decision for one conflict, and whether it holds for all that follow.
fn about_conflict(path: &[u8], signals: &Signals) -> Result<Option<(OnConflict, bool)>> {
    let mut terminal = Terminal::open()?;
    let path = names::shown(path);
    loop {
        let question =
            format!("{path} already exists. Skip, replace, or keep both? [s/r/k, ? for help] ");
        let answer = answer(&mut terminal, &question, signals)?;
        let (word, for_all) = match answer.strip_suffix(" all") {
            Some(word) => (word, true),
            None => (&*answer, false),
        };
        let how = match word {
            "s" | "skip" => OnConflict::Skip,
            "r" | "replace" => OnConflict::Replace,
            "k" | "keep" => OnConflict::KeepBoth,
            "q" | "quit" => return Ok(None),
            _ => {
                writeln!(
                    terminal,
                    "s leaves both in place, r replaces the destination's entry, k adds the date to the name of the arriving one; 's all', 'r all', 'k all' answer for all that follow, q quits without touching anything"
                )?;
                continue;
            }
        };
        return Ok(Some((how, for_all)));
    }
}

/// No interactive terminal.
#[derive(Debug, thiserror::Error)]
#[error("there is no terminal to ask on\n  look first with --dry-run")]
struct NoTerminal;

/// Shows the totals and the removals, and waits for an answer. The user can list steps first; anything but a yes is
/// a no.
pub(crate) fn agreed(plan: &Plan, destination: &Path, signals: &Signals) -> Result<bool> {
    let mut terminal = Terminal::open()?;
    let removals = plan.totals.steps.remove.entries;
    if removals > 0 {
        let steps = plan.steps().filter(|placed| placed.step.verb == Verb::Remove);
        for placed in steps.take(SHOWN) {
            step_line(&mut terminal, &placed)?;
        }
        let more = removals.saturating_sub(SHOWN as u64);
        if more > 0 {
            writeln!(
                terminal,
                "         … and {} more; 'l remove' lists them",
                units::count(more)
            )?;
        }
    }
    writeln!(terminal, "{}", totals(plan))?;
    let newer = plan.newer_replaced();
    if newer > 0 {
        writeln!(terminal, "{}", wording::newer_replaced(newer))?;
    }
    let place = names::path(destination);
    let question = match (removals, newer) {
        (1.., _) => format!("Remove {} from {place}?", units::entries(removals)),
        (0, 1..) => format!("Replace newer files in {place}?"),
        (0, 0) => format!("Make these changes in {place}?"),
    };
    loop {
        let answer = answer(&mut terminal, &format!("{question} [y/N, l to list] "), signals)?;
        match answer.split_once(' ').unwrap_or((&answer, "")) {
            ("y" | "yes", "") => return Ok(true),
            ("l" | "list", word) => list(&mut terminal, plan, word.trim(), signals)?,
            ("?", _) => writeln!(
                terminal,
                "y continues, n quits without touching anything, l lists all steps page by page, 'l WORD' only those of a kind, like 'l remove', or with WORD in the path"
            )?,
            _ => return Ok(false),
        }
    }
}

fn step_line(terminal: &mut Terminal, placed: &PlacedStep<'_>) -> io::Result<()> {
    writeln!(terminal, "{}", text::step_line(&StepLine::of(placed, None)))
}

fn totals(plan: &Plan) -> String {
    let left_alone = plan.totals.left_newer + plan.totals.held_back;
    let (steps, unchanged) = ((&plan.totals).into(), plan.totals.unchanged.entries);
    text::plan_totals(&steps, unchanged, left_alone, plan.undoes != Undoes::Nothing)
}

/// Shows why a guard refuses, and asks whether to continue.
pub(crate) fn continue_despite(refusal: &Refusal, signals: &Signals) -> Result<bool> {
    let mut terminal = Terminal::open()?;
    let refusal = refusal.to_string();
    let why = refusal.lines().next().unwrap_or_default();
    writeln!(terminal, "{}", names::harmless(why))?;
    let answer = answer(&mut terminal, "Continue anyway? [y/N] ", signals)?;
    Ok(matches!(&*answer, "y" | "yes"))
}

/// Asks whether the set-aside entries of so many runs may be removed for good.
pub(crate) fn discard(runs: usize, signals: &Signals) -> Result<bool> {
    let mut terminal = Terminal::open()?;
    let what = if runs == 1 { "this run".into() } else { format!("these {runs} runs") };
    let question = format!("Remove the set-aside entries of {what} for good? [y/N] ");
    Ok(matches!(&*answer(&mut terminal, &question, signals)?, "y" | "yes"))
}

/// Lists the steps of one kind, or with a word in their path, page by page.
fn list(terminal: &mut Terminal, plan: &Plan, word: &str, signals: &Signals) -> Result<()> {
    let kind = Verb::ALL.into_iter().find(|verb| verb.name() == word);
    let wanted = |placed: &PlacedStep<'_>| match kind {
        Some(verb) => placed.step.verb == verb,
        None => names::shown(placed.path.as_bytes()).contains(word),
    };
    let mut steps = plan.steps().filter(wanted).peekable();
    if steps.peek().is_none() {
        writeln!(terminal, "No step is of that kind or has that text in its path.")?;
    }
    while steps.peek().is_some() {
        for placed in steps.by_ref().take(PAGE) {
            step_line(terminal, &placed)?;
        }
        let goes_on = steps.peek().is_some()
            && answer(terminal, "Enter for more, q to return to the question: ", signals)?
                .is_empty();
        if !goes_on {
            break;
        }
    }
    Ok(())
}

/// Asks about every step that replaces or removes; declined ones are taken out of the plan. False if the user
/// quits.
pub(crate) fn about_each(plan: &mut Plan, destination: &Path, signals: &Signals) -> Result<bool> {
    let mut terminal = Terminal::open()?;
    let place = names::path(destination);
    writeln!(terminal, "{} In {place}:", totals(plan))?;
    let mut unwanted = HashSet::new();
    // The answer for all that follow, and for everything in a folder.
    let (mut rest, mut above): (Option<bool>, Option<(Vec<u8>, bool)>) = (None, None);
    for placed in plan.steps() {
        if !matches!(placed.step.verb, Verb::Replace | Verb::Remove) {
            continue;
        }
        let path = placed.path.as_bytes();
        let is_below = |top: &[u8]| path.strip_prefix(top).is_some_and(|p| p.starts_with(b"/"));
        let told = match (&above, rest) {
            (Some((top, told)), _) if is_below(top) => Some(*told),
            (_, rest) => rest,
        };
        let wanted = match told {
            Some(told) => told,
            None => match about_one(&mut terminal, &placed, signals)? {
                One::Yes => true,
                One::No => false,
                One::All => *rest.insert(true),
                One::None => *rest.insert(false),
                One::Quit => return Ok(false),
            },
        };
        if placed.step.verb == Verb::Remove && !above.as_ref().is_some_and(|(top, _)| is_below(top))
        {
            above = Some((path.to_vec(), wanted));
        }
        if !wanted {
            unwanted.insert(placed.number);
        }
    }
    plan.leave_out(&unwanted);
    writeln!(terminal, "{}", totals(plan))?;
    Ok(true)
}

enum One {
    Yes,
    No,
    All,
    None,
    Quit,
}

fn about_one(terminal: &mut Terminal, placed: &PlacedStep<'_>, signals: &Signals) -> Result<One> {
    loop {
        step_line(terminal, placed)?;
        let holds = placed.step.verb == Verb::Remove
            && placed.step.kind() == utter_echo_core::os::Kind::Folder;
        let with = if holds { ", with everything in it" } else { "" };
        let question = format!("{}{with}? [yes/no/all/none/quit] ", placed.step.verb.name());
        match &*answer(terminal, &question, signals)? {
            "y" | "yes" => return Ok(One::Yes),
            "n" | "no" => return Ok(One::No),
            "a" | "all" => return Ok(One::All),
            "none" => return Ok(One::None),
            "q" | "quit" => return Ok(One::Quit),
            _ => writeln!(
                terminal,
                "answer yes or no; all or none for this step and all that follow; quit quits without touching anything"
            )?,
        }
    }
}

/// The answer to a question, in lower case; "quit" at the end of input.
fn answer(terminal: &mut Terminal, question: &str, signals: &Signals) -> Result<String> {
    write!(terminal, "{question}")?;
    terminal.flush()?;
    let Some(answer) = read_line(&terminal.typed, signals)? else { return Ok("quit".into()) };
    let answer = answer.trim();
    // A search word keeps its case.
    Ok(if answer.contains(' ') { answer.to_owned() } else { answer.to_lowercase() })
}

/// Reads a line and nothing after it, which `poll` would not report any more. `None` at the end of input.
fn read_line(typed: &File, signals: &Signals) -> Result<Option<String>> {
    let (mut line, mut byte) = (Vec::new(), [0]);
    loop {
        wait_for_input(typed, signals)?;
        match rustix::io::read(typed, &mut byte)? {
            0 if line.is_empty() => return Ok(None),
            0 => break,
            _ if byte == [b'\n'] => break,
            _ => line.push(byte[0]),
        }
    }
    Ok(Some(String::from_utf8_lossy(&line).into_owned()))
}

/// A blocking read would ignore Ctrl-C.
fn wait_for_input(typed: &File, signals: &Signals) -> Result<()> {
    let short = Timespec { tv_sec: 0, tv_nsec: 100_000_000 };
    loop {
        let ready = poll(&mut [PollFd::new(typed, PollFlags::IN)], Some(&short));
        signals.check()?;
        if ready.is_ok_and(|count| count > 0) {
            return Ok(());
        }
    }
}
