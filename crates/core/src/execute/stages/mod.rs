//! The stages in which a part of a plan is carried out.

mod disk_order;
mod enter;
mod fill;
mod flushing;
mod folder_attributes;
mod health;
mod journal;
mod last_changes;
mod ledger;
mod make_space;
mod names;
mod order;
mod postponed;
mod read_back;
mod read_back_stage;
mod removal;
mod run;
mod site;
mod source_removal;
mod source_times;
mod steps;

pub(crate) use order::carry_out;
pub(crate) use run::Terms;
