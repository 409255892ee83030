//! What is shown to people, and asked of them: streams, names, units, questions, progress.

pub(crate) mod names;
pub(crate) mod shell;
pub(crate) mod streams;
pub(crate) mod units;
