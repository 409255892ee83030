//! What a command finds around it: the clock, signals, and the user's folders.

use std::cell::OnceCell;
use std::path::PathBuf;
use std::rc::Rc;

use anyhow::{Context as _, Result};
use clap::ArgMatches;
use jiff::Timestamp;
use utter_echo_core::os::Time;

use crate::exit::{self, Exit};
use crate::report::Ear;
use crate::signals::Signals;

pub(crate) struct Context {
    /// What was typed, as the parser understood it.
    pub(crate) typed: ArgMatches,
    /// When the command began.
    pub(crate) began: Timestamp,
    /// Another command calls this one.
    is_within: bool,
    /// The name of the job that this is a call of.
    pub(crate) job: Option<String>,
    signals: Rc<OnceCell<Signals>>,
    /// What its reports told.
    pub(crate) heard: Ear,
}

impl Context {
    pub(crate) fn new(typed: ArgMatches) -> Self {
        let (signals, heard) = (Rc::default(), Rc::default());
        Self { typed, began: Timestamp::now(), is_within: false, job: None, signals, heard }
    }

    /// Of a call of a job, which another command makes, and that hears of the same signals.
    pub(crate) fn within(&self, typed: ArgMatches, job: &str) -> Self {
        let (signals, heard) = (Rc::clone(&self.signals), Rc::clone(&self.heard));
        Self {
            typed,
            began: Timestamp::now(),
            is_within: true,
            job: Some(job.to_owned()),
            signals,
            heard,
        }
    }

    /// How a command ends that does nothing but show: it has failed if what it shows is lost, unless it is one of
    /// several that another one runs.
    pub(crate) fn of_shown(&self, exit: Exit) -> Exit {
        if self.is_within { exit } else { exit::of_shown(exit) }
    }

    /// When the command began, as the core tells times.
    pub(crate) fn now(&self) -> Time {
        let nanos = self.began.as_nanosecond();
        let (secs, nanos) = (nanos.div_euclid(1_000_000_000), nanos.rem_euclid(1_000_000_000));
        Time {
            secs: i64::try_from(secs).unwrap_or(i64::MAX),
            nanos: u32::try_from(nanos).unwrap_or(0),
        }
    }

    /// Signals, caught from the first call on: until then they end the process.
    pub(crate) fn signals(&self) -> Result<&Signals> {
        if self.signals.get().is_none() {
            let caught = Signals::caught_from_now_on().context("cannot catch signals")?;
            // Nobody else sets it.
            let _ = self.signals.set(caught);
        }
        self.signals.get().context("cannot catch signals")
    }
}

/// Where this user's programs look for what they are told: `XDG_CONFIG_HOME`, else `~/.config`.
pub(crate) fn config_folder() -> Option<PathBuf> {
    user_folder("XDG_CONFIG_HOME", ".config")
}

/// Where this user's programs keep what may be lost: `XDG_STATE_HOME`, else `~/.local/state`.
pub(crate) fn state_folder() -> Option<PathBuf> {
    user_folder("XDG_STATE_HOME", ".local/state")
}

fn user_folder(name: &str, below_home: &str) -> Option<PathBuf> {
    let absolute =
        |name| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    absolute(name).or_else(|| Some(absolute("HOME")?.join(below_home)))
}
