//! `utter mirror`: add, replace, and remove what the source does not have.

use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueHint};
use utter_echo_core::request::{Request, Safety, Task};

use crate::context::{Command, Context};
use crate::exit::Exit;
use crate::options::{Changing, Dropping, Inside, Removing, path, places};
use crate::runner::{self, PlanOptions};

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
    #[arg(value_name = "SOURCE", value_hint = ValueHint::DirPath, value_parser = path())]
    source: PathBuf,
    /// The folder to make identical
    #[arg(value_name = "DESTINATION", value_hint = ValueHint::DirPath, value_parser = path())]
    destination: PathBuf,
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
        let places = places(vec![source.clone()], destination.clone(), inside.inside, context)?;
        let guards = removing.over(&Safety::default(), changing.doing.safety.guards());
        changing.request((Task::Mirror, places), dropping, guards, context)
    }
}

impl Command for Mirror {
    fn run(&self, context: &Context) -> Result<Exit> {
        let changing = &self.changing;
        runner::change(&self.asked(context)?, &changing.doing, PlanOptions::of(changing), context)
    }

    fn request(&self, context: &Context) -> Result<Option<Request>> {
        self.asked(context).map(Some)
    }
}
