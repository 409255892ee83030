//! A past run, and the plan that takes it back.

mod markers;
mod moved;
mod original_source;
mod partners;
mod past_run;
mod prune;
mod regroup;
mod reversed;

pub use past_run::{BadRun, PastRun};
