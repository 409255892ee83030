//! `utter verify`: compare both sides, show every difference, give a verdict.

use anyhow::Result;
use utter_echo_core::Session;
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Safety, Task};

use crate::args::{Common, FlushWhen, Verify};
use crate::exit::Exit;
use crate::gentle;
use crate::present::{Presenter, Progress};
use crate::signals::Signals;

pub(crate) fn verify(args: &Verify) -> Result<Exit> {
    let request = Common {
        task: Task::Verify,
        sources: vec![args.source.clone()],
        destination: &args.destination,
        takes: &args.takes,
        changed: &args.changed,
        carried: &args.carried,
        running: &args.running,
        // Nothing is written.
        flush: FlushWhen::None,
        rate: None,
        safety: Safety::default(),
    }
    .request()?;
    if args.running.gentle {
        gentle::stand_back()?;
    }
    let presenter = Presenter::new(&args.output, &request, false);
    presenter.head()?;
    let session = Session::open(&Linux, &request)?;
    let signals = Signals::caught_from_now_on()?;
    let progress = Progress::scanning(&args.output, &signals);
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
