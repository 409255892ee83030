//! Queries to a selection, and its verdicts.

use std::io;

use utter_echo_os::{Kind, Stat};

/// The verdict of a selection about one entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It takes part. `all_below` is set if `--only` is not checked below it.
    Take {
        /// Everything below it is selected too.
        all_below: bool,
    },
    /// A folder that takes part only if something in it does.
    IfNeeded {
        /// Everything below it is selected.
        all_below: bool,
    },
    /// It is left out, and everything below it.
    Leave,
}

/// The entry that is decided about.
#[derive(Clone, Copy, Debug)]
pub struct Query<'a> {
    /// Relative to the root.
    pub path: &'a [u8],
    /// Its type.
    pub kind: Kind,
    /// Levels below the root.
    pub depth: u32,
    /// `all_below` of the verdict on the folder above.
    pub all_below: bool,
}

/// Metadata of an entry besides its path and kind.
#[derive(Clone, Copy)]
pub struct Metadata<'a> {
    /// Its attributes.
    pub stat: &'a Stat,
    /// Whether a folder is marked as a cache. This costs system calls, so it is asked last.
    pub is_cache: &'a dyn Fn() -> io::Result<bool>,
}

/// The side that a decision is counted for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CountedSide {
    /// On the source.
    Source,
    /// Entries of the destination only.
    DestinationAlone,
}
