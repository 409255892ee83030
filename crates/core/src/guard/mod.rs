//! Checks on a whole plan that can refuse it before anything is touched.

mod check;
mod locks;
mod nesting;
mod places;
mod refusal;
mod swapped;
mod uncarried;

pub(crate) use check::{GuardedRun, check};
pub(crate) use locks::take as take_locks;
pub(crate) use nesting::find as find_nested;
pub(crate) use places::{PlacesError, PlacesOfRun, overlap};
pub use refusal::Refusal;
