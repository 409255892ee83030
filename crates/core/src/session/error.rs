//! Why there is no plan.

use utter_echo_model::problem::Cause;

use crate::guard::Refusal;

/// Why there is no plan.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// A guard refused without a plan.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// The source folder cannot be listed.
    #[error("source '{path}' cannot be listed: {cause}")]
    SourceClosed {
        /// As the user named it.
        path: String,
        /// Why.
        cause: Cause,
    },
    /// The destination folder cannot be opened.
    #[error("destination '{path}' cannot be read: {cause}")]
    DestinationClosed {
        /// As the user named it.
        path: String,
        /// Why.
        cause: Cause,
    },
    /// A saved plan does not fit the places.
    #[error(
        "the destination folder was created or removed after the plan was made\n  save a new plan with --save-plan"
    )]
    Unfit,
    /// The observer asked to stop.
    #[error("stopped while comparing")]
    Stopped,
}
