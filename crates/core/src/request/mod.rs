//! The request of a run.
//!
//! A [`Request`] is built from defaults, and each part of it goes to the layer that needs it. The scope of a
//! comparison is derived from it in `scope` and nowhere else.

mod comparing;
mod run;
mod safety;
mod scope;
mod task;

pub use comparing::{Changed, CompareBy, Reading, Sample};
pub use run::Request;
pub use safety::{Guard, Keep, Keeping, RemovalLimit, Safety, SetAside};
pub(crate) use scope::{
    DriveCrossing, EqualEntries, ExtraFolders, HiddenAttributes, LeftOutEntries, RenamePath, Scope,
};
pub use task::{MoveOptions, OnConflict, Places, Task};
pub use utter_echo_model::running::{Cache, Flush, Retries, Running, Workers};
