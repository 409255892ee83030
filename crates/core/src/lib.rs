//! The core of Utter Echo: makes one folder tree the faithful echo of another, and proves it.
//!
//! The way through the code is the way of a run: a [`request::Request`] opens a [`Session`]
//! (`pair`), whose [`Session::plan`] decides what takes part (`select`), reads both sides
//! (`tree`), puts them side by side (`compare`) and writes down every step (`plan`);
//! [`Session::guard`] may refuse the whole (`guard`); [`Session::apply`] carries it out
//! (`apply`). Beneath them all, `os` is the one place that makes system calls.
//!
//! The core prints nothing, parses no arguments and never ends the process. An
//! [`observe::Observer`] hears what goes on and may ask a run to stop.

pub mod abilities;
pub mod aspect;
pub mod drives;
pub mod explain;
pub mod guard;
pub mod observe;
pub mod os;
pub mod path;
pub mod plan;
pub mod problem;
pub mod request;
pub mod saved;
pub mod select;

mod alike;
mod apply;
mod aside;
mod bytes;
mod compare;
mod drift;
mod mark;
mod pair;
mod patience;
mod pool;
mod reach;
mod session;
mod temporary;
mod tree;

pub use apply::{Ending, Outcome, StepOutcome};
pub use aside::{BadRecord, Recorded};
pub use pair::CallError;
pub use session::{PlanError, Session};
