//! What a selection is asked, and what it answers.

use std::io;

use utter_echo_os::{Kind, Stat};

/// What the selection says about one entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It takes part. `all_below` is set where no further `--only` is asked for below.
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

/// What is decided about.
#[derive(Clone, Copy, Debug)]
pub struct Query<'a> {
    /// Relative to the root.
    pub path: &'a [u8],
    /// Its type.
    pub kind: Kind,
    /// Levels below the root.
    pub depth: u32,
    /// What the folder above was taken with.
    pub all_below: bool,
}

/// What an entry is, beyond its path and kind.
#[derive(Clone, Copy)]
pub struct Metadata<'a> {
    /// Its attributes.
    pub stat: &'a Stat,
    /// Whether a folder is marked as a cache; costs calls, so it is asked last.
    pub is_cache: &'a dyn Fn() -> io::Result<bool>,
}

/// Which side a decision is counted for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CountedSide {
    /// On the source.
    Source,
    /// The destination has it and the source does not.
    DestinationAlone,
}
