//! What the core guarantees: one file for each guarantee, and one program for all, so that it is linked once.

#![allow(missing_docs, reason = "the files say what they guarantee")]

mod common;

mod aside;
mod attackers;
mod attributes;
mod chains;
mod drives;
mod echo;
mod editors;
mod faults;
mod holes;
mod kills;
mod leftovers;
mod links;
mod lost;
mod lying;
mod moved_back;
mod moving;
mod options;
mod overtaken;
mod parsers;
mod patterns;
mod power;
mod renames;
mod resume;
mod saved;
mod selection;
mod slow;
mod swapper;
