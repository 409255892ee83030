//! Sources and destination.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use anyhow::Result;
use utter_echo_core::request::Places;

use crate::exit::wrong_call;
use crate::location::Location;
use crate::terminal::names;

/// The two sides, whose drives must be mounted by now; refuses what a shell user may have meant otherwise.
pub(crate) fn places(sources: &[Location], destination: &Location, inside: bool) -> Result<Places> {
    let both = || sources.iter().chain([destination]);
    let typed = both().map(|place| place.typed().to_owned()).collect();
    let drives = both().map(|place| place.drive().map(|drive| drive.text().to_owned())).collect();
    let sources: Vec<PathBuf> = sources.iter().map(Location::find).collect::<Result<_>>()?;
    let destination = destination.find()?;
    refuse_misread(&sources, &destination)?;
    Ok(Places { inside, typed, drives, ..Places::new(sources, destination) })
}

fn refuse_misread(sources: &[PathBuf], destination: &Path) -> Result<()> {
    sources.iter().try_for_each(|source| refuse_misread_path(source, "source"))?;
    refuse_misread_path(destination, "destination")
}

fn refuse_misread_path(path: &Path, side: &str) -> Result<()> {
    if path.symlink_metadata().is_ok() {
        return Ok(());
    }
    let shown = names::path(path);
    let text = path.to_string_lossy();
    if text.starts_with("~/") || text == "~" {
        wrong_call!(
            "{side} '{shown}' does not exist\n  the shell replaces ~ by your home folder only outside quotes: write ~/ before them, or $HOME in double quotes"
        );
    }
    if side == "source" && text.contains(['*', '?']) {
        wrong_call!(
            "{side} '{shown}' does not exist\n  the shell replaces * and ? only outside quotes; to copy part of a folder, name the folder and add --only '{}'",
            names::shown(path.file_name().unwrap_or(OsStr::new("*")).as_encoded_bytes())
        );
    }
    if let Some(host) = host(&text) {
        wrong_call!(
            "{side} '{shown}' is on another machine, '{}', and only folders of this one can be used\n  mount the network share and name its mount point; for a folder of that name write './{shown}'",
            names::shown(host.as_bytes())
        );
    }
    Ok(())
}

/// The machine, if a path looks like `host:path` or `user@host:path`.
fn host(text: &str) -> Option<&str> {
    let (host, path) = text.split_once(':')?;
    let plain = |c: char| c.is_ascii_alphanumeric() || "-._@".contains(c);
    let is_host = !host.is_empty() && host.chars().all(plain) && !host.starts_with('.');
    // One letter and a colon is a drive of another system, not a machine.
    (is_host && host.len() > 1 && !path.is_empty()).then_some(host)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_shell_would_have_expanded_is_refused() {
        let refused = |source: &str, destination: &str| {
            let told = refuse_misread(&[source.into()], Path::new(destination));
            told.err().map(|error| error.to_string()).unwrap_or_default()
        };
        assert!(refused("~/logbooks", "x").contains("home folder"));
        assert!(refused("logbooks/*.csv", "x").contains("--only '*.csv'"));
        assert!(refused("/", "keeper@lantern:/srv").contains("mount the network share"));
        assert!(refused("lantern:logbooks", "x").contains("source 'lantern:logbooks'"));
        for place in ["./a:b", "new/a:b", "a b:c", "x:y/", "plain", "/a:b"] {
            assert_eq!(refused("/", place), "", "{place}");
        }
    }
}
