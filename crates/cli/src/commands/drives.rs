//! `utter drives`: mounted drives and their capabilities.

use std::path::PathBuf;

use anyhow::{Context as _, Result};
use clap::{Args, ValueHint};
use utter_echo_core::drives;
use utter_echo_core::os::Linux;

use crate::context::{Command, Context};
use crate::exit::{self, Exit, WrongCall};
use crate::location::{Location, location};
use crate::options::ShownOptions;
use crate::report::conversion;
use crate::report::events::{self, Head};
use crate::reporter::Report;

const EXAMPLES: &str = "\
Examples:
  utter drives                 all of them
  utter drives /mnt/lantern    the one that holds this folder";

/// List the mounted drives, their space, and what each can store
///
/// utter tests each drive with an unnamed file, or in a temporary folder that it removes. Read-only drives show
/// "not known".
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Drives {
    /// Only the drives of these folders [default: all]
    #[arg(value_name = "FOLDER", value_hint = ValueHint::DirPath, value_parser = location())]
    folders: Vec<Location>,
    #[command(flatten)]
    shown: ShownOptions,
}

impl Command for Drives {
    fn run(&self, context: &Context) -> Result<Exit> {
        let form = self.shown.settle()?;
        let folders: Vec<PathBuf> =
            self.folders.iter().map(Location::find).collect::<Result<_>>()?;
        let asked = drives::holding(&Linux, &folders)?;
        let only = (!asked.is_empty()).then_some(&*asked);
        let report = Report::new(form, Head::new(events::CommandWord::Drives), &context.heard);
        let drives = drives::list(&Linux, only).with_context(|| {
            let why = "cannot list the mounted drives\n  /proc must be mounted and readable: mount -t proc proc /proc";
            WrongCall(why.to_owned())
        })?;
        report.emit_all(conversion::drives(&drives));
        Ok(exit::of_shown(Exit::Done))
    }
}
