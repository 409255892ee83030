//! `utter verify`: compare both sides, show every difference, give a verdict.

use std::time::{SystemTime, UNIX_EPOCH};

use anyhow::Result;
use utter_echo_core::Session;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Verb, Verbs};
use utter_echo_core::request::{Safety, Sample, Task};

use crate::args::{How, Verify, request};
use crate::exit::{self, Exit};
use crate::gentle;
use crate::present::{Listing, Presenter, Progress};
use crate::signals::Signals;

pub(crate) fn verify(args: &Verify) -> Result<Exit> {
    let places = (vec![args.source.clone()], args.destination.as_path());
    let How { running, output } = &args.how;
    let what = (&args.what, false);
    let mut request = request(Task::Verify, places, what, running, None, Safety::default())?;
    request.changed.sample = args.sample.map(|percent| Sample { percent, seed: seed() });
    if args.ignore_extra {
        request.changed.steps = without_removals();
    }
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
    presenter.verdict(&plan, Listing { limit: args.limit, suggest: args.suggest })?;
    Ok(exit::of_shown(if !plan.problems.is_empty() {
        Exit::Problems
    } else if plan.is_empty() {
        Exit::Done
    } else {
        Exit::Different
    }))
}

fn without_removals() -> Verbs {
    Verb::ALL.into_iter().filter(|verb| *verb != Verb::Remove).collect()
}

/// Another one each time, so that in the long run every file is read.
fn seed() -> u64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    since.as_secs() ^ u64::from(since.subsec_nanos()) << 32
}
