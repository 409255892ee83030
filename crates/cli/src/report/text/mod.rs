//! Events for people.

mod drives;
mod explained;
mod history;
mod jobs;
mod page;
mod past_runs;
mod phrases;
mod printer;
mod run;
mod schedule;
mod status;
mod styles;
mod table;
mod verdict;

pub(crate) use page::{Gathered, Log, Screen};
pub(crate) use printer::{Text, problem, step_line};
pub(crate) use run::plan_totals;
