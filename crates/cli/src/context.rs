//! What a command finds around it: the clock, signals, and the user's folders.

use std::cell::OnceCell;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::rc::Rc;

use anyhow::{Context as _, Result};
use clap::ArgMatches;
use jiff::Timestamp;
use utter_echo_core::os::Time;

use crate::exit::{self, Exit};
use crate::records::Keep;
use crate::report::Ear;
use crate::report::events::JobCall;
use crate::signals::Signals;
use crate::terminal::shell::quoted;

pub(crate) struct Context {
    /// What was typed, as the parser understood it.
    pub(crate) typed: ArgMatches,
    /// The same, word by word, the program's name first.
    pub(crate) words: Vec<OsString>,
    /// When the command began.
    pub(crate) began: Timestamp,
    /// What calls this, if another command does.
    within: Option<Within>,
    signals: Rc<OnceCell<Signals>>,
    /// What its reports told.
    pub(crate) heard: Ear,
}

/// What a job says of its calls.
#[derive(Clone)]
pub(crate) struct Within {
    pub(crate) job: JobCall,
    pub(crate) keep: Keep,
}

impl Within {
    /// Of a job that is not run, but only asked about.
    pub(crate) fn of_job(name: &str) -> Self {
        let (name, file) = (name.to_owned(), Path::new("").into());
        let job = JobCall { name, file, start: 0, call: 1, calls: 1 };
        Self { job, keep: Keep::default() }
    }
}

impl Context {
    pub(crate) fn new(typed: ArgMatches, words: Vec<OsString>) -> Self {
        let (signals, heard) = (Rc::default(), Rc::default());
        Self { typed, words, began: Timestamp::now(), within: None, signals, heard }
    }

    /// Of a call of a job, which another command makes, and that hears of the same signals.
    pub(crate) fn within(self, outer: &Self, within: Within) -> Self {
        let (signals, heard) = (Rc::clone(&outer.signals), Rc::clone(&outer.heard));
        Self { within: Some(within), signals, heard, ..self }
    }

    /// The job that this is a call of.
    pub(crate) fn job(&self) -> Option<&JobCall> {
        self.within.as_ref().map(|within| &within.job)
    }

    /// For how long records are kept.
    pub(crate) fn keep(&self) -> Keep {
        self.within.as_ref().map_or_else(Keep::default, |within| within.keep.clone())
    }

    /// The call, as it can be typed into a POSIX shell.
    pub(crate) fn line(&self) -> String {
        let words = self.words.iter().skip(1).map(|word| quoted(word));
        ["utter".to_owned()].into_iter().chain(words).collect::<Vec<_>>().join(" ")
    }

    /// How a command ends that does nothing but show: it has failed if what it shows is lost, unless it is one of
    /// several that another one runs.
    pub(crate) fn of_shown(&self, exit: Exit) -> Exit {
        if self.within.is_some() { exit } else { exit::of_shown(exit) }
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
    named_folder("XDG_CONFIG_HOME").or_else(|| below_home(".config"))
}

/// Where utter keeps what it remembers of this user's runs, which may be lost: `utter-echo` in `XDG_STATE_HOME`, else
/// for root in `/var/lib`, else in `~/.local/state`.
pub(crate) fn state_folder() -> Option<PathBuf> {
    let root = || rustix::process::geteuid().is_root().then(|| PathBuf::from("/var/lib"));
    let above = named_folder("XDG_STATE_HOME").or_else(root);
    Some(above.or_else(|| below_home(".local/state"))?.join("utter-echo"))
}

fn named_folder(name: &str) -> Option<PathBuf> {
    std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute())
}

fn below_home(folder: &str) -> Option<PathBuf> {
    Some(named_folder("HOME")?.join(folder))
}
