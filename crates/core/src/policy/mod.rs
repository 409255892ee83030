//! Decisions. Turns differences into steps: folder by folder (`folder`), then hard links (`links`) and renames
//! (`renames`), and checks every step against the options (`may`).
//!
//! Nothing else can make a [`Step`]. This module calls no file system: it gets facts about drives (`DriveFacts`),
//! and proofs that need reading (`compare::Proof`).

mod decide;
mod decision;
mod decisions;
mod dependence;
mod draft;
mod folder;
mod likely_renames;
mod links;
mod may;
mod part;
mod partners;
mod rename_candidates;
mod renames;
mod reverse_steps;
mod saved_steps;
mod source_names;
mod step;
mod step_id;
mod take_over;
mod terms;
#[cfg(test)]
mod tests;

pub(crate) use decisions::Decisions;
pub(crate) use dependence::withdraw;
pub(crate) use draft::Draft;
pub(crate) use part::{NameElsewhere, Part, PlannedFolder};
pub(crate) use partners::{LinkPartner, Linker, RestoredLinks};
pub(crate) use reverse_steps::{
    BackProof, Reversal, StepTraces, adjusted, close, copy_back, leave, rename_back, reverse, timed,
};
pub(crate) use saved_steps::{SavedParts, from_saved_plan};
pub(crate) use source_names::SourceNames;
pub use step::Step;
pub(crate) use step::{NameId, Relation};
pub(crate) use step_id::StepId;
pub(crate) use terms::{Conflicts, Policy};
