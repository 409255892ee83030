//! A run from beginning to end: the stages in their order.

mod error;
mod run;
mod source_root;
mod undo;

pub use error::PlanError;
pub use run::Session;
