//! `utter mirror`: add, replace, and remove what the source does not have.

use anyhow::Result;
use clap::{Args, ValueHint};
use utter_echo_core::request::{Request, Safety, Task};

use crate::context::{Command, Context};
use crate::exit::Exit;
use crate::location::{Location, location};
use crate::options::{Changing, Dropping, Inside, Removing, places};
use crate::report::events::CommandWord;
use crate::runner::{self, AskedRun, PlanOptions};

const EXAMPLES: &str = "\
Examples:
  utter mirror --dry-run saltmere /mnt/lantern/saltmere  look first, above all at what would go
  utter mirror saltmere /mnt/lantern/saltmere            then do it; asks before it removes";

/// Copy, and remove what the source does not have
///
/// The source folder's CONTENTS become the destination's contents, and nothing else stays there. Entries that the
/// selection excludes are left alone on both sides, unless --drop-unselected is given. Entries renamed or moved in
/// the source are renamed, not copied again. On a terminal it asks before it removes anything, unless --yes is
/// given; without a terminal it continues as far as the guards allow. The source is never changed.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Mirror {
    /// The folder to mirror
    #[arg(value_name = "SOURCE", value_hint = ValueHint::DirPath, value_parser = location())]
    source: Location,
    /// The folder to make identical
    #[arg(value_name = "DESTINATION", value_hint = ValueHint::DirPath, value_parser = location())]
    destination: Location,
    #[command(flatten)]
    inside: Inside,
    #[command(flatten)]
    dropping: Dropping,
    #[command(flatten)]
    changing: Changing,
    #[command(flatten)]
    removing: Removing,
}

impl Mirror {
    fn asked(&self, context: &Context) -> Result<Request> {
        let Self { source, destination, inside, dropping, removing, changing } = self;
        let places = places(std::slice::from_ref(source), destination, inside.inside)?;
        let guards = removing.over(&Safety::default(), changing.doing.safety.guards());
        changing.request((Task::Mirror, places), dropping, guards, context)
    }
}

impl Command for Mirror {
    fn run(&self, context: &Context) -> Result<Exit> {
        let changing = &self.changing;
        changing.doing.output.keeping.refuse_within(&self.destination.now())?;
        let places = (std::slice::from_ref(&self.source), &self.destination);
        let run = AskedRun::of(CommandWord::Mirror, places, changing, || self.asked(context));
        runner::change(run, &changing.doing, PlanOptions::of(changing), context)
    }

    fn request(&self, context: &Context) -> Result<Option<Request>> {
        self.asked(context).map(Some)
    }
}
