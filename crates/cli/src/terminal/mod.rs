//! What is shown to people, and asked of them: streams, names, units, questions, progress.

pub(crate) mod ask;
pub(crate) mod names;
mod progress;
pub(crate) mod shell;
pub(crate) mod streams;
pub(crate) mod units;

pub(crate) use progress::Progress;
