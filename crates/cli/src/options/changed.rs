//! What counts as changed.

use std::time::Duration;

use clap::{Args, ValueEnum};
use clap_complete::engine::ArgValueCompleter;
use utter_echo_core::plan::{Verb, Verbs};
use utter_echo_core::request::{self, CompareBy, Reading, Request, Sample};

use crate::context::Context;
use crate::options::complete;
use crate::options::values;

#[derive(Debug, Args)]
#[command(next_help_heading = "Comparison")]
pub(crate) struct ChangedOptions {
    /// What counts as a changed file
    ///
    /// With 'content', every attribute of every entry is compared, too.
    #[arg(long, value_name = "WHAT", default_value = "size-time")]
    pub(crate) by: ByWhat,
    /// Compare every attribute of every entry
    ///
    /// Access lists and extended attributes take extra system calls, so copy and mirror compare them only where the
    /// source's entry was changed since it was last copied. This option always compares them: use it after a run
    /// that left them out of --carry, or when they were changed in the destination. verify always compares them.
    #[arg(long, hide_short_help = true)]
    pub(crate) all_attributes: bool,
    /// Treat times that differ by no more than this as equal, like 2s or 1h
    ///
    /// Default: 0s, plus the time resolution of the destination's drive.
    #[arg(long, value_name = "DURATION", value_parser = values::duration, hide_short_help = true)]
    pub(crate) time_slack: Option<Duration>,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum ByWhat {
    /// Its size or its modification time differs
    SizeTime,
    /// Any byte differs; both sides are read in full
    Content,
    /// Its size differs
    Size,
    /// Nothing: only missing and extra entries count
    Presence,
}

impl ChangedOptions {
    /// Every byte of both sides is read.
    pub(crate) fn reads_all(&self) -> bool {
        matches!(self.by, ByWhat::Content)
    }

    /// Contents are not to be looked at.
    pub(crate) fn reads_none(&self) -> bool {
        matches!(self.by, ByWhat::Size | ByWhat::Presence)
    }

    pub(super) fn apply(&self, request: Request) -> Request {
        let changed = request::Changed {
            by: match self.by {
                ByWhat::SizeTime => CompareBy::SizeTime,
                ByWhat::Content => CompareBy::Content,
                ByWhat::Size => CompareBy::Size,
                ByWhat::Presence => CompareBy::Presence,
            },
            all_attributes: self.all_attributes,
            time_slack: self.time_slack.unwrap_or_default(),
            ..request.changed
        };
        request.comparing(changed)
    }
}

/// Of copy and mirror: what a plan may hold.
#[derive(Debug, Args)]
#[command(next_help_heading = "Comparison")]
pub(crate) struct Steps {
    /// Never replace a file in the destination that is newer than the source's
    #[arg(long, hide_short_help = true)]
    pub(crate) leave_newer: bool,
    /// Take only these kinds of steps: all, or some of add, replace, adjust, rename, remove
    ///
    /// 'adjust' sets attributes only. 'add' only adds missing entries; 'replace,adjust' only updates existing ones;
    /// 'all,-rename' copies moved entries again. Default: all.
    #[arg(long, value_name = "LIST", value_parser = values::steps, add = ArgValueCompleter::new(complete::steps), allow_hyphen_values = true, hide_short_help = true)]
    pub(crate) steps: Option<Verbs>,
}

impl Steps {
    pub(crate) fn apply(&self, request: Request) -> Request {
        let steps = self.steps.unwrap_or(request.changed.steps);
        let changed = request::Changed { leave_newer: self.leave_newer, steps, ..request.changed };
        request.comparing(changed)
    }
}

/// Of verify.
#[derive(Debug, Args)]
#[command(next_help_heading = "Comparison")]
pub(crate) struct Verifying {
    /// Read every byte of this part of the files, chosen at random, like 5%
    ///
    /// The verdict then says how certain it is about the others. Default: none.
    #[arg(long, value_name = "P%", value_parser = values::percent)]
    pub(crate) sample: Option<f64>,
    /// Read every byte from the drives, not from the system's cache
    ///
    /// The cache can hide damage on the drive; this option reads past it. It implies --by content, or goes with
    /// --sample.
    #[arg(long)]
    pub(crate) from_drive: bool,
    /// Ignore entries that only the destination has, as after a copy
    #[arg(long)]
    pub(crate) ignore_extra: bool,
}

impl Verifying {
    pub(crate) fn apply(&self, request: Request, context: &Context) -> Request {
        // Another choice each time, so that in the long run every file is read.
        let now = context.now();
        let seed = now.secs.unsigned_abs() ^ u64::from(now.nanos) << 32;
        let steps = if self.ignore_extra {
            Verb::ALL.into_iter().filter(|verb| *verb != Verb::Remove).collect()
        } else {
            request.changed.steps
        };
        let sample = self.sample.map(|percent| Sample { percent, seed });
        let by = request.changed.by;
        let (by, reading) = match (self.from_drive, sample) {
            (true, None) => (CompareBy::Content, Reading::FromDrive),
            (true, Some(_)) => (by, Reading::FromDrive),
            (false, _) => (by, Reading::AsCached),
        };
        let changed = request::Changed { by, sample, reading, steps, ..request.changed };
        request.comparing(changed)
    }
}
