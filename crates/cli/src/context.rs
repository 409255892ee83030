//! The context of a command: the clock, signals, and the user's folders.

use std::cell::{OnceCell, RefCell};
use std::ffi::OsString;
use std::fmt::Debug;
use std::rc::Rc;

use anyhow::{Context as _, Result};
use clap::ArgMatches;
use jiff::Timestamp;
use utter_echo_core::os::Time;
use utter_echo_core::request::Request;

use crate::exit::{self, Exit};
use crate::records::{RecordRetention, Within};
use crate::report::Listener;
use crate::report::events::JobCall;
use crate::reporter::Summary;
use crate::signals::Signals;
use crate::terminal::shell::quoted;

/// A command as it was called.
pub(crate) trait Command: Debug {
    fn run(&self, context: &Context) -> Result<Exit>;

    /// Its request to the core, if it compares two sides.
    fn request(&self, _context: &Context) -> Result<Option<Request>> {
        Ok(None)
    }
}

/// The program itself, for commands that call or describe it.
#[derive(Clone, Copy)]
pub(crate) struct Program {
    /// The definition of its command line.
    pub(crate) command_line: fn() -> clap::Command,
    /// The command that was called.
    pub(crate) understand: fn(&ArgMatches) -> Result<Box<dyn Command>, clap::Error>,
}

pub(crate) struct Context {
    /// The call.
    pub(crate) program: Program,
    /// The parsed arguments.
    pub(crate) typed: ArgMatches,
    /// The arguments, the program's name first.
    pub(crate) words: Vec<OsString>,
    /// When the command began.
    pub(crate) began: Timestamp,
    /// The command that makes this call, if any.
    within: Option<Within>,
    signals: Rc<OnceCell<Signals>>,
    /// The summary of its reports.
    pub(crate) heard: Listener,
    /// The results of the commands of a job, which notifies about all of them at once.
    pub(crate) summaries: Rc<RefCell<Vec<Summary>>>,
}

impl Context {
    pub(crate) fn new(program: Program, typed: ArgMatches, words: Vec<OsString>) -> Self {
        let (signals, heard, summaries) = (Rc::default(), Rc::default(), Rc::default());
        let began = Timestamp::now();
        Self { program, typed, words, began, within: None, signals, heard, summaries }
    }

    /// For the call of a job, made by another command, with the same signals.
    pub(crate) fn within(self, outer: &Self, within: Within) -> Self {
        let (signals, heard) = (Rc::clone(&outer.signals), Rc::clone(&outer.heard));
        let summaries = Rc::clone(&outer.summaries);
        Self { within: Some(within), signals, heard, summaries, ..self }
    }

    /// The job of this call.
    pub(crate) fn job(&self) -> Option<&JobCall> {
        self.within.as_ref().map(|within| &within.job)
    }

    /// How long records are kept.
    pub(crate) fn keep(&self) -> RecordRetention {
        self.within.as_ref().map_or_else(RecordRetention::default, |within| within.keep.clone())
    }

    /// The call, quoted for a POSIX shell.
    pub(crate) fn line(&self) -> String {
        let words = self.words.iter().skip(1).map(|word| quoted(word));
        ["utter".to_owned()].into_iter().chain(words).collect::<Vec<_>>().join(" ")
    }

    /// The exit of a command that only shows: a failure if its output was lost, unless another command made the
    /// call.
    pub(crate) fn of_shown(&self, exit: Exit) -> Exit {
        if self.within.is_some() { exit } else { exit::of_shown(exit) }
    }

    /// The start of the command, as a time of the core.
    pub(crate) fn now(&self) -> Time {
        let nanos = self.began.as_nanosecond();
        let (secs, nanos) = (nanos.div_euclid(1_000_000_000), nanos.rem_euclid(1_000_000_000));
        Time {
            secs: i64::try_from(secs).unwrap_or(i64::MAX),
            nanos: u32::try_from(nanos).unwrap_or(0),
        }
    }

    /// Signals, caught from the first use on: until then they end the process.
    pub(crate) fn signals(&self) -> Result<&Signals> {
        if self.signals.get().is_none() {
            let caught = Signals::caught_from_now_on().context("cannot catch signals")?;
            // Nobody else sets it.
            let _ = self.signals.set(caught);
        }
        self.signals.get().context("cannot catch signals")
    }
}
