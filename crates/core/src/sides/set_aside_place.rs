//! The place for set-aside runs, before the run begins.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::path::PathBuf;

use utter_echo_model::names::NameRules;
use utter_echo_os::{Identity, System};

use crate::request::SetAside;
use crate::sides::pair::{CallError, Pair, RootPath};
use crate::sides::{open, overlap};

/// The place for set-aside runs, before the run begins.
#[derive(Debug)]
pub(crate) struct SetAsidePlace {
    pub(crate) place: RootPath,
    pub(crate) path: PathBuf,
}

impl SetAsidePlace {
    pub(crate) fn open(system: &dyn System, set_aside: &SetAside) -> Result<Self, CallError> {
        let place = open::find_place(system, &set_aside.folder)?;
        Ok(Self { place, path: set_aside.folder.clone() })
    }

    /// True if it lies within one of the two sides.
    pub(crate) fn is_in_the_way(&self, system: &dyn System, pair: &Pair) -> io::Result<bool> {
        let to = &pair.destination;
        if !to.exists() {
            let same = self.drive_and_folder() == to.anchor_stat.identity;
            if same && self.place.missing.starts_with(&to.missing) {
                return Ok(true);
            }
        }
        let is_folder = pair.single.is_none();
        let source = is_folder.then_some(pair.source_stat.identity);
        let destination = (is_folder && to.exists()).then_some(to.anchor_stat.identity);
        let mut above = overlap::folders_above(system, &self.place.anchor)?;
        above.push(self.drive_and_folder());
        Ok([source, destination].into_iter().flatten().any(|side| above.contains(&side)))
    }

    pub(crate) fn is_in_the_way_of_any(&self, system: &dyn System, pairs: &[Pair]) -> bool {
        pairs.iter().any(|pair| self.is_in_the_way(system, pair).unwrap_or(true))
    }

    /// The same for other spellings of its path.
    pub(crate) fn is_spelled_within(
        &self,
        system: &dyn System,
        pair: &Pair,
        names: &NameRules,
    ) -> io::Result<bool> {
        Ok(pair.single.is_none() && overlap::is_within(system, &self.place, pair, names)?)
    }

    /// Its deepest existing folder.
    fn drive_and_folder(&self) -> Identity {
        self.place.anchor_stat.identity
    }

    /// The folder itself, if it exists.
    pub(crate) fn store(&self) -> Option<Identity> {
        self.place.exists().then(|| self.drive_and_folder())
    }

    pub(crate) fn drive(&self) -> u64 {
        self.drive_and_folder().drive
    }

    pub(crate) fn anchor(&self) -> BorrowedFd<'_> {
        self.place.anchor.as_fd()
    }

    pub(crate) fn shown(&self) -> String {
        self.path.to_string_lossy().into_owned()
    }
}
