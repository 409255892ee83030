//! Whether and how a move removes the source's root itself.

use std::io;
use std::os::fd::AsFd as _;
use std::path::Path;

use utter_echo_model::note::WhyRootStays;
use utter_echo_model::state::State;
use utter_echo_os::Entry;

use crate::compare::{self, Comparison};
use crate::request::RenamePath;
use crate::session::run::Session;
use crate::sides::{self, Pair};

impl Session<'_> {
    /// Whether the source's root can be renamed to a destination that does not exist yet.
    pub(super) fn rename_path_of_root(&self, comparison: &Comparison<'_>) -> RenamePath {
        let pair = comparison.pair;
        let is_there = pair.destination.exists() || pair.single.is_some();
        let may_change = self.system.may_change(pair.source.as_fd());
        if is_there || may_change.is_err() || self.is_root_held(pair).unwrap_or(true) {
            return RenamePath::Impossible;
        }
        compare::of_roots(comparison)
    }

    fn is_root_held(&self, pair: &Pair) -> io::Result<bool> {
        sides::is_root_kept(self.system, &self.caller, pair)
    }

    /// The source's root folder, if a move may remove it: no mount point, and not the working folder. The error is
    /// the reason for a note, if any.
    pub(super) fn source_root_removal(&self, pair: &Pair) -> Result<State, Option<WhyRootStays>> {
        let stat = &pair.source_stat;
        if !self.request.task.removes_sources() || pair.single.is_some() {
            return Err(None);
        }
        if stat.mounted {
            return Err(Some(WhyRootStays::Mounted));
        }
        let here = self.system.open_root(Path::new("."));
        let here = here.and_then(|here| self.system.stat(Entry::Pinned(here.as_fd())));
        let works_there = here.is_ok_and(|here| here.identity == stat.identity);
        if works_there {
            return Err(Some(WhyRootStays::WorkedIn));
        }
        // If that cannot be found out, it is tried.
        if self.is_root_held(pair).unwrap_or(false) {
            Err(Some(WhyRootStays::Held))
        } else {
            Ok(stat.into())
        }
    }
}
