//! `utter undo` without a run, and with `--discard`: which runs set something aside, and freeing their room.

use std::path::Path;
use std::time::Duration;

use anyhow::{Result, bail};
use jiff::Timestamp;
use utter_echo_core::os::Linux;
use utter_echo_core::{Overview, discard, past_run, past_runs};

use crate::args::{DiscardWhat, Undo, run_at};
use crate::exit::{self, Exit, Refused};
use crate::places;
use crate::present::{self, ask, names};
use crate::signals::Signals;

/// Lists the runs that can be undone.
pub(super) fn list(args: &Undo) -> Result<Exit> {
    let output = &args.how.output;
    output.refuse_csv()?;
    present::choose_colors(output.color);
    present::past_runs(output.format, &known(), "No run is known that set anything aside.")?;
    Ok(exit::of_shown(Exit::Done))
}

/// Every run in the folders that are remembered, the newest first.
fn known() -> Vec<Overview> {
    let mut runs = Vec::new();
    for folder in places::remembered() {
        match past_runs(&Linux, &folder) {
            Ok(found) => runs.extend(found),
            Err(error) => present::passed_over(&folder, &error),
        }
    }
    runs.sort_by(|a, b| b.name.cmp(&a.name));
    runs
}

/// Removes what runs set aside, for good.
pub(super) fn discard_runs(args: &Undo, what: &DiscardWhat) -> Result<Exit> {
    let output = &args.how.output;
    output.refuse_csv()?;
    present::choose_colors(output.color);
    let runs = match what {
        DiscardWhat::Run(path) => vec![named(path)?],
        DiscardWhat::OlderThan(age) => older_than(*age),
    };
    let none = "No run began longer ago than that; nothing was removed.";
    present::past_runs(output.format, &runs, none)?;
    if runs.is_empty() || args.safety.dry_run {
        return Ok(Exit::Done);
    }
    let signals = Signals::caught_from_now_on()?;
    if !args.safety.yes {
        if !ask::can_ask() {
            bail!(
                "what is discarded cannot be brought back, and there is no terminal to ask on; nothing was touched\n  \
                 look with --dry-run, and then say --yes"
            );
        }
        if !ask::discard(runs.len(), &signals)? {
            return Err(Refused("not agreed to".into()).into());
        }
    }
    let mut exit = Exit::Done;
    for run in &runs {
        signals.check()?;
        if let Err(error) = discard(&Linux, &run.path) {
            present::error(&error.into());
            exit = Exit::Problems;
        }
    }
    Ok(exit)
}

fn named(path: &Path) -> Result<Overview> {
    if let Some(run) = past_run(&Linux, path) {
        return Ok(run);
    }
    let shown = names::shown(path.as_os_str().as_encoded_bytes());
    bail!(
        "'{shown}' is no run that was set aside; nothing was touched\n  'utter undo' lists the runs"
    )
}

fn older_than(age: Duration) -> Vec<Overview> {
    let oldest = run_at(Timestamp::now() - age);
    known().into_iter().filter(|run| run.name < oldest).collect()
}
