//! From paths as a user types them to open roots.

mod open;
mod overlap;
mod pair;
mod removable;
mod set_aside_place;

pub(crate) use open::{OpenedSides, find_place, open, real_path};
pub(crate) use overlap::{open_folders_above, overlap, overlap_by_mounts, parent_of_root};
pub use pair::CallError;
pub(crate) use pair::{Pair, RootPath, SingleEntry, split};
pub(crate) use removable::{is_root_kept, why_kept};
pub(crate) use set_aside_place::SetAsidePlace;
