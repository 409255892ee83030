//! `utter execute`: carry out a saved plan.

use std::fs::File;
use std::io::BufReader;

use anyhow::{Context as _, Result};
use clap::{Args, ValueHint};
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Request, Task};
use utter_echo_core::{Session, saved};

use crate::context::{Command, Context};
use crate::exit::{Exit, WrongCall};
use crate::location::{Location, location};
use crate::options::{AllOrNothing, Doing, Removing, SettingAside};
use crate::report::events::Head;
use crate::runner::{self, AskedRun};
use crate::terminal::names;

const EXAMPLES: &str = "\
Examples:
  utter mirror --dry-run --save-plan monday.plan saltmere /mnt/lantern/saltmere
  utter execute monday.plan                               exactly what you looked at, and nothing else";

/// Execute a plan that copy, mirror or move saved
///
/// It takes exactly the steps of the plan. A step whose source or destination has changed since is skipped and
/// listed; the others are done. A damaged or edited plan is refused as a whole.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Execute {
    /// The file written by --save-plan
    #[arg(value_name = "PLAN", value_hint = ValueHint::FilePath, value_parser = location())]
    plan: Location,
    #[command(flatten)]
    doing: Doing,
    #[command(flatten)]
    aside: SettingAside,
    #[command(flatten)]
    all_or_nothing: AllOrNothing,
    #[command(flatten)]
    removing: Removing,
}

impl Command for Execute {
    fn run(&self, context: &Context) -> Result<Exit> {
        let path = &self.plan.find()?;
        let shown = names::path(path);
        let file = File::open(path)
            .with_context(|| WrongCall(format!("cannot open the plan '{shown}'")))?;
        let (purpose, plan) = saved::read(BufReader::new(file))
            .with_context(|| WrongCall(format!("plan '{shown}' is refused")))?;
        // The guards and limits of the plan hold, unless others are given now.
        let guards = self.doing.safety.guards();
        let mut guards = if purpose.task.removes_sources() {
            self.aside.over_move(guards, context)?
        } else {
            self.aside.over(guards, context)?
        };
        guards = self.removing.over(&purpose.safety, guards);
        guards.drive = guards.drive.or(purpose.safety.drive);
        guards.waived.extend(purpose.safety.waived);
        // The rest of selection and comparison took part in planning only.
        let request = Request::new(purpose.task, purpose.places)
            .carrying(purpose.carry)
            .strictly(purpose.strictly)
            .time_slack(purpose.time_slack)
            .guarded(guards);
        let request = self.doing.apply(request);
        if request.task == Task::Mirror {
            self.doing.output.keeping.refuse_within(&request.places.destination)?;
        }
        let head = Head::of(&request, self.doing.safety.dry_run).executing(path);
        let run = AskedRun { head, drives: Vec::new(), request: Box::new(|| Ok(request)) };
        runner::around(run, &self.doing, context, |runner| {
            let session = Session::open(&Linux, runner.request)?;
            match runner.whole(session.adopt(plan))? {
                Ok(plan) => {
                    runner.carry_out_known(&session, plan, self.all_or_nothing.all_or_nothing)
                }
                Err(exit) => Ok(exit),
            }
        })
    }
}
