//! Suggestions of values for shells.

use std::ffi::OsStr;
use std::path::PathBuf;

use clap_complete::engine::CompletionCandidate;
use utter_echo_core::attribute::Attribute;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::Verb;
use utter_echo_core::request::Guard;
use utter_echo_core::{drives as mounted, past_runs};

use crate::remembered;

type Suggestions = Vec<CompletionCandidate>;

/// Suggestions of the last word of a list with commas.
fn listed<'a>(typed: &OsStr, words: impl IntoIterator<Item = &'a str>) -> Suggestions {
    let typed = typed.to_string_lossy();
    let (before, last) = typed.rfind(',').map_or(("", &*typed), |at| typed.split_at(at + 1));
    let fitting = words.into_iter().filter(|word| word.starts_with(last));
    fitting.map(|word| CompletionCandidate::new(format!("{before}{word}"))).collect()
}

pub(crate) fn plain(typed: &OsStr, words: impl IntoIterator<Item = String>) -> Suggestions {
    let typed = typed.to_string_lossy();
    let fitting = words.into_iter().filter(|word| word.starts_with(&*typed));
    fitting.map(CompletionCandidate::new).collect()
}

pub(super) fn steps(typed: &OsStr) -> Suggestions {
    listed(typed, Verb::ALL.map(Verb::name).into_iter().chain(["all"]))
}

pub(super) fn attributes(typed: &OsStr) -> Suggestions {
    listed(typed, Attribute::ALL.map(Attribute::name).into_iter().chain(["all"]))
}

pub(super) fn kinds(typed: &OsStr) -> Suggestions {
    listed(typed, ["file", "folder", "symlink", "special"])
}

pub(super) fn guards(typed: &OsStr) -> Suggestions {
    let waivable = Guard::ALL.into_iter().filter(|guard| *guard != Guard::Overlap);
    listed(typed, waivable.map(Guard::name))
}

/// Labels and UUIDs of the mounted drives.
pub(super) fn drives(typed: &OsStr) -> Suggestions {
    plain(typed, mounted::names(&Linux).unwrap_or_default())
}

/// Folders of runs with set-aside entries.
pub(crate) fn runs(typed: &OsStr) -> Suggestions {
    let found = |folder: &PathBuf| past_runs(&Linux, folder).unwrap_or_default();
    let runs = remembered::folders().into_iter().flat_map(|folder| found(&folder));
    plain(typed, runs.filter_map(|run| run.path.into_os_string().into_string().ok()))
}
