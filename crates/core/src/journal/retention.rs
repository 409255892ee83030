//! Which runs may go.

use std::io;

use utter_echo_files::leftovers;
use utter_echo_model::path::TreePath;
use utter_echo_os::Lock;

use crate::journal::lock::Hold;
use crate::journal::store::{RunStore, notes_of};
use crate::request::Keep;

impl RunStore<'_> {
    /// Removes the runs that need not be kept and `may_go`, but for those that are in use, whatever the clock
    /// says. What could not be removed is told by its name.
    pub(crate) fn prune(
        &self,
        keep: &Keep,
        may_go: impl Fn(&str) -> bool,
    ) -> io::Result<Vec<(String, io::Error)>> {
        let old = self.alone(|| self.claim_old(keep))?;
        let failed = old.into_iter().filter(|(run, _)| may_go(run)).filter_map(|(run, _lock)| {
            let removed = self.remove(&run);
            removed.err().map(|error| (run, error))
        });
        Ok(failed.collect())
    }

    /// The runs that need not be kept, each held as far as that can be.
    fn claim_old(&self, keep: &Keep) -> io::Result<Vec<(String, Option<Lock>)>> {
        let mut runs = self.names()?;
        let old = match keep {
            Keep::Newest(count) => runs.len().saturating_sub(*count),
            Keep::Since(oldest) => runs.partition_point(|run| run < oldest),
        };
        runs.truncate(old);
        let claim = |run: String| match self.hold(&run) {
            Hold::Ours(lock) => Some((run, Some(lock))),
            Hold::Unknown => Some((run, None)),
            Hold::InUse => None,
        };
        Ok(runs.into_iter().filter_map(claim).collect())
    }

    /// Removes what a run set aside, and then its notes: notes without a folder tell what is left to be
    /// done.
    pub(crate) fn remove(&self, run: &str) -> io::Result<()> {
        match leftovers::remove_below(self.system, self.folder(), TreePath::from(run.as_bytes())) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => {}
        }
        self.system.remove_file(self.folder(), &notes_of(run))
    }
}
