//! How the root folder of a part is known again.

use std::os::fd::AsFd;

use utter_echo_drives::{kinds, mounted};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_os::{System, Time};

use crate::sides::Pair;

/// What distinguishes the drive of a destination from others, and its folder.
pub(crate) fn identity(system: &dyn System, pair: &Pair) -> (Option<String>, Option<u64>) {
    let place = &pair.destination;
    let real = system.real_path(place.anchor.as_fd()).unwrap_or_default();
    let lasts = || kinds::numbers(system, place.anchor.as_fd()) == InodeNumbers::Stable;
    let inode = (place.exists() && lasts()).then_some(place.anchor_stat.identity.inode);
    (mounted::uuid_of(system, &real), inode)
}

/// The time of a folder that gets one more entry by the making of a root: it is one of the run's, though
/// it is part of neither side.
pub(crate) fn time_above(pair: &Pair) -> Option<Time> {
    let goes_inside = !pair.prefix.as_bytes().is_empty() && pair.destination.missing.len() == 1;
    goes_inside.then_some(pair.destination.anchor_stat.modified)
}
