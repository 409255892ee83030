//! Records: what each run told, kept for people. Losing one harms nothing, and no run is the worse for one that cannot
//! be written.
//!
//! A record is a file of the lines that `--format json` prints, between one that tells how the run was called and one
//! that tells how it ended. Five small parts: where they are ([`store`]), writing ([`recorder`]), reading ([`reader`]),
//! which may go ([`retention`]), and the first and last lines of all of them in one file ([`index`]). Records are no
//! part of the notes by which something can be undone: those have to be on the drive before the changes, and are for no
//! other program to read.

mod call;
mod index;
mod reader;
mod recorder;
mod retention;
mod search;
mod starts;
mod store;

pub(crate) use call::{Call, Within};
pub(crate) use index::{Between, RunEntry};
pub(crate) use reader::Lines;
pub(crate) use recorder::{Recorder, Watching, of_failed};
pub(crate) use retention::RecordRetention;
pub(crate) use search::search;
pub(crate) use starts::Starts;
pub(crate) use store::Store;
