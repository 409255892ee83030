//! Facts. Both sides are gone through side by side, folder by folder, and each folder is given
//! to a [`FolderSink`] once all in it is known.
//!
//! It knows neither the command nor the kinds of step: a scope of questions says what to look at.
//! What only its contents can settle (does a folder take part for what it holds) is settled when the
//! last folder below it ends; a folder in which nothing differs leaves nothing behind.

mod comparison;
mod content;
mod dated_names;
mod difference;
mod entry;
mod find;
mod found;
mod in_disk_order;
mod look;
mod node;
mod noted;
mod proof;
mod rename_path;
mod rename_proof;
mod roots;
mod visit;
mod walk;

pub(crate) use comparison::{Comparison, ComparisonTerms, ContentReads, OwnFolder};
pub(crate) use difference::{
    Change, ComparedFolder, Difference, FolderDecision, FolderHead, FolderSink, LinkedEntry,
    LinkedName, Obstacle, OnSide, Presence, What, WhatStays,
};
pub(crate) use found::{Compared, Halt, LeftBehind, RootDifference};
pub(crate) use in_disk_order::compare_in_disk_order;
pub(crate) use rename_path::of_roots;
pub(crate) use rename_proof::{ExpectedFolders, LikelyRenames, MovedEntry, Proof, ProvenRename};
pub(crate) use roots::{compare, compare_roots_alone};
