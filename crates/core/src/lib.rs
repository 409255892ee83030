//! The core of Utter Echo: makes one folder tree the faithful echo of another, and proves it.
//!
//! The way through the code is the way of a run: a [`request::Request`] opens a [`Session`]
//! (`sides`), whose [`Session::plan`] finds out in what both sides differ (`compare`), decides about
//! every difference (`policy`) and adds the steps up (`plan`); [`Session::guard`] may refuse the whole
//! (`guard`); [`Session::execute`] writes down what undo needs (`journal`) and carries the plan out
//! (`execute`). The crates below hold what all of that stands on, and this one shows it under one name.
//!
//! The core prints nothing, parses no arguments and never ends the process. An
//! [`observe::Observer`] hears what goes on and may ask a run to stop.

pub mod guard;
pub mod plan;
pub mod request;

mod compare;
mod execute;
mod journal;
mod policy;
mod session;
mod sides;
mod undo;

/// Drives: which are mounted, what they are called, and what they can hold.
pub mod drives {
    pub use utter_echo_drives::features::{Feature, Features};
    pub use utter_echo_drives::mounted::{
        Drive, NamedDrive, NoFolder, RememberedDrive, beneath, holding, list, named, names, room,
    };
    pub use utter_echo_model::names::{CaseFolding, NameBytes, NameRules};
}

pub use plan::saved;
pub use utter_echo_model::{aspect, observe, path, problem, retention};
pub use utter_echo_os as os;
pub use utter_echo_select as select;
pub use utter_echo_select::explain;

pub use execute::{Ending, Outcome};
pub use journal::{About, NotDiscarded, Overview, Standing, discard, past_run, past_runs};
pub use session::{PlanError, Session};
pub use sides::CallError;
pub use undo::{BadRun, PastRun};
pub use utter_echo_model::observe::StepOutcome;
