//! The core of Utter Echo: makes one folder tree the faithful echo of another, and proves it.
//!
//! The way through the code is the way of a run: a [`request::Request`] opens a [`Session`]
//! (`sides`), whose [`Session::plan`] derives what to look at (`scope`), finds out in what both sides
//! differ (`compare`), decides about every difference (`policy`) and adds the steps up (`plan`);
//! [`Session::guard`] may refuse the whole (`guard`); [`Session::enact`] carries it out in `stages`,
//! entry by entry (`writer`). Beneath them all, `os` is the one place that makes system calls.
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
mod room;
pub mod saved;
pub mod select;

mod alike;
mod aside;
mod backlog;
mod bytes;
mod compare;
mod departure;
mod head;
mod leftovers;
mod mark;
mod overtaken;
mod patience;
mod policy;
mod pool;
mod reach;
mod runs;
mod scope;
mod session;
mod sides;
mod stages;
mod state;
mod temporary;
mod tree;
mod writer;

pub use aside::{About, BadRun, NotDiscarded, Overview, PastRun, discard, past_run, past_runs};
pub use runs::Standing;
pub use session::{PlanError, Session};
pub use sides::CallError;
pub use stages::{Ending, Outcome, StepOutcome};
