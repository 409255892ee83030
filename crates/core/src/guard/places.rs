//! The guard against places within one another.

use utter_echo_drives::map::DriveMap;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Cause;
use utter_echo_os::System;

use crate::guard::refusal::Refusal;
use crate::policy::Part;
use crate::request::{Keeping, Request};
use crate::sides::{self, Pair, SetAsidePlace};

/// The places of a run.
pub(crate) struct PlacesOfRun<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) request: &'a Request,
    /// The set-aside folder, or the folder of the undo journal.
    pub(crate) aside_place: Option<&'a SetAsidePlace>,
}

/// Why the places of a run are not accepted.
pub(crate) enum PlacesError {
    Refused(Refusal),
    /// Their positions cannot be found out.
    Unknown(Cause),
}

impl PlacesOfRun<'_> {
    /// Fails if one place of a pair lies within another, judged by the folders above them.
    pub(crate) fn check(&self, pair: &Pair) -> Result<(), PlacesError> {
        self.check_aside(pair).map_err(PlacesError::Refused)?;
        match sides::overlap(self.system, pair) {
            Ok(false) => Ok(()),
            Ok(true) => Err(PlacesError::Refused(overlap(&TreePath::default(), pair))),
            Err(error) => Err(PlacesError::Unknown(error.into())),
        }
    }

    /// The same for the set-aside folder only, which must not become part of a side.
    pub(crate) fn check_aside(&self, pair: &Pair) -> Result<(), Refusal> {
        let is_in_the_way =
            |place: &&SetAsidePlace| place.is_in_the_way(self.system, pair).unwrap_or(true);
        match self.aside_place.filter(is_in_the_way) {
            Some(place) => Err(set_aside_within(place, pair)),
            None => Ok(()),
        }
    }

    /// The same for mounts and spellings.
    pub(crate) fn check_mounts(&self, pair: &Pair, map: &DriveMap) -> Result<(), Refusal> {
        self.check_paths(pair, map, std::iter::empty())?;
        let names = &map.root().capabilities.drive.names;
        let is_within = |place: &&SetAsidePlace| {
            place.is_spelled_within(self.system, pair, names).unwrap_or(false)
        };
        let set_aside = self.request.safety.set_aside.as_ref();
        let keeps = set_aside.is_some_and(|set_aside| set_aside.what == Keeping::Displaced);
        match self.aside_place.filter(|_| keeps).filter(is_within) {
            Some(place) => Err(set_aside_within(place, pair)),
            None => Ok(()),
        }
    }

    /// The same for drives that were mounted since the plan was made, in changed folders.
    pub(crate) fn check_changed(
        &self,
        pair: &Pair,
        map: &DriveMap,
        part: &Part,
    ) -> Result<(), Refusal> {
        self.check_paths(pair, map, (0..part.folders.len()).map(|at| part.folder_path(at)))
    }

    fn check_paths(
        &self,
        pair: &Pair,
        map: &DriveMap,
        changed: impl Iterator<Item = TreePath>,
    ) -> Result<(), Refusal> {
        // The set-aside folder may lie beside the folder to restore.
        if self.request.task.is_undo() {
            return Ok(());
        }
        let same_drive = self.request.selection.stays_on_its_drive();
        match sides::overlap_by_mounts(self.system, pair, map, same_drive, changed) {
            Some(at) => Err(overlap(&at, pair)),
            None => Ok(()),
        }
    }
}

/// The refusal of two sides that overlap at this path.
pub(crate) fn overlap(at: &TreePath, pair: &Pair) -> Refusal {
    let at = String::from_utf8_lossy(at.as_bytes()).into_owned();
    Refusal::Overlap {
        source_path: pair.source_shown.clone(),
        destination_path: pair.destination_shown.clone(),
        at: (!at.is_empty() && pair.single.is_none()).then_some(at),
    }
}

fn set_aside_within(place: &SetAsidePlace, pair: &Pair) -> Refusal {
    Refusal::SetAsideWithin {
        folder: place.shown(),
        source_path: pair.source_shown.clone(),
        destination_path: pair.destination_shown.clone(),
    }
}
