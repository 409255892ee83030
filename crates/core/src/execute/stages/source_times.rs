//! Times of source folders before removals change them. They are restored, so that the next run does not take the
//! time of a removal for a change.

use parking_lot::Mutex;
use std::collections::{HashMap, hash_map};
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::state::State;
use utter_echo_model::verb::Side;
use utter_echo_os::{Entry, Stat};

use crate::execute::stages::last_changes::LastChanges;
use crate::execute::stages::site::PartSite;
use crate::policy::PlannedFolder;

/// By folder index.
#[derive(Default)]
pub(super) struct SourceTimes(Mutex<HashMap<usize, State>>);

impl SourceTimes {
    /// Stores the times of folders from which something will be removed. The journal of an interrupted move may
    /// have the former times.
    pub(super) fn keep(
        &self,
        (site, interrupted): (&PartSite<'_>, Option<&InterruptedMove>),
        is_due: impl Fn(&PlannedFolder) -> bool,
    ) {
        let mut times = self.0.lock();
        let folders = site.part.folders.iter().enumerate();
        for (at, _) in folders.filter(|(_, folder)| is_due(folder)) {
            if let hash_map::Entry::Vacant(place) = times.entry(at)
                && let Some((_, mut now)) = source_folder(site, at)
            {
                if let Some(interrupted) = interrupted {
                    interrupted.correct(&site.part.source_path(at), &mut now);
                }
                place.insert(State::from(&now));
            }
        }
    }

    /// True if the time of a folder is stored.
    pub(super) fn has(&self, at: usize) -> bool {
        self.0.lock().contains_key(&at)
    }

    /// Restores the times, except of folders that somebody else has changed.
    pub(super) fn restore(&self, site: &PartSite<'_>, last_changes: &LastChanges) {
        for (at, was) in &*self.0.lock() {
            let changed = source_folder(site, *at).filter(|(_, now)| {
                let is_ours = !last_changes.are_followed((Side::Source, *at), now);
                now.modified != was.modified() && is_ours
            });
            if let Some((folder, now)) = changed {
                // This may not be permitted, and nothing depends on it.
                let entry = Entry::Open(folder.as_fd());
                let _ = site.system().set_times(entry, was.modified(), Some(now.accessed));
            }
        }
    }
}

fn source_folder(site: &PartSite<'_>, at: usize) -> Option<(OwnedFd, Stat)> {
    let path = site.part.source_path(at);
    let folder = site.system().open_folder(site.pair.source.as_fd(), path.as_bytes()).ok()?;
    let stat = site.system().stat(Entry::Open(folder.as_fd())).ok()?;
    Some((folder, stat))
}
