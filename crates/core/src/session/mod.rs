//! A run from beginning to end: the stations in their order.

mod error;
mod run;
mod undo;

pub use error::PlanError;
pub use run::Session;
