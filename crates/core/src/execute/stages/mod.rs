//! The stages in which a part of a plan is carried out.

mod conclude;
mod disk_order;
mod enter;
mod fill;
mod flushing;
mod folder_attributes;
mod journal;
mod ledger;
mod make_space;
mod order;
mod put_off;
mod read_back;
mod recheck;
mod run;
mod source_removal;
mod steps;
pub(crate) use order::carry_out;
pub(crate) use run::{RemovalTerms, Terms};
