//! Whether the places of a past run are still those that it worked in.
//!
//! A path may lead to another folder by now: where a drive is not mounted an empty folder is left, and folders are
//! renamed, replaced and linked to.

use std::os::fd::AsFd as _;
use std::path::Path;

use utter_echo_os::System;

use crate::journal::{PastPart, RootIdentity};
use crate::policy::Part;
use crate::sides::{Pair, RootPath};
use crate::undo::past_run::PastRun;

impl PastRun<'_> {
    /// A destination that is not the one that the run changed.
    pub(crate) fn other_place<'p>(&self, pairs: &'p [Pair]) -> Option<&'p Pair> {
        let mut both = self.parts.iter().zip(pairs);
        let other = both.find(|(past, pair)| !past.is_root_of(self.system, &pair.destination));
        other.map(|(_, pair)| pair)
    }

    /// A source that is not the one that the move took entries from, of the parts that may have something left.
    pub(crate) fn other_origin<'p>(&self, pairs: &'p [Pair]) -> Option<&'p Pair> {
        let mut both = self.left().zip(pairs);
        let other = both
            .find(|((past, part), pair)| !past.is_origin_of(part, self.system, &pair.destination));
        other.map(|(_, pair)| pair)
    }
}

impl PastPart {
    fn is_root_of(&self, system: &dyn System, place: &RootPath) -> bool {
        self.known.as_ref().unwrap_or(&self.first).is_at(system, place)
    }

    fn is_origin_of(&self, part: &Part, system: &dyn System, place: &RootPath) -> bool {
        let Some(origin) = &self.moved.origin else { return true };
        // No link led there when the move began.
        if !leads_straight(system, place, &origin.folder.clone().path()) {
            return false;
        }
        // A root that the move took away is made again, by the undo or by whoever fills that folder.
        let was_taken = part.root_source_removal.is_some()
            || part.root.is_some_and(|root| root.is_taken_over());
        match &self.moved.known {
            Some(known) if !was_taken => known.is_at(system, place),
            _ => {
                let drive = origin.drive.clone();
                let first = RootIdentity { drive, inode: None, born: None };
                first.is_at(system, place)
            }
        }
    }
}

/// True if no symbolic link leads to `place`, which was opened by this real path.
fn leads_straight(system: &dyn System, place: &RootPath, path: &Path) -> bool {
    let opened = path.ancestors().nth(place.missing.len());
    let real = system.real_path(place.anchor.as_fd()).ok();
    opened.is_some() && real.as_deref() == opened
}
