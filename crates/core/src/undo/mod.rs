//! Undoing a past run.

mod folder_back;
mod handed_down;
mod markers;
mod move_back;
mod moved;
mod original_source;
mod partners;
mod past_run;
mod prune;
mod regroup;
mod reversed;
mod same_content;
mod same_places;

pub(crate) use folder_back::PlacesBack;
pub(crate) use move_back::PartBack;
pub use past_run::{BadRun, PastRun};
