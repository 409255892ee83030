//! Errors of steps, with the operation that failed.

use std::io::{self, ErrorKind};

use rustix::io::Errno;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::problem::{Cause, Operation};

/// True if the file system cannot exchange two names.
pub(crate) fn no_exchange(error: &io::Error) -> bool {
    matches!(error.kind(), ErrorKind::InvalidInput | ErrorKind::Unsupported)
}

/// True if two folders do not lie on one drive.
pub(super) fn is_elsewhere(error: &io::Error) -> bool {
    error.raw_os_error() == Some(Errno::XDEV.raw_os_error())
}

/// An error of a step: the operation and its cause.
#[derive(Debug)]
pub(crate) struct StepError(pub(crate) Operation, pub(crate) Cause);

pub(crate) type StepResult = Result<(), StepError>;

/// Adds the operation to an error.
pub(crate) trait ErrorContext<T> {
    fn during(self, operation: Operation) -> Result<T, StepError>;
}

impl<T, E: Into<Cause>> ErrorContext<T> for Result<T, E> {
    fn during(self, operation: Operation) -> Result<T, StepError> {
        self.map_err(|error| StepError(operation, error.into()))
    }
}

impl StepError {
    /// The destination's entry is no longer what the plan saw.
    pub(crate) fn stale_destination(operation: Operation) -> Self {
        Self(operation, Cause::Stale("the destination"))
    }

    /// The source's entry is no longer what the plan saw.
    pub(crate) fn stale_source(operation: Operation) -> Self {
        Self(operation, Cause::Stale("the source"))
    }

    /// The outcome of a step with this error.
    pub(crate) fn outcome(&self) -> StepOutcome {
        if self.1.is_stale() { StepOutcome::Stale } else { StepOutcome::Failed }
    }

    /// True if a new name exists already.
    pub(super) fn is_taken_name(&self) -> bool {
        matches!(&self.1, Cause::System(e) if e.kind() == ErrorKind::AlreadyExists)
    }

    /// True if the system does not permit it, maybe because of flags.
    pub(super) fn is_forbidden(&self) -> bool {
        matches!(&self.1, Cause::System(e) if e.kind() == ErrorKind::PermissionDenied)
    }
}

pub(crate) fn was_interrupted(cause: &Cause) -> bool {
    matches!(cause, Cause::System(e) if e.kind() == ErrorKind::Interrupted)
}
