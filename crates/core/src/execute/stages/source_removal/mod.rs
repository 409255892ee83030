//! Taking away from the source what has arrived, each entry only once it is proven that the destination's drive
//! holds it.

mod files;
mod folders;
mod links;
mod proof;
mod shared;
mod stage;

pub(super) use stage::{is_due, remove_from_source};
