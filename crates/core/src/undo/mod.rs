//! Undoing a past run.

mod chosen_back;
mod handed_down;
mod markers;
mod moved;
mod original_source;
mod partners;
mod past_run;
mod prune;
mod regroup;
mod reversed;
mod same_content;
mod same_places;

pub(crate) use chosen_back::LeftAlone;
pub use past_run::{BadRun, PastRun};
