//! What went wrong with one entry.

use std::io;

use crate::path::TreePath;

/// What was being done when a problem arose.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operation {
    /// Listing a folder of the source.
    ListSource,
    /// Listing a folder of the destination.
    ListDestination,
    /// Looking at an entry of the source.
    LookAtSource,
    /// Looking at an entry of the destination.
    LookAtDestination,
    /// Comparing the content or attributes of both sides.
    Compare,
    /// Reading the source.
    Read,
    /// Creating or writing in the destination.
    Write,
    /// Giving an entry of the destination its attributes.
    SetAttributes,
    /// Removing from the destination.
    Remove,
    /// Flushing the destination's drive.
    Flush,
}

impl Operation {
    /// In words, to stand before the cause: "cannot read: permission denied".
    pub fn words(self) -> &'static str {
        match self {
            Self::ListSource => "cannot list in the source",
            Self::ListDestination => "cannot list in the destination",
            Self::LookAtSource => "cannot look at in the source",
            Self::LookAtDestination => "cannot look at in the destination",
            Self::Compare => "cannot compare",
            Self::Read => "cannot read",
            Self::Write => "cannot write",
            Self::SetAttributes => "cannot set attributes",
            Self::Remove => "cannot remove",
            Self::Flush => "cannot flush",
        }
    }

    /// The same for programs: one stable word.
    pub fn id(self) -> &'static str {
        match self {
            Self::ListSource => "list-source",
            Self::ListDestination => "list-destination",
            Self::LookAtSource => "look-at-source",
            Self::LookAtDestination => "look-at-destination",
            Self::Compare => "compare",
            Self::Read => "read",
            Self::Write => "write",
            Self::SetAttributes => "set-attributes",
            Self::Remove => "remove",
            Self::Flush => "flush",
        }
    }
}

/// Why an entry is no longer what the plan saw, or why it cannot become what it should.
#[derive(Debug, thiserror::Error)]
pub enum Cause {
    /// The system said no.
    #[error("{}", plain(.0))]
    System(#[from] io::Error),
    /// It changed between plan and step.
    #[error("{0} is no longer what the plan saw; run again")]
    Drift(&'static str),
    /// It is being written by somebody.
    #[error("changing while being read; run again when it rests")]
    Restless,
    /// Copying removes nothing.
    #[error(
        "the destination has a folder of this name that is not empty; copy removes nothing, mirror would"
    )]
    FolderInTheWay,
    /// What the selection leaves out stays.
    #[error("what stands here in the destination is left out by the selection, so it stays")]
    LeftOutInTheWay,
    /// The first name of a group of hard links was not written.
    #[error("the name it is a hard link of could not be written")]
    LeaderFailed,
}

impl Cause {
    /// True for what calls the step drifted instead of failed.
    pub fn is_drift(&self) -> bool {
        matches!(self, Self::Drift(_))
    }

    /// True if no further step can succeed: the drive is full, gone or cannot be written.
    pub fn ends_the_run(&self) -> bool {
        use io::ErrorKind as K;
        let Self::System(error) = self else {
            return false;
        };
        matches!(error.kind(), K::StorageFull | K::ReadOnlyFilesystem | K::QuotaExceeded)
    }
}

/// The system's message without the number that Rust appends to it, in lower case.
fn plain(error: &io::Error) -> String {
    let text = error.to_string();
    let text = text.split(" (os error").next().unwrap_or(&text);
    let mut characters = text.chars();
    match characters.next() {
        Some(first) => first.to_lowercase().chain(characters).collect(),
        None => String::new(),
    }
}

/// One entry that could not be read, written or kept.
#[derive(Debug)]
pub struct Problem {
    /// Which.
    pub path: TreePath,
    /// What was tried.
    pub operation: Operation,
    /// Why it did not work.
    pub cause: Cause,
}
