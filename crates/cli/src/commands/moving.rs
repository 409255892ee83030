//! `utter move`: as copy, then remove from the source what was verified.

use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueHint};
use utter_echo_core::request::{Request, Task};

use crate::context::{Command, Context};
use crate::exit::Exit;
use crate::options::{AllOrNothing, Changing, Dropping, Inside, Moving, path, places};
use crate::runner::{self, PlanOptions};

const EXAMPLES: &str = "\
Examples:
  utter move --dry-run /mnt/stick archive/1931    what would arrive there, and go from here
  utter move --age 1y.. logbooks archive          only what was not changed for a year";

/// Do what copy does, and take away from the source what has arrived
///
/// On one drive, entries are renamed: a whole folder in one step where nothing of it stays and nothing is in its
/// way. Between drives, an entry goes from the source only once its copy is on the drive and was compared with
/// it, byte by byte and with all its attributes; whatever is not proven, changes meanwhile or is being written to
/// stays, and is named. Folders go when everything in them has gone. What the selection leaves out stays, with
/// the folders that hold it; what a read-only drive or a folder that you may not change would not let go is not
/// copied. Names of one file go together or stay. The source folder itself goes, too, if nothing stays in it, no
/// drive is mounted on it, you are not working in it and it can be taken from the folder that it is in. If a move
/// is interrupted, nothing is missing, and the same line finishes it. It keeps notes of what it took where, for half a year, and 'utter undo' moves
/// everything back. Only 'utter move' ever changes a source; 'utter copy' and 'utter mirror' never do.
#[derive(Debug, Args)]
#[command(name = "move", after_help = EXAMPLES)]
pub(crate) struct Move {
    /// Folders or single entries to move
    #[arg(required = true, value_name = "SOURCE", value_hint = ValueHint::AnyPath, value_parser = path())]
    sources: Vec<PathBuf>,
    /// Where they go
    #[arg(value_name = "DESTINATION", value_hint = ValueHint::AnyPath, value_parser = path())]
    destination: PathBuf,
    #[command(flatten)]
    inside: Inside,
    #[command(flatten)]
    moving: Moving,
    #[command(flatten)]
    changing: Changing,
    #[command(flatten)]
    all_or_nothing: AllOrNothing,
}

impl Move {
    fn asked(&self, context: &Context) -> Result<Request> {
        let Self { sources, destination, inside, changing, .. } = self;
        let places = places(sources.clone(), destination.clone(), inside.inside)?;
        let guards = changing.doing.safety.guards();
        let request =
            changing.request((Task::Move, places), &Dropping::default(), guards, context)?;
        Ok(self.moving.apply(request))
    }
}

impl Command for Move {
    fn run(&self, context: &Context) -> Result<Exit> {
        let changing = &self.changing;
        let all_or_nothing = self.all_or_nothing.all_or_nothing;
        let anew = PlanOptions { all_or_nothing, ..PlanOptions::of(changing) };
        runner::change(&self.asked(context)?, &changing.doing, anew, context)
    }

    fn request(&self, context: &Context) -> Result<Option<Request>> {
        self.asked(context).map(Some)
    }
}
