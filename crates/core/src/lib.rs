//! The core of Utter Echo: copying, mirroring, moving and verifying folder trees.
//!
//! The modules follow a run: a [`request::Request`] opens a [`Session`] (`sides`), whose [`Session::plan`] finds
//! the differences of both sides (`compare`), decides about each (`policy`) and puts the steps together (`plan`);
//! [`Session::guard`] may refuse the plan (`guard`); [`Session::execute`] writes the undo journal (`journal`) and
//! carries out the plan (`execute`). This crate re-exports the crates below it.
//!
//! The core prints nothing, parses no arguments and never ends the process. An [`observe::Observer`] follows a run
//! and may ask it to stop.

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

/// Mounted drives, their labels and features.
pub mod drives {
    pub use utter_echo_drives::features::{Feature, Features};
    pub use utter_echo_drives::mounted::{
        Drive, NamedDrive, NoFolder, RememberedDrive, beneath, holding, list, named, names, room,
    };
    pub use utter_echo_model::names::{CaseFolding, NameBytes, NameRules};
}

pub use plan::saved;
pub use utter_echo_model::{attribute, observe, path, problem, retention};
pub use utter_echo_os as os;
pub use utter_echo_select as select;
pub use utter_echo_select::explain;

pub use execute::{Ending, Outcome};
pub use journal::{NotDiscarded, Overview, RunSummary, Standing, discard, past_run, past_runs};
pub use session::{PlanError, Session};
pub use sides::CallError;
pub use undo::{BadRun, PastRun};
pub use utter_echo_model::observe::StepOutcome;
