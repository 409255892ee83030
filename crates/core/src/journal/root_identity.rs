//! How to recognise the root folder of a part.

use std::os::fd::AsFd;

use utter_echo_drives::{kinds, mounted};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_os::{System, Time};

use crate::sides::Pair;

/// The identity of a destination: its drive and its folder.
pub(crate) fn identity(system: &dyn System, pair: &Pair) -> (Option<String>, Option<u64>) {
    let place = &pair.destination;
    let real = system.real_path(place.anchor.as_fd()).unwrap_or_default();
    let lasts = || kinds::numbers(system, place.anchor.as_fd()) == InodeNumbers::Stable;
    let inode = (place.exists() && lasts()).then_some(place.anchor_stat.identity.inode);
    (mounted::uuid_of(system, &real), inode)
}

/// The time of the folder in which a root is created. The run changes it, although it belongs to neither side.
pub(crate) fn time_above(pair: &Pair) -> Option<Time> {
    let goes_inside = !pair.prefix.as_bytes().is_empty() && pair.destination.missing.len() == 1;
    goes_inside.then_some(pair.destination.anchor_stat.modified)
}
