//! Records: the events of each run, kept for people. A lost record harms nothing, and a record that cannot be
//! written affects no run.
//!
//! A record is a file of the lines that `--format json` prints, between a first line about the call and a last line
//! about the outcome. Five small parts: their place ([`store`]), writing ([`recorder`]), reading ([`reader`]),
//! removal of old ones ([`retention`]), and the first and last lines of all of them in one file ([`index`]).
//! Records are not undo journals: those are on the drive before the changes, and no other program reads them.

mod call;
mod index;
mod reader;
mod recorder;
mod retention;
mod search;
mod starts;
mod store;

pub(crate) use call::{Call, Within};
pub(crate) use index::{RunEntry, RunKey};
pub(crate) use reader::Lines;
pub(crate) use recorder::{Recorder, Watching, of_failed};
pub(crate) use retention::RecordRetention;
pub(crate) use search::search;
pub(crate) use starts::Starts;
pub(crate) use store::Store;
