//! The one place that maps results to exit codes.

use std::process::ExitCode;

use utter_echo_core::drives::NoFolder;
use utter_echo_core::saved::BadPlan;
use utter_echo_core::select::BadPattern;
use utter_echo_core::{BadRun, CallError, Ending, Outcome, PlanError};

use crate::signals::Stop;
use crate::terminal::streams;

/// How the process ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    Done = 0,
    Different = 1,
    WrongCall = 2,
    Problems = 3,
    Refused = 4,
    EndedEarly = 5,
    CutOff = 6,
    DriveMissing = 7,
    Interrupted = 130,
    Terminated = 143,
}

impl Exit {
    pub(crate) const ALL: [Self; 10] = [
        Self::Done,
        Self::Different,
        Self::WrongCall,
        Self::Problems,
        Self::Refused,
        Self::EndedEarly,
        Self::CutOff,
        Self::DriveMissing,
        Self::Interrupted,
        Self::Terminated,
    ];

    /// The worse of two.
    pub(crate) fn worse(self, other: Self) -> Self {
        // From good to bad.
        let severity = |exit: Self| match exit {
            Self::Done => 0,
            Self::Different => 1,
            Self::Problems => 2,
            Self::CutOff => 3,
            Self::EndedEarly => 4,
            Self::DriveMissing => 5,
            Self::Refused => 6,
            Self::WrongCall => 7,
            Self::Interrupted | Self::Terminated => 8,
        };
        if severity(other) > severity(self) { other } else { self }
    }

    /// Its meaning, for the help.
    fn meaning(self) -> &'static str {
        match self {
            Self::Done => "all was done; for verify: no difference",
            Self::Different => "verify found differences",
            Self::WrongCall => "wrong usage; nothing was touched",
            Self::Problems => "finished with problems; all of them are listed",
            Self::Refused => {
                "refused by a guard, declined at the prompt, or nothing can be moved; nothing was touched"
            }
            Self::EndedEarly => {
                "stopped early: drive full or gone, or outside --within; run it again"
            }
            Self::CutOff => "a command that only shows could not write its output",
            Self::DriveMissing => "no drive of that name is mounted; nothing was touched",
            Self::Interrupted => "interrupted; run it again to continue",
            Self::Terminated => "terminated; run it again to continue",
        }
    }
}

/// The codes and their meanings, a line each.
pub(crate) fn codes() -> String {
    let line = |exit: Exit| format!("  {:<4} {}\n", exit as u8, exit.meaning());
    Exit::ALL.map(line).concat()
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit as u8)
    }
}

/// An invalid call, or one that names what does not exist. Nothing was touched.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct WrongCall(pub(crate) String);

/// Ends a command with a [`WrongCall`].
macro_rules! wrong_call {
    ($($told:tt)+) => {
        return Err($crate::exit::WrongCall(format!($($told)+)).into())
    };
}
pub(crate) use wrong_call;

/// A drive that is named by its label or UUID, and is not mounted.
#[derive(Clone, Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct DriveMissing(pub(crate) String);

/// Declined by the user, or by the command before the run.
#[derive(Debug, thiserror::Error)]
#[error("{0}\n  nothing was touched")]
pub(crate) struct Refused(pub(crate) String);

/// A run that may not begin at this time.
#[derive(Debug, thiserror::Error)]
#[error(
    "the time is not between {0} and {1}; nothing was touched\n  run it again in these hours, or leave out --within"
)]
pub(crate) struct OutOfHours(pub(crate) String, pub(crate) String);

/// The exit for an error that ended a command. Unknown errors mean that it ended early.
pub(crate) fn of_error(error: &anyhow::Error) -> Exit {
    if let Some(stop) = error.downcast_ref() {
        return of_stop(*stop);
    }
    if error.is::<OutOfHours>() {
        return Exit::EndedEarly;
    }
    if error.is::<DriveMissing>() {
        return Exit::DriveMissing;
    }
    match error.downcast_ref() {
        Some(PlanError::Refused(_) | PlanError::Unfit) => return Exit::Refused,
        Some(PlanError::Stopped) => return Exit::Interrupted,
        Some(PlanError::SourceClosed { .. } | PlanError::DestinationClosed { .. }) => {
            return Exit::WrongCall;
        }
        None => {}
    }
    let is_wrong_call = error.is::<WrongCall>()
        || error.is::<CallError>()
        || error.is::<BadPattern>()
        || error.is::<BadPlan>()
        || error.is::<BadRun>()
        || error.is::<NoFolder>();
    match error.is::<Refused>() {
        true => Exit::Refused,
        false if is_wrong_call => Exit::WrongCall,
        false => Exit::Problems,
    }
}

/// The exit of a command that only shows: a failure if its output was lost.
pub(crate) fn of_shown(exit: Exit) -> Exit {
    if streams::is_cut_off() { Exit::CutOff } else { exit }
}

/// `planned`: the number of problems known before the run.
pub(crate) fn of_outcome(outcome: &Outcome, planned: usize, stopped_by: Option<Stop>) -> Exit {
    match outcome.ending {
        Ending::Early(_) => Exit::EndedEarly,
        Ending::Stopped => of_stop(stopped_by.unwrap_or(Stop::Terminated)),
        Ending::Complete if outcome.problems.len() + planned > 0 => Exit::Problems,
        Ending::Complete => Exit::Done,
    }
}

/// The exit of a run that was told to stop.
pub(crate) fn of_stop(stop: Stop) -> Exit {
    match stop {
        Stop::Interrupted => Exit::Interrupted,
        Stop::Terminated => Exit::Terminated,
        Stop::HoursOver => Exit::EndedEarly,
    }
}
