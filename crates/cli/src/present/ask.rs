//! The question before a run.

use std::io::{self, BufRead as _, IsTerminal as _, Write as _};
use std::path::Path;

use anyhow::Result;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use utter_echo_core::plan::{Plan, Verb};

use super::{names, text, units};
use crate::signals::Signals;

/// How many removals are shown with the question.
const SHOWN: usize = 10;

/// `--ask` without anybody to answer.
#[derive(Debug, thiserror::Error)]
#[error("--ask needs a terminal to ask on; leave it out in scripts, or look first with --dry-run")]
pub(crate) struct NoTerminal;

pub(crate) fn can_ask() -> bool {
    io::stdin().is_terminal() && io::stderr().is_terminal()
}

pub(crate) fn require_terminal() -> Result<(), NoTerminal> {
    if can_ask() { Ok(()) } else { Err(NoTerminal) }
}

/// Shows what would be done, above all what would be removed, and waits for an answer. Anything
/// but a yes is a no.
pub(crate) fn agreed(plan: &Plan, destination: &Path, signals: &Signals) -> Result<bool> {
    let mut err = anstream::stderr().lock();
    let removals = plan.totals.remove;
    if removals.entries > 0 {
        let steps = plan.steps().filter(|placed| placed.step.verb == Verb::Remove);
        for placed in steps.take(SHOWN) {
            text::step_line(&mut err, &placed, None)?;
        }
        let more = removals.entries.saturating_sub(SHOWN as u64);
        if more > 0 {
            writeln!(err, "         … and {} more; --dry-run lists them all", units::count(more))?;
        }
    }
    writeln!(err, "{}", text::plan_totals(plan))?;
    let place = names::shown(destination.as_os_str().as_encoded_bytes());
    if removals.entries > 0 {
        write!(
            err,
            "Go ahead and remove {} from {place}? [y/N] ",
            units::entries(removals.entries)
        )?;
    } else {
        write!(err, "Go ahead in {place}? [y/N] ")?;
    }
    err.flush()?;
    wait_for_input(signals)?;
    let mut answer = String::new();
    io::stdin().lock().read_line(&mut answer)?;
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}

/// Reading alone would sleep through Ctrl-C.
fn wait_for_input(signals: &Signals) -> Result<()> {
    let (stdin, short) = (io::stdin(), Timespec { tv_sec: 0, tv_nsec: 100_000_000 });
    loop {
        let ready = poll(&mut [PollFd::new(&stdin, PollFlags::IN)], Some(&short));
        signals.check()?;
        if ready.is_ok_and(|count| count > 0) {
            return Ok(());
        }
    }
}
