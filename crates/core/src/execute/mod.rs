//! Operations. A plan is carried out in stages; what is done to one entry is the writer's.

mod outcome;
mod stages;
mod writer;

pub use outcome::{Ending, Outcome};
pub(crate) use stages::{RemovalTerms, Terms, carry_out};
