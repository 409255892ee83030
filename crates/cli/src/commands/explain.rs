//! `utter explain`: what a selection includes, and which rule decides.

use std::os::unix::ffi::OsStrExt as _;
use std::path::{Component, Path, PathBuf};

use anyhow::{Context as _, Result};
use clap::{Args, ValueHint};
use utter_echo_core::explain;
use utter_echo_core::os::Linux;

use crate::context::{Command, Context};
use crate::exit::{self, Exit, WrongCall, wrong_call};
use crate::location::{Location, location};
use crate::options::{Dropping, Selecting, ShownOptions};
use crate::report::conversion;
use crate::report::events::{self, Head};
use crate::reporter::Report;
use crate::terminal::names;

const EXAMPLES: &str = "\
Examples:
  utter explain --exclude '*.wav' saltmere                   what each rule leaves out, in bytes
  utter explain --rules nightly.rules saltmere fog-signals   whether that is taken, and why";

/// Show what a selection includes, and which rule decided
///
/// For each PATH: whether it is included, the rule that decided with its file and line, and for a folder what that
/// means for its entries. Without a PATH: what each rule decides over the whole source, in entries and bytes, and
/// which rules match nothing.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Explain {
    /// The folder to copy
    #[arg(value_name = "SOURCE", value_hint = ValueHint::DirPath, value_parser = location())]
    source: Location,
    /// Entries to check, as paths in the source; they need not exist
    #[arg(value_name = "PATH", value_hint = ValueHint::AnyPath)]
    paths: Vec<PathBuf>,
    #[command(flatten)]
    selecting: Selecting,
    #[command(flatten)]
    shown: ShownOptions,
}

impl Command for Explain {
    fn run(&self, context: &Context) -> Result<Exit> {
        let form = self.shown.settle()?;
        let source = &self.source.find()?;
        let shown = names::path(source);
        if !source.is_dir() {
            wrong_call!(
                "source '{shown}' is not an existing folder\n  check the spelling, and that its drive is mounted"
            );
        }
        if self.selecting.cross_drives {
            wrong_call!(
                "--cross-drives is about the destination, and 'explain' reads only the source\n  leave it out"
            );
        }
        let sources = std::slice::from_ref(source);
        let selection = self.selecting.selection(sources, &Dropping::default(), context)?;
        let cannot = || WrongCall(format!("cannot look into '{shown}'"));
        let head = Head::new(events::CommandWord::Explain).reading(source);
        if self.paths.is_empty() {
            let report = Report::new(form, head, &context.heard);
            let survey = explain::survey(&Linux, source, &selection).with_context(cannot)?;
            report.emit_all(conversion::survey(&survey));
            let exit = if survey.problems.is_empty() { Exit::Done } else { Exit::Problems };
            return Ok(exit::of_shown(exit));
        }
        let mut explained = Vec::new();
        for path in &self.paths {
            let path = within(source, path)?;
            let path = path.as_os_str().as_bytes();
            explained.push(explain::path(&Linux, source, &selection, path).with_context(cannot)?);
        }
        Report::new(form, head, &context.heard).emit_all(conversion::explained(&explained));
        Ok(exit::of_shown(Exit::Done))
    }
}

/// A path relative to the source, also if typed with the source in front.
fn within(source: &Path, path: &Path) -> Result<PathBuf> {
    let relative = path.strip_prefix(source).unwrap_or(path);
    let leads_away =
        relative.components().any(|part| !matches!(part, Component::Normal(_) | Component::CurDir));
    if leads_away {
        let (path, source) = (names::path(path), names::path(source));
        wrong_call!("'{path}' is not in '{source}'\n  give paths inside the source");
    }
    let clean: PathBuf =
        relative.components().filter(|c| !matches!(c, Component::CurDir)).collect();
    // A trailing slash means a folder, if the entry does not exist.
    let slash = path.as_os_str().as_bytes().ends_with(b"/");
    Ok(if slash { clean.join("") } else { clean })
}
