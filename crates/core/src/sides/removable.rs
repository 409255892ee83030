//! Whether something can be removed from a folder, which a move asks before it copies anything.

use std::io;
use std::os::fd::AsFd as _;

use utter_echo_model::problem::Cause;
use utter_echo_model::state::State;
use utter_echo_os::{Caller, Entry, Flags, System, is_forbidden};

use crate::sides::overlap;
use crate::sides::pair::Pair;

/// Why an entry of the source cannot be removed from a folder in which only `only_of` may remove their own entries.
pub(crate) fn why_kept(entry: &State, only_of: Option<u32>) -> Option<Cause> {
    if !entry.flags().and(Flags::LOCKS).is_empty() {
        Some(Cause::SourceFlagged)
    } else if only_of.is_some_and(|owner| owner != entry.uid) {
        Some(Cause::SourceOfAnother)
    } else {
        None
    }
}

/// True if the source's root cannot be removed from its folder.
pub(crate) fn is_root_kept(system: &dyn System, caller: &Caller, pair: &Pair) -> io::Result<bool> {
    let (above, _) = overlap::parent_of_root(system, &pair.source)?;
    match system.may_change(above.as_fd()) {
        Err(error) if is_forbidden(&error) => return Ok(true),
        other => other?,
    }
    let folder = system.stat(Entry::Pinned(above.as_fd()))?;
    let is_locked = !folder.flags.and(Flags::LOCKS).is_empty();
    let root = State::from(&pair.source_stat);
    Ok(is_locked || why_kept(&root, caller.bound_to(&folder)).is_some())
}
