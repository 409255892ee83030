//! Clearing the dirty markers of a killed run after its undo.

use std::collections::HashSet;
use std::io;
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_files::dirty_marker::{self, Unflushed};
use utter_echo_files::hidden_names;
use utter_echo_files::listing::Listing;
use utter_echo_model::path::TreePath;
use utter_echo_os::{Entry, Kind};

use crate::policy::{Part, StepId};
use crate::undo::past_run::PastRun;

impl PastRun<'_> {
    /// Clears the marker of each destination, if only this run and its undo have changed entries since it was set. Where
    /// other drives lie below, it stays: they have clocks of their own, and are not flushed here.
    pub(crate) fn clear_markers(&self) {
        for (past, part) in self.parts.iter().zip(&self.plan.parts) {
            let root = self.system.open_root(&past.root);
            let root = root.and_then(|root| self.system.open_folder(root.as_fd(), b""));
            let Ok(root) = root else { continue };
            let Ok(Some(unflushed)) = dirty_marker::find(self.system, root.as_fd()) else {
                continue;
            };
            let is_all = self.is_all_that_changed(&root, part, unflushed).unwrap_or(false);
            if is_all && self.system.flush_drive(root.as_fd()).is_ok() {
                // Otherwise the next run that reads everything clears it.
                let _ = dirty_marker::clear(self.system, root.as_fd());
            }
        }
    }

    fn is_all_that_changed(
        &self,
        root: &OwnedFd,
        part: &Part,
        unflushed: Unflushed,
    ) -> io::Result<bool> {
        let folders = (0..part.folders.len()).map(|at| part.folder_path(at));
        let known: HashSet<TreePath> =
            part.all_ids().map(|id: StepId| part.path(id)).chain(folders).collect();
        let drive = self.system.stat(Entry::Open(root.as_fd()))?.identity.drive;
        let mut waiting = vec![TreePath::default()];
        while let Some(path) = waiting.pop() {
            let folder = self.system.open_folder(root.as_fd(), path.as_bytes())?;
            for name in Listing::read(self.system, folder.as_fd())?.names() {
                let stat = self.system.stat(Entry::Named(folder.as_fd(), name))?;
                let path = path.join(name);
                let is_foreign = unflushed.may_have_touched(&stat)
                    && !known.contains(&path)
                    && !hidden_names::is_hidden_name(name);
                if is_foreign || stat.identity.drive != drive {
                    return Ok(false);
                }
                if stat.kind == Kind::Folder {
                    waiting.push(path);
                }
            }
        }
        Ok(true)
    }
}
