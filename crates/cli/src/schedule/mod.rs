//! Jobs at their times: when they start, and how the system is told to start them.

mod when;

pub(crate) use when::When;
