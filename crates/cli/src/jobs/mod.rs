//! Jobs: calls that are written down in a file, to be made by their names.
//!
//! They are no second way to call something: the keys of a job become the words of a command line, and those are read
//! as any other. So an option can stand there as soon as there is one.

mod add;
mod expand;
mod file;
mod find;
pub(crate) mod lock;
mod reading;
mod schema;
mod spot;
#[cfg(test)]
mod tests;
mod words;

pub(crate) use add::NewJob;
pub(crate) use file::{Job, JobFile};
pub(crate) use find::names;
pub(crate) use schema::schema;
