//! Interaction with people: streams, names, units, quoting.

pub(crate) mod colors;
pub(crate) mod names;
pub(crate) mod shell;
pub(crate) mod streams;
pub(crate) mod units;
