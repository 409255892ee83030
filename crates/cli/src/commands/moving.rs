//! `utter move`: as copy, and take away from the source what has arrived.

use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueHint};
use utter_echo_core::request::{Request, Task};

use crate::context::{Command, Context};
use crate::exit::Exit;
use crate::options::{
    AllOrNothing, Comparing, Doing, Dropping, Inside, Moving, Saving, SettingAside, Steps, Waiting,
    path, places,
};
use crate::runner::{self, Anew};

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
    comparing: Comparing,
    #[command(flatten)]
    steps: Steps,
    #[command(flatten)]
    doing: Doing,
    #[command(flatten)]
    aside: SettingAside,
    #[command(flatten)]
    saving: Saving,
    #[command(flatten)]
    all_or_nothing: AllOrNothing,
    #[command(flatten)]
    waiting: Waiting,
}

impl Move {
    fn asked(&self, context: &Context) -> Result<Request> {
        let Self { sources, destination, inside, doing, .. } = self;
        let places = places(sources.clone(), destination.clone(), inside.inside)?;
        let guards = self.aside.over_move(doing.safety.guards(), context);
        let dropping = Dropping::default();
        let request = self.comparing.request(Task::Move, places, &dropping, context)?;
        let request = self.steps.apply(request).guarded(guards);
        Ok(self.moving.apply(doing.apply(request)))
    }
}

impl Command for Move {
    fn run(&self, context: &Context) -> Result<Exit> {
        let anew = Anew {
            save_plan: self.saving.save_plan.as_deref(),
            wait_for_drive: self.waiting.wait_for_drive,
            all_or_nothing: self.all_or_nothing.all_or_nothing,
        };
        runner::change(&self.asked(context)?, &self.doing, anew, context)
    }

    fn request(&self, context: &Context) -> Result<Option<Request>> {
        self.asked(context).map(Some)
    }
}
