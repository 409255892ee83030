//! Which runs may be removed.

use std::collections::BTreeMap;
use std::io;
use std::os::fd::AsFd as _;

use utter_echo_files::leftovers;
use utter_echo_model::path::TreePath;
use utter_echo_model::retention;
use utter_echo_os::Lock;

use crate::journal::lock::RunLock;
use crate::journal::store::{RunStore, journal_of};
use crate::request::Keep;

/// Suffix of the file that marks a run as old. It contains the name of the run that found it old.
const DUE: &str = ".due";

impl RunStore<'_> {
    /// Removes runs that need not be kept and that `may_go` accepts, except those in use. A run that is old by the
    /// clock of `finder` is removed only if an earlier run found it old, too. Returns the names of those that could
    /// not be removed.
    pub(crate) fn prune(
        &self,
        keep: &Keep,
        finder: &str,
        may_go: impl Fn(&str) -> bool,
    ) -> io::Result<Vec<(String, io::Error)>> {
        let old = self.alone(|| self.claim_old(keep, finder))?;
        let failed = old.into_iter().filter(|(run, _)| may_go(run)).filter_map(|(run, _lock)| {
            let removed = self.remove(&run);
            removed.err().map(|error| (run, error))
        });
        Ok(failed.collect())
    }

    /// The runs that need not be kept, each locked where the drive can lock.
    fn claim_old(&self, keep: &Keep, finder: &str) -> io::Result<Vec<(String, Option<Lock>)>> {
        let runs = self.names()?;
        let old = match keep {
            Keep::Newest(count) => runs[..runs.len().saturating_sub(*count)].to_vec(),
            Keep::Since(oldest) => self.old_by_age(&runs, oldest, finder)?,
        };
        let claim = |run: String| match self.hold(&run) {
            RunLock::Ours(lock) => Some((run, Some(lock))),
            RunLock::Unknown => Some((run, None)),
            RunLock::InUse => None,
        };
        Ok(old.into_iter().filter_map(claim).collect())
    }

    fn old_by_age(&self, runs: &[String], oldest: &str, finder: &str) -> io::Result<Vec<String>> {
        let mut marked = BTreeMap::new();
        for run in runs {
            marked.extend(self.found_old_by(run)?.map(|by| (run.clone(), by)));
        }
        let aged = retention::decide(runs, |run| run.as_str() < oldest, &marked, finder);
        for run in marked.keys().filter(|run| !aged.marked.contains_key(*run)) {
            // The mark goes last.
            if !aged.goes.contains(run) {
                self.system.remove_file(self.folder(), &due_of(run))?;
            }
        }
        for (run, by) in aged.marked.iter().filter(|(run, _)| !marked.contains_key(*run)) {
            let mark = self.system.create_file(self.folder(), &due_of(run), 0o600)?;
            self.system.write_at(mark.as_fd(), by.as_bytes(), 0)?;
        }
        Ok(aged.goes)
    }

    /// The run that found this one old, if any.
    fn found_old_by(&self, run: &str) -> io::Result<Option<String>> {
        let mark = match self.system.open_file(self.folder(), &due_of(run)) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            other => other?,
        };
        let mut name = [0; 64];
        let read = self.system.read_at(mark.as_fd(), &mut name, 0)?;
        Ok(Some(String::from_utf8_lossy(&name[..read]).into_owned()))
    }

    /// Removes the set-aside entries of a run, then its journal: a journal without a folder shows that the removal
    /// is unfinished.
    pub(crate) fn remove(&self, run: &str) -> io::Result<()> {
        match leftovers::remove_below(self.system, self.folder(), TreePath::from(run.as_bytes())) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => {}
        }
        match self.system.remove_file(self.folder(), &due_of(run)) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => {}
        }
        self.system.remove_file(self.folder(), &journal_of(run))
    }
}

fn due_of(run: &str) -> Vec<u8> {
    format!("{run}{DUE}").into_bytes()
}
