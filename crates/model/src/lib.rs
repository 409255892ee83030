//! The vocabulary of a run, and the data that its stages exchange: paths, states of entries, attributes, verbs,
//! problems, notes. Nothing here touches a file.

pub mod attribute;
pub mod bytes;
pub mod count;
pub mod identity;
pub mod interrupted;
pub mod names;
pub mod note;
pub mod observe;
pub mod path;
pub mod problem;
pub mod retention;
pub mod running;
pub mod state;
pub mod verb;
