//! Equal size and time are no proof that two entries are the same.

use std::os::fd::AsFd as _;

use utter_echo_files::free_name::NamedEntry;
use utter_echo_files::same_content::{self, BLOCK, ReadLength};
use utter_echo_os::{Kind, System};

/// True if two entries of one kind and size hold the same bytes or link texts. What cannot be read does not.
pub(crate) fn same_content(
    system: &dyn System,
    one: NamedEntry<'_>,
    other: NamedEntry<'_>,
    (kind, size): (Kind, u64),
) -> bool {
    let same = match kind {
        Kind::File => system.open_file(one.0, one.1).and_then(|one| {
            let other = system.open_file(other.0, other.1)?;
            let length = ReadLength { size, block: BLOCK };
            let (one, other) = (one.as_fd(), other.as_fd());
            same_content::first_difference(system, one, other, length, |_, _| Ok(()))
                .map(|at| at.is_none())
        }),
        Kind::Symlink => system
            .read_link(one.0, one.1)
            .and_then(|text| Ok(text == system.read_link(other.0, other.1)?)),
        // The size of a device is its number.
        _ => Ok(true),
    };
    same.unwrap_or(false)
}
