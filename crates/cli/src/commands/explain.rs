//! `utter explain`: what a selection takes, and which rule decides.

use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result, bail};
use utter_echo_core::explain;
use utter_echo_core::os::Linux;

use crate::args::{Explain, Format};
use crate::exit::{self, Exit};
use crate::present::{self, names};

pub(crate) fn explain(args: &Explain) -> Result<Exit> {
    if args.format == Format::Csv {
        bail!("--format csv is for 'verify' alone; use text or json");
    }
    present::choose_colors(args.color);
    let source = &args.source;
    let shown = names::shown(source.as_os_str().as_bytes());
    if !source.is_dir() {
        bail!(
            "source '{shown}' is no folder that exists\n  check the spelling, and that its drive is mounted"
        );
    }
    let selection = args.takes.selection(std::slice::from_ref(source), false)?;
    let cannot = || format!("cannot look into '{shown}'");
    if args.paths.is_empty() {
        let survey = explain::survey(&Linux, source, &selection).with_context(cannot)?;
        present::survey(args.format, source, &survey)?;
        let exit = if survey.problems.is_empty() { Exit::Done } else { Exit::Problems };
        return Ok(exit::of_shown(exit));
    }
    let mut explained = Vec::new();
    for path in &args.paths {
        let path = within(source, path)?;
        let path = path.as_os_str().as_bytes();
        explained.push(explain::path(&Linux, source, &selection, path).with_context(cannot)?);
    }
    present::explained(args.format, &explained)?;
    Ok(exit::of_shown(Exit::Done))
}

/// A path as one within the source, also if it was typed with the source before it.
fn within(source: &Path, path: &Path) -> Result<PathBuf> {
    let relative = path.strip_prefix(source).unwrap_or(path);
    let leads_away = relative.components().any(|part| {
        !matches!(part, std::path::Component::Normal(_) | std::path::Component::CurDir)
    });
    if leads_away {
        let (path, source) = (path.display(), source.display());
        bail!("'{path}' does not lie in '{source}'\n  give paths as they are within the source");
    }
    let clean: PathBuf =
        relative.components().filter(|c| !matches!(c, std::path::Component::CurDir)).collect();
    // A slash at the end says that a folder is meant, should it not exist.
    let slash = path.as_os_str().as_bytes().ends_with(b"/");
    Ok(if slash { clean.join("") } else { clean })
}
