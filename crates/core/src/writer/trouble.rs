//! What goes wrong with one entry, and in doing what.

use std::io::ErrorKind;

use crate::problem::{Cause, Operation};

/// What went wrong, and in doing what.
#[derive(Debug)]
pub(crate) struct Trouble(pub(crate) Operation, pub(crate) Cause);

pub(crate) type Done = Result<(), Trouble>;

/// Names the operation that an error belongs to.
pub(crate) trait During<T> {
    fn during(self, operation: Operation) -> Result<T, Trouble>;
}

impl<T, E: Into<Cause>> During<T> for Result<T, E> {
    fn during(self, operation: Operation) -> Result<T, Trouble> {
        self.map_err(|error| Trouble(operation, error.into()))
    }
}

impl Trouble {
    /// The destination's entry is no longer what the plan saw.
    pub(crate) fn overtaken_there(operation: Operation) -> Self {
        Self(operation, Cause::Overtaken("the destination"))
    }

    /// The source's entry is no longer what the plan saw.
    pub(crate) fn overtaken_here(operation: Operation) -> Self {
        Self(operation, Cause::Overtaken("the source"))
    }

    /// True if a name to be made was taken.
    pub(super) fn is_taken_name(&self) -> bool {
        matches!(&self.1, Cause::System(e) if e.kind() == ErrorKind::AlreadyExists)
    }

    /// True if the system does not permit it, which may be for the sake of flags.
    pub(super) fn is_forbidden(&self) -> bool {
        matches!(&self.1, Cause::System(e) if e.kind() == ErrorKind::PermissionDenied)
    }
}

pub(crate) fn was_interrupted(cause: &Cause) -> bool {
    matches!(cause, Cause::System(e) if e.kind() == ErrorKind::Interrupted)
}
