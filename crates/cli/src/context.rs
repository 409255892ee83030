//! What a command finds around it: the clock, signals, and the user's folders.

use std::cell::OnceCell;
use std::path::PathBuf;

use anyhow::{Context as _, Result};
use clap::ArgMatches;
use jiff::Timestamp;
use utter_echo_core::os::Time;

use crate::signals::Signals;

pub(crate) struct Context {
    /// What was typed, as the parser understood it.
    pub(crate) typed: ArgMatches,
    /// When the command began.
    pub(crate) began: Timestamp,
    signals: OnceCell<Signals>,
}

impl Context {
    pub(crate) fn new(typed: ArgMatches) -> Self {
        Self { typed, began: Timestamp::now(), signals: OnceCell::new() }
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

/// Where this user's programs keep what may be lost: `XDG_STATE_HOME`, else `~/.local/state`.
pub(crate) fn state_folder() -> Option<PathBuf> {
    let absolute =
        |name| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    absolute("XDG_STATE_HOME").or_else(|| Some(absolute("HOME")?.join(".local/state")))
}
