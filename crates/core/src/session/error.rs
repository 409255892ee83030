//! Why there is no plan.

use utter_echo_model::problem::Cause;

use crate::guard::Refusal;

/// Why there is no plan.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// A guard that needs no plan to refuse.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// The source folder itself cannot be listed, so nothing is known of it.
    #[error("source '{path}' cannot be listed: {cause}")]
    SourceClosed {
        /// As the user named it.
        path: String,
        /// Why.
        cause: Cause,
    },
    /// The destination folder itself cannot be looked into.
    #[error("destination '{path}' cannot be read: {cause}")]
    DestinationClosed {
        /// As the user named it.
        path: String,
        /// Why.
        cause: Cause,
    },
    /// A saved plan saw other places than are there now.
    #[error(
        "the destination folder existed when the plan was made and does not now, or the other way round\n  make the plan anew with --save-plan"
    )]
    Unfit,
    /// The observer asked to stop.
    #[error("stopped while comparing")]
    Stopped,
}
