//! What is printed, and in which form.

#![allow(clippy::doc_markdown, reason = "these comments are the help, which has no marks for code")]

use clap::ValueEnum;

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    Text,
    /// For programs, one object a line
    Json,
    /// A table of comma-separated values
    Csv,
}

/// What is printed, and in which form.
#[derive(Clone, Copy)]
pub(crate) struct Form {
    pub(crate) format: Format,
    /// Only problems are printed.
    pub(crate) quiet: bool,
    /// In text, each step of a run, too.
    pub(crate) verbose: bool,
}

impl From<Format> for Form {
    fn from(format: Format) -> Self {
        Self { format, quiet: false, verbose: false }
    }
}
