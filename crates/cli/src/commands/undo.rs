//! `utter undo`: take back a run that set aside what it displaced.

use std::path::Path;

use anyhow::{Context as _, Result, bail};
use utter_echo_core::aspect::{Aspect, Aspects};
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Places, Request, Task};
use utter_echo_core::select::{Rules, Selection};
use utter_echo_core::{PastRun, Session};

use super::change::{Change, refused};
use super::past_runs;
use crate::args::{Ask, Undo, running};
use crate::exit::Exit;

pub(crate) fn undo(args: &Undo) -> Result<Exit> {
    match (&args.discard, &args.run) {
        (Some(what), _) => past_runs::discard_runs(args, what),
        (None, Some(run)) => take_back(args, run),
        (None, None) => past_runs::list(args),
    }
}

fn take_back(args: &Undo, run: &Path) -> Result<Exit> {
    let run = PastRun::open(&Linux, run)?;
    let selection = Selection::new(&Rules { only: args.only.clone(), ..Rules::default() })?;
    let atime = run.purpose.carry.has(Aspect::Atime);
    let destination = run.purpose.places.destination.clone();
    let places = Places::new(vec![run.path.clone()], destination);
    let request = &Request::new(Task::Undo, places)
        .selecting(selection)
        .carrying(if atime { Aspects::ALL.with(Aspect::Atime) } else { Aspects::ALL })
        .guarded(args.safety.guards())
        .running(running(&args.how.running, Some(&args.writing)));
    let (safety, writing, how) = (&args.safety, &args.writing, &args.how);
    Change { request, safety, writing, how }.around(|change, presenter, signals| {
        let session = Session::open_to_undo(&Linux, request, &run)?;
        let lock = if safety.dry_run { Ok(None) } else { session.hold() };
        let _lock = lock.or_else(|refusal| refused(&refusal, presenter).map(|()| None))?;
        let plan =
            session.plan_to_undo().inspect_err(|error| presenter.refused_early(error))?;
        if plan.is_empty() && plan.problems.is_empty() && !args.only.is_empty() {
            bail!(
                "nothing that is left to bring back fits --only; nothing was touched\n  patterns are \
                 held against paths in the destination; see them all with --dry-run and without --only"
            );
        }
        let all_or_nothing = args.all_or_nothing;
        let exit = change.carry_out_known(&session, plan, all_or_nothing, presenter, signals)?;
        if exit != Exit::Done || safety.dry_run {
            return Ok(exit);
        }
        // Only what was seen to be back needs its record no more.
        let left = session.not_back()?;
        if left.is_empty() {
            run.discard().with_context(|| {
                format!("all is back, but '{}' cannot be removed", run.path.display())
            })?;
            return Ok(Exit::Done);
        }
        let was_chosen = safety.ask == Some(Ask::Each) || !args.only.is_empty();
        presenter.kept(&run.path, if was_chosen { &[] } else { &left })?;
        Ok(if was_chosen { Exit::Done } else { Exit::Problems })
    })
}
