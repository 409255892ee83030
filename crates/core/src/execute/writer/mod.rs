//! One entry on one drive: it is made, given its attributes, placed and taken away. What is set aside and
//! what comes back go the same way.

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
