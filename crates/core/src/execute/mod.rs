//! Operations. A plan is carried out in stages (`stages`); a writer (`writer`) handles single entries.

mod outcome;
mod stages;
mod writer;

pub use outcome::{Ending, Outcome};
pub(crate) use stages::{Terms, carry_out};
