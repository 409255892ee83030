//! `utter move`: as copy, then remove from the source what was verified.

use anyhow::Result;
use clap::{Args, ValueHint};
use utter_echo_core::request::{Places, Request, Task};

use crate::context::{Command, Context};
use crate::exit::Exit;
use crate::location::{Location, location};
use crate::options::{AllOrNothing, Changing, Dropping, Inside, Moving, places};
use crate::report::events::CommandWord;
use crate::runner::{self, AskedRun, PlanOptions};

const EXAMPLES: &str = "\
Examples:
  utter move --dry-run /mnt/stick archive/1931    what would arrive there, and go from here
  utter move --age 1y.. logbooks archive          only what was not changed for a year";

/// Copy, then remove from the source what was verified in the destination
///
/// On one drive, entries are renamed: a whole folder in one step if all of it moves and nothing is in its way.
/// Between drives, an entry is removed from the source only after its copy on the drive was compared with it, byte
/// by byte and with all attributes. An entry that cannot be verified, changes, or is open for writing stays in the
/// source and is listed. Folders are removed once they are empty. Entries that the selection excludes stay, with
/// their folders. Entries that could not be removed from the source (read-only drive, no permission) are not
/// copied. All hard links of a file move together, or none does. The source folder itself is removed, too, if
/// nothing stays in it, no drive is mounted on it, it is not your working folder, and its parent can be changed. An
/// interrupted move loses nothing, and the same command finishes it. It keeps an undo journal for six months, and
/// 'utter undo' moves everything back. Only 'utter move' ever changes a source; 'utter copy' and 'utter mirror'
/// never do.
#[derive(Debug, Args)]
#[command(name = "move", after_help = EXAMPLES)]
pub(crate) struct Move {
    /// Folders or single entries to move
    #[arg(required = true, value_name = "SOURCE", value_hint = ValueHint::AnyPath, value_parser = location())]
    sources: Vec<Location>,
    /// Where to put them
    #[arg(value_name = "DESTINATION", value_hint = ValueHint::AnyPath, value_parser = location())]
    destination: Location,
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
        let places = places(sources, destination, inside.inside)?;
        // Who types it looks at what was meant.
        let places = Places { some_may_be_missing: context.job().is_some(), ..places };
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
        let places = (&*self.sources, &self.destination);
        let run = AskedRun::of(CommandWord::Move, places, changing, || self.asked(context));
        runner::change(run, &changing.doing, anew, context)
    }

    fn request(&self, context: &Context) -> Result<Option<Request>> {
        self.asked(context).map(Some)
    }
}
