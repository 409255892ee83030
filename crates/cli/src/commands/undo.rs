//! `utter undo`: take back a run that set aside what it displaced.

use anyhow::{Context as _, Result};
use utter_echo_core::aspect::{Aspect, Aspects};
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Places, Request, Task};
use utter_echo_core::{Recorded, Session};

use super::change::{Change, refused};
use crate::args::{Ask, Undo, running};
use crate::exit::Exit;

pub(crate) fn undo(args: &Undo) -> Result<Exit> {
    let run = Recorded::open(&Linux, &args.run)?;
    let atime = run.purpose.carry.has(Aspect::Atime);
    let destination = run.purpose.places.destination.clone();
    let places = Places::new(vec![run.path.clone()], destination);
    let request = &Request::new(Task::Undo, places)
        .carrying(if atime { Aspects::ALL.with(Aspect::Atime) } else { Aspects::ALL })
        .guarded(args.safety.guards())
        .running(running(&args.how.running, Some(&args.writing)));
    let (safety, writing, how) = (&args.safety, &args.writing, &args.how);
    Change { request, safety, writing, how }.around(|change, presenter, signals| {
        let session = Session::open_to_undo(&Linux, request, &run)?;
        let lock = if safety.dry_run { Ok(None) } else { session.hold(&run) };
        let _lock = lock.or_else(|refusal| refused(&refusal, presenter).map(|()| None))?;
        let plan =
            session.plan_to_undo(&run).inspect_err(|error| presenter.refused_early(error))?;
        let all_or_nothing = args.all_or_nothing;
        let exit = change.carry_out_known(&session, plan, all_or_nothing, presenter, signals)?;
        if exit != Exit::Done || safety.dry_run {
            return Ok(exit);
        }
        // Only what was seen to be back needs its record no more.
        let left = session.not_back(&run)?;
        if left.is_empty() {
            run.discard(&Linux).with_context(|| {
                format!("all is back, but '{}' cannot be removed", run.path.display())
            })?;
            return Ok(Exit::Done);
        }
        let was_asked = safety.ask == Some(Ask::Each);
        presenter.kept(&run.path, if was_asked { &[] } else { &left })?;
        Ok(if was_asked { Exit::Done } else { Exit::Problems })
    })
}
