//! Writing single entries on one drive: making, placing and removing them, and setting them aside.

mod attributes;
mod content;
mod drive_writer;
mod flags;
mod folder;
mod folder_pair;
mod operation;
mod place;
mod removal;
mod rename;
mod set_aside;
mod step_error;
mod take_over;

pub(crate) use drive_writer::{SetAsideWriter, WriteContext, Writer};
pub(crate) use folder_pair::{FolderPair, WHILE_FILLED};
pub(crate) use operation::EntryOperation;
pub(crate) use step_error::{ErrorContext, StepError, StepResult, was_interrupted};
