//! Plans: all steps of a run with reasons; saved plans, stale steps, and the needed space.

mod assemble;
mod order;
pub mod saved;
mod space;
mod stale;
mod steps;
mod totals;

pub(crate) use assemble::root_stays;
pub(crate) use saved::{PlanLine, PlanReader, Purpose, each_line};
pub(crate) use space::{SpaceFreed, SpaceNeed, clears, shrinks};
pub(crate) use stale::{find, folder, state};
pub use steps::{PlacedStep, Plan, Undoes};
pub use totals::{StepTotals, Totals};

pub use crate::policy::Step;
pub use utter_echo_model::count::{Count, Tally};
pub use utter_echo_model::note::{Nested, NotHeld, Note, WhyRootStays};
pub use utter_echo_model::state::State;
pub use utter_echo_model::verb::{Reason, Side, UnknownVerb, Verb, Verbs};
