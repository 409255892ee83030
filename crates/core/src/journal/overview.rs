//! Overviews of the runs in a folder, and discarding runs.

use std::io;
use std::path::{Path, PathBuf};

use utter_echo_os::System;

use crate::journal::lines::{self, RunSummary};
use crate::journal::lock::RunLock;
use crate::journal::reader::{Standing, Unreadable};
use crate::journal::store::{RunStore, locate, open_store};

/// An overview of a set-aside run.
#[derive(Debug)]
pub struct Overview {
    /// Its folder, below the one that was asked about.
    pub path: PathBuf,
    /// Its name, which is the time when it began.
    pub name: String,
    /// Its state and summary; an error if its journal is damaged or of another version.
    pub known: Result<(Standing, Option<RunSummary>), String>,
    /// The space in bytes of its set-aside entries, if known.
    pub room: Option<u64>,
}

/// The runs in a folder, the newest first. Changes nothing.
pub fn past_runs(system: &dyn System, folder: &Path) -> io::Result<Vec<Overview>> {
    let store = open_store(system, folder)?;
    Ok(store.names()?.into_iter().rev().map(|name| overview(&store, folder, name)).collect())
}

/// The run whose folder or journal lies at `path`; `None` if there is none. Changes nothing.
pub fn past_run(system: &dyn System, path: &Path) -> Option<Overview> {
    let (store, name) = locate(system, path).ok()?;
    let is_one = store.names().ok()?.contains(&name);
    is_one.then(|| overview(&store, path.parent().unwrap_or(Path::new("")), name))
}

fn overview(store: &RunStore<'_>, folder: &Path, name: String) -> Overview {
    let (path, known, room) = (folder.join(&name), known(store, &name), store.room(&name).ok());
    Overview { path, name, known, room }
}

fn known(store: &RunStore<'_>, name: &str) -> Result<(Standing, Option<RunSummary>), String> {
    match store.read(name) {
        Ok(read) => Ok((read.standing, lines::about(&read))),
        Err(Unreadable::Closed(error)) => Err(error.to_string()),
        Err(Unreadable::Version(version)) => Err(format!("its undo journal has version {version}")),
        Err(Unreadable::Damaged(line)) => {
            Err(format!("its undo journal is damaged in line {line}"))
        }
    }
}

/// Why a run was not discarded.
#[derive(Debug, thiserror::Error)]
pub enum NotDiscarded {
    /// There is no such run.
    #[error("'{}' is not the folder of a run that set something aside\n  'utter undo' lists those that can be undone or discarded", .0.display())]
    NoRun(PathBuf),
    /// It is running, or being undone.
    #[error("'{}' is still going on, or is being undone", .0.display())]
    InUse(PathBuf),
    /// Something of it could not be removed.
    #[error("'{}' cannot be removed: {cause}", path.display())]
    Failed {
        /// As the user named it.
        path: PathBuf,
        /// Why.
        cause: io::Error,
    },
}

/// Removes the set-aside entries of a run and its journal for good.
pub fn discard(system: &dyn System, path: &Path) -> Result<(), NotDiscarded> {
    let none = || NotDiscarded::NoRun(path.to_owned());
    let (store, name) = locate(system, path).map_err(|_| none())?;
    if !store.names().is_ok_and(|names| names.contains(&name)) {
        return Err(none());
    }
    let _lock = match store.hold(&name) {
        RunLock::InUse => return Err(NotDiscarded::InUse(path.to_owned())),
        RunLock::Ours(lock) => Some(lock),
        RunLock::Unknown => None,
    };
    let failed = |cause| NotDiscarded::Failed { path: path.to_owned(), cause };
    store.remove(&name).map_err(failed)
}
