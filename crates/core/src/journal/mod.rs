//! The journals of runs, written ahead of the operations, and their store.

mod frame;
mod interrupted;
mod lines;
mod list;
mod lock;
mod origin;
mod overview;
mod reader;
mod recorder;
mod retention;
mod root_identity;
mod set_aside_run;
mod store;

pub(crate) use frame::JournalMark;
pub use lines::RunSummary;
pub(crate) use lines::{JournalLine, PastPart, read};
pub(crate) use lock::RunLock;
pub use overview::{NotDiscarded, Overview, discard, past_run, past_runs};
pub use reader::Standing;
pub(crate) use reader::Unreadable;
pub(crate) use recorder::JournalWriter;
pub(crate) use root_identity::RootIdentity;
pub(crate) use set_aside_run::{NotedRun, SetAsideRun, make_folders};
pub(crate) use store::{RunStore, locate, open_store, runs_below};
