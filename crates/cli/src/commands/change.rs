//! `utter copy` and `utter mirror`: plan, show or ask, carry out.

use std::path::{Path, PathBuf};
use std::time::Instant;

use anyhow::Result;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::Plan;
use utter_echo_core::request::{Request, Safety, Task};
use utter_echo_core::{PlanError, Session};

use super::hooks;
use crate::args::{Copy, How, Mirror, Output, SafetyOptions, What, Writing, request};
use crate::exit::{self, Exit, Refused};
use crate::gentle;
use crate::present::{Presenter, Progress, Took, ask};
use crate::signals::Signals;

pub(crate) fn copy(args: &Copy) -> Result<Exit> {
    let places = (args.sources.clone(), args.destination.as_path());
    let safety = Safety { waived: args.safety.waive.clone(), ..Safety::default() };
    change(Task::Copy, places, safety, (&args.what, &args.safety, &args.writing, &args.how))
}

pub(crate) fn mirror(args: &Mirror) -> Result<Exit> {
    let places = (vec![args.source.clone()], args.destination.as_path());
    let removal_limit = args.removal_limit.unwrap_or_default();
    let safety = Safety { waived: args.safety.waive.clone(), removal_limit };
    change(Task::Mirror, places, safety, (&args.what, &args.safety, &args.writing, &args.how))
}

fn change(
    task: Task,
    places: (Vec<PathBuf>, &Path),
    guards: Safety,
    (what, safety, writing, how): (&What, &SafetyOptions, &Writing, &How),
) -> Result<Exit> {
    let request = &request(task, places, what, &how.running, Some(writing), guards)?;
    let output = &how.output;
    if how.running.gentle {
        gentle::stand_back()?;
    }
    if safety.ask {
        ask::require_terminal()?;
    }
    let presenter = Presenter::new(output, request, safety.dry_run);
    presenter.head()?;
    let signals = Signals::caught_from_now_on()?;
    if safety.dry_run {
        return go(request, safety, writing, output, &presenter, &signals);
    }
    hooks::around(writing, || go(request, safety, writing, output, &presenter, &signals))
}

/// From opening both sides to the last word.
fn go(
    request: &Request,
    safety: &SafetyOptions,
    writing: &Writing,
    output: &Output,
    presenter: &Presenter<'_>,
    signals: &Signals,
) -> Result<Exit> {
    signals.check()?;
    let session = Session::open(&Linux, request)?;
    let progress = Progress::scanning(output, signals);
    let begun = Instant::now();
    let plan = session.plan(&progress);
    let planning = begun.elapsed();
    progress.done();
    signals.check()?;
    let plan = plan.inspect_err(|error| {
        if let PlanError::Refused(refusal) = error {
            // The error itself is reported all the same, should this fail.
            let _ = presenter.refusal(refusal);
        }
    })?;
    if safety.dry_run {
        presenter.plan(&plan)?;
        guard(&session, &plan, presenter)?;
        return Ok(if plan.problems.is_empty() { Exit::Done } else { Exit::Problems });
    }
    guard(&session, &plan, presenter)?;
    presenter.remarks(&plan)?;
    confirm(request, safety, &plan, signals)?;
    let progress = Progress::changing(output, signals, &plan);
    let begun = Instant::now();
    let outcome = session.apply(&plan, &progress);
    progress.done();
    let took = Took { planning, applying: begun.elapsed() };
    presenter.outcome(&plan, &outcome, took, writing.verbose)?;
    Ok(exit::of_outcome(&outcome, plan.problems.len(), signals.caught()))
}

fn guard(session: &Session<'_>, plan: &Plan, presenter: &Presenter<'_>) -> Result<()> {
    if let Err(refusal) = session.guard(plan) {
        presenter.refusal(&refusal)?;
        return Err(
            Refused(format!("guard '{}' refuses the plan: {refusal}", refusal.guard())).into()
        );
    }
    Ok(())
}

/// Asks where it should: always with `--ask`, before removing anything on a terminal without
/// `--yes`.
fn confirm(
    request: &Request,
    safety: &SafetyOptions,
    plan: &Plan,
    signals: &Signals,
) -> Result<()> {
    let removals = plan.totals.remove.entries > plan.totals.leftovers;
    let wanted =
        safety.ask || request.task == Task::Mirror && removals && !safety.yes && ask::can_ask();
    if !wanted || plan.is_empty() || ask::agreed(plan, &request.places.destination, signals)? {
        return Ok(());
    }
    Err(Refused("not agreed to".into()).into())
}
