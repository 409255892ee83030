//! A past run, from its journal.

use std::collections::HashSet;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd as _, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use utter_echo_files::{hidden_names, leftovers};
use utter_echo_model::note::Note;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Cause;
use utter_echo_model::verb::Verb;
use utter_echo_os::System;

use crate::journal::{
    self, JournalMark, JournalWriter, PastPart, RunLock, RunStore, Standing, Unreadable,
};
use crate::plan::{PlacedStep, Plan, Purpose};

/// Why a run cannot be undone.
#[derive(Debug, thiserror::Error)]
pub enum BadRun {
    /// There is no such run.
    #[error("'{path}' is not the folder of a set-aside run{}", hint(.cause, .runs))]
    NoRun {
        /// As the user named it.
        path: String,
        /// Why.
        cause: Cause,
        /// The runs that this folder holds, the oldest first.
        runs: Vec<String>,
    },
    /// The run was killed before it was ready to change anything.
    #[error(
        "'{0}' was never started: the run was killed before it touched anything, so there is nothing to undo\n  remove its folder and its undo journal with: utter undo --discard {0}"
    )]
    NeverBegun(String),
    /// Another version of this program wrote its journal.
    #[error(
        "the undo journal of '{path}' has version {version}, which this program does not know\n  undo it with the program that made it"
    )]
    Version {
        /// As the user named it.
        path: String,
        /// The version of its journal.
        version: u32,
    },
    /// The journal is damaged.
    #[error(
        "the undo journal of '{path}' is damaged: line {line}: {cause}\n  the set-aside entries are in its folder, under their former paths"
    )]
    Damaged {
        /// As the user named it.
        path: String,
        /// Counted from 1.
        line: usize,
        /// What is wrong.
        cause: String,
    },
}

/// Why there is no such run, and suggestions: the newest runs in the folder.
fn hint(cause: &Cause, runs: &[String]) -> String {
    const SHOWN: usize = 10;
    if runs.is_empty() {
        return format!(": {cause}\n  name a folder that --set-aside made for one run");
    }
    let newest: Vec<String> =
        runs.iter().rev().take(SHOWN).map(|run| format!("\n    {run}")).collect();
    let more = runs.len().saturating_sub(SHOWN);
    let more = if more > 0 { format!("\n    and {more} older ones") } else { String::new() };
    let count = if runs.len() == 1 { "one" } else { "some" };
    format!(
        ", but holds {count}\n  name the one to undo, the newest first:{}{more}",
        newest.concat()
    )
}

/// A past run, from its journal.
pub struct PastRun<'a> {
    /// The purpose of the run.
    pub purpose: Purpose,
    /// The folder of the run, as the user named it.
    pub path: PathBuf,
    pub(crate) system: &'a dyn System,
    pub(crate) store: RunStore<'a>,
    pub(crate) name: String,
    pub(crate) folder: OwnedFd,
    pub(crate) plan: Plan,
    pub(crate) parts: Vec<PastPart>,
    state: JournalState,
}

/// How far a run came, and its undo.
struct JournalState {
    standing: Standing,
    /// The journal records less than those of today.
    is_old: bool,
    /// Set once this process has begun to undo the run.
    begun: OnceLock<()>,
}

impl std::fmt::Debug for PastRun<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PastRun").field("path", &self.path).finish_non_exhaustive()
    }
}

