//! The one place that maps results to exit codes.

use std::process::ExitCode;

use utter_echo_core::{Ending, Outcome, PlanError};

use crate::present::streams;

/// How the process ends; the numbers are documented in the help and the README.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    Done = 0,
    Different = 1,
    WrongCall = 2,
    Problems = 3,
    Refused = 4,
    EndedEarly = 5,
    CutOff = 6,
    Interrupted = 130,
    Terminated = 143,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit as u8)
    }
}

/// A plan that a guard, or the person who was asked, did not let through.
#[derive(Debug, thiserror::Error)]
#[error("{0}\n  nothing was touched")]
pub(crate) struct Refused(pub(crate) String);

/// A signal that came before anything was touched.
#[derive(Debug, thiserror::Error)]
#[error("stopped; nothing was touched")]
pub(crate) struct StoppedBy(pub(crate) i32);

pub(crate) fn of_error(error: &anyhow::Error) -> Exit {
    if error.is::<Refused>() {
        return Exit::Refused;
    }
    if let Some(StoppedBy(signal)) = error.downcast_ref() {
        return of_signal(Some(*signal));
    }
    match error.downcast_ref() {
        Some(PlanError::Refused(_) | PlanError::Unfit) => Exit::Refused,
        Some(PlanError::Stopped) => Exit::Interrupted,
        Some(PlanError::SourceClosed { .. } | PlanError::DestinationClosed { .. }) | None => {
            Exit::WrongCall
        }
    }
}

/// Of a command that does nothing but show: it has failed if what it shows is lost.
pub(crate) fn of_shown(exit: Exit) -> Exit {
    if streams::is_cut_off() { Exit::CutOff } else { exit }
}

/// `planned` is the number of problems that were known before the run.
pub(crate) fn of_outcome(outcome: &Outcome, planned: usize, stopped_by: Option<i32>) -> Exit {
    match outcome.ending {
        Ending::Early(_) => Exit::EndedEarly,
        Ending::Stopped => of_signal(stopped_by),
        Ending::Complete if outcome.problems.len() + planned > 0 => Exit::Problems,
        Ending::Complete => Exit::Done,
    }
}

fn of_signal(signal: Option<i32>) -> Exit {
    if signal == Some(signal_hook::consts::SIGINT) { Exit::Interrupted } else { Exit::Terminated }
}
