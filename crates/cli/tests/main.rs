//! What the built program guarantees: one file for each guarantee, and one program for all, so that it is linked
//! once.

#![allow(missing_docs, reason = "the files say what they guarantee")]

mod common;

mod asks;
mod every_option;
mod faults;
mod full;
mod jobs;
mod json;
mod language;
mod layers;
mod logs;
mod mixups;
mod mounting;
mod moves;
mod options;
mod places;
mod plans;
mod records;
mod runs;
mod schedule;
mod selects;
mod shells;
mod starts;
mod status;
mod streams;
mod suggest;
mod terminals;
mod together;
mod undo;
mod verdicts;