impl<'a> PastRun<'a> {
    /// Reads the journal of the run whose folder or journal lies at `path`. Changes nothing, except that a missing
    /// folder of the run is made again.
    pub fn open(system: &'a dyn System, path: &Path) -> Result<Self, BadRun> {
        let shown = || path.to_string_lossy().into_owned();
        let missing = |cause: io::Error| BadRun::NoRun {
            path: shown(),
            cause: cause.into(),
            runs: journal::runs_below(system, path),
        };
        let (store, name) = journal::locate(system, path).map_err(missing)?;
        let damaged = |line, cause: String| BadRun::Damaged { path: shown(), line, cause };
        let journal = store.read(&name).map_err(|error| match error {
            Unreadable::Closed(error) => missing(error),
            Unreadable::Version(version) => BadRun::Version { path: shown(), version },
            Unreadable::Damaged(line) => {
                damaged(line, "it was changed after it was written".into())
            }
        })?;
        let opened = system.open_folder(store.folder(), name.as_bytes());
        if journal.standing == Standing::NeverBegun {
            // An entry in the folder of a run with a truncated journal may be the only copy, but not one under a
            // hidden name: that is what the drive was tried out with, or half a copy.
            let holds_nothing = match &opened {
                Ok(folder) => leftovers::entries_below(system, folder.as_fd())
                    .is_ok_and(|all| all.iter().all(is_hidden)),
                Err(error) => error.kind() == ErrorKind::NotFound,
            };
            return Err(if holds_nothing {
                BadRun::NeverBegun(shown())
            } else {
                damaged(journal.lines() + 1, "the rest is missing".into())
            });
        }
        let folder = opened.or_else(|error| match error.kind() {
            // Its discarding was interrupted.
            ErrorKind::NotFound => {
                system.create_folder(store.folder(), name.as_bytes(), 0o700)?;
                system.open_folder(store.folder(), name.as_bytes())
            }
            _ => Err(error),
        });
        let folder = folder.map_err(missing)?;
        let (purpose, mut plan, parts) =
            journal::read(&journal).map_err(|(line, cause)| damaged(line, cause))?;
        for past in &parts {
            journal::make_folders(system, folder.as_fd(), &past.prefix).map_err(missing)?;
        }
        plan.prefixes = parts.iter().map(|past| (&*past.prefix).into()).collect();
        let path = path.with_file_name(&name);
        let (standing, is_old) = (journal.standing, journal.is_old);
        let state = JournalState { standing, is_old, begun: OnceLock::new() };
        Ok(Self { purpose, path, system, store, name, folder, plan, parts, state })
    }

    /// The plan of the run.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// True for a removal from the source whose entry was verified byte by byte.
    pub fn has_compared(&self, placed: &PlacedStep<'_>) -> bool {
        let path = placed.path.as_bytes();
        placed.step.verb == Verb::RemoveSource
            && self.parts.iter().any(|past| {
                let below = path.strip_prefix(&*past.prefix).unwrap_or_default();
                past.moved.proven.contains_key(below.strip_prefix(b"/").unwrap_or(below))
            })
    }

    /// Its state.
    pub fn standing(&self) -> Standing {
        self.state.standing
    }

    /// True if somebody began to undo it before.
    pub(crate) fn was_begun(&self) -> bool {
        matches!(self.state.standing, Standing::BeingUndone | Standing::Undone)
    }

    /// False if the run was killed before the destination of this part was there.
    pub(super) fn has_reached(&self, past: &PastPart) -> bool {
        past.known.is_some() || self.state.is_old
    }

    /// What is to be known about its undo.
    pub(crate) fn note(&self) -> Option<Note> {
        self.state.is_old.then_some(Note::OldJournal)
    }

    /// True if anybody began to undo it.
    pub(crate) fn is_begun(&self) -> bool {
        self.was_begun() || self.state.begun.get().is_some()
    }

    /// Locks the run against being undone or removed, until the result is dropped.
    pub(crate) fn hold(&self) -> RunLock {
        self.store.hold(&self.name)
    }

    /// Records in the journal that the undo begins.
    pub(crate) fn begin_undo(&self) -> io::Result<()> {
        let _ = self.state.begun.set(());
        self.recorder()?.mark(JournalMark::Undoing)
    }

    /// Removes the folder of the run and its journal, after everything is undone.
    pub fn discard(&self) -> io::Result<()> {
        self.recorder()?.mark(JournalMark::Undone)?;
        self.clear_markers();
        self.remove_new_roots()?;
        self.hand_down()?;
        self.store.remove(&self.name)
    }

    /// Entries in the folder of the run that it did not set aside: somebody else put them there.
    pub(crate) fn still_aside(&self) -> Vec<TreePath> {
        let known: HashSet<TreePath> =
            self.plan.steps().filter(|placed| placed.step.displaces()).map(|p| p.path).collect();
        let held = leftovers::entries_below(self.system, self.folder.as_fd());
        // What cannot be listed is not removed either.
        let held = held.unwrap_or_else(|_| vec![TreePath::default()]);
        let is_known = |path: &TreePath| known.contains(path) || is_hidden(path);
        held.into_iter().filter(|path| !is_known(path)).collect()
    }

    fn recorder(&self) -> io::Result<JournalWriter<'a>> {
        // Marks of an undo may have been added since it was read.
        match self.store.read(&self.name) {
            Ok(journal) => self.store.resume(&self.name, &journal),
            Err(Unreadable::Closed(error)) => Err(error),
            Err(_) => Err(ErrorKind::InvalidData.into()),
        }
    }
}

/// True for what has a hidden name, and for what lies below one.
fn is_hidden(path: &TreePath) -> bool {
    path.as_bytes().split(|b| *b == b'/').any(hidden_names::is_hidden_name)
}
