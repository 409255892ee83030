//! `utter enact`: carry out a plan that was saved.

use anyhow::{Context as _, Result};
use std::fs::File;
use std::io::BufReader;
use utter_echo_core::os::Linux;
use utter_echo_core::request::Request;
use utter_echo_core::{Session, saved};

use super::change::Change;
use crate::args::{Enact, running};
use crate::exit::Exit;

pub(crate) fn enact(args: &Enact) -> Result<Exit> {
    let shown = args.plan.display();
    let file = File::open(&args.plan).with_context(|| format!("cannot open the plan '{shown}'"))?;
    let (purpose, plan) = saved::read(BufReader::new(file))
        .with_context(|| format!("plan '{shown}' is refused, and nothing was touched"))?;
    // The guards and limits that the plan was made under hold still, unless others are given now.
    let mut guards = args.removing.over(&purpose.safety, args.safety.guards());
    guards.drive = guards.drive.or(purpose.safety.drive);
    guards.waived.extend(purpose.safety.waived);
    // What was selected, and what counted as changed, decided about the plan; it is decided.
    let request = &Request::new(purpose.task, purpose.places)
        .carrying(purpose.carry)
        .strictly(purpose.strictly)
        .guarded(guards)
        .running(running(&args.how.running, Some(&args.writing)));
    let (safety, writing, how) = (&args.safety, &args.writing, &args.how);
    Change { request, safety, writing, how }.around(|change, presenter, signals| {
        let session = Session::open(&Linux, request)?;
        let plan = session.adopt(plan).inspect_err(|error| presenter.refused_early(error))?;
        change.carry_out_known(&session, plan, args.all_or_nothing, presenter, signals)
    })
}
