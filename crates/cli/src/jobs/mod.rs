//! Jobs: command lines kept in a file under a name.
//!
//! The keys of a job become the arguments of a command line, which is parsed like any other. So each new option
//! works in job files at once.

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
