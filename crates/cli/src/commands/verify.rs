//! `utter verify`: compare both sides, show every difference, give a verdict.

use anyhow::Result;
use utter_echo_core::Session;
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Safety, Task};

use crate::args::{How, Verify, request};
use crate::exit::Exit;
use crate::gentle;
use crate::present::{Presenter, Progress};
use crate::signals::Signals;

pub(crate) fn verify(args: &Verify) -> Result<Exit> {
    let places = (vec![args.source.clone()], args.destination.as_path());
    let How { running, output } = &args.how;
    let request = request(Task::Verify, places, &args.what, running, None, Safety::default())?;
    if running.gentle {
        gentle::stand_back()?;
    }
    let presenter = Presenter::new(output, &request, false);
    presenter.head()?;
    let session = Session::open(&Linux, &request)?;
    let signals = Signals::caught_from_now_on()?;
    let progress = Progress::scanning(output, &signals);
    let plan = session.plan(&progress);
    progress.done();
    signals.check()?;
    let plan = plan?;
    presenter.verdict(&plan)?;
    Ok(if !plan.problems.is_empty() {
        Exit::Problems
    } else if plan.is_empty() {
        Exit::Done
    } else {
        Exit::Different
    })
}
