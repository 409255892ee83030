//! Facts about both sides. They are walked side by side, folder by folder, and each folder is passed to a
//! [`FolderSink`] once everything in it is known.
//!
//! The comparison knows neither commands nor verbs: a [`Scope`](crate::request::Scope) says what to look at.
//! Whether a folder takes part because of its entries is known when the last folder below it is closed. A folder
//! without differences leaves nothing in memory.

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
    Change, ComparedFolder, Difference, DifferenceKind, FolderDecision, FolderHead, FolderSink,
    LinkedEntry, LinkedName, Obstacle, OnSide, Presence, WhatStays,
};
pub(crate) use found::{Compared, Halt, LeftBehind, RootDifference};
pub(crate) use in_disk_order::compare_in_disk_order;
pub(crate) use rename_path::of_roots;
pub(crate) use rename_proof::{ExpectedFolders, LikelyRenames, MovedEntry, Proof, ProvenRename};
pub(crate) use roots::{compare, compare_roots_alone};
