//! Removing entries from the source, each only after its copy is verified on the destination's drive.

mod files;
mod folders;
mod links;
mod proof;
mod shared;
mod stage;

pub(super) use stage::{is_due, remove_from_source};
