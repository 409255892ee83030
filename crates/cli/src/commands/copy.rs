//! `utter copy`: add and replace.

use anyhow::Result;
use clap::{Args, ValueHint};
use utter_echo_core::request::{Places, Request, Task};

use crate::context::{Command, Context};
use crate::exit::Exit;
use crate::location::{Location, location};
use crate::options::{Changing, Dropping, Inside, places};
use crate::report::events::CommandWord;
use crate::runner::{self, AskedRun, PlanOptions};

const EXAMPLES: &str = "\
Examples:
  utter copy --dry-run logbooks /mnt/lantern/logbooks    what would be copied, and why
  utter copy logbooks lens-drawings /mnt/lantern         two folders, each under its own name";

/// Add missing entries and replace changed ones; remove nothing
///
/// A source folder's CONTENTS become the destination's contents, with or without a slash at the end. With --inside,
/// or with several sources, each source goes inside the destination under its own name. A single file goes into the
/// destination if that is a folder or ends in a slash; otherwise the destination is its new name. Missing parent
/// folders of the destination are created. The source is never changed.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Copy {
    /// Folders or single entries to copy
    #[arg(required = true, value_name = "SOURCE", value_hint = ValueHint::AnyPath, value_parser = location())]
    sources: Vec<Location>,
    /// Where to put them
    #[arg(value_name = "DESTINATION", value_hint = ValueHint::AnyPath, value_parser = location())]
    destination: Location,
    #[command(flatten)]
    inside: Inside,
    #[command(flatten)]
    changing: Changing,
}

impl Copy {
    fn asked(&self, context: &Context) -> Result<Request> {
        let Self { sources, destination, inside, changing } = self;
        let places = places(sources, destination, inside.inside)?;
        let places = Places { some_may_be_missing: true, ..places };
        let guards = changing.doing.safety.guards();
        changing.request((Task::Copy, places), &Dropping::default(), guards, context)
    }
}

impl Command for Copy {
    fn run(&self, context: &Context) -> Result<Exit> {
        let changing = &self.changing;
        let places = (&*self.sources, &self.destination);
        let run = AskedRun::of(CommandWord::Copy, places, changing, || self.asked(context));
        runner::change(run, &changing.doing, PlanOptions::of(changing), context)
    }

    fn request(&self, context: &Context) -> Result<Option<Request>> {
        self.asked(context).map(Some)
    }
}
