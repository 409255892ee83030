//! Speed and faults.

use std::time::Duration;

use anyhow::Result;
use clap::{Args, ValueEnum};
use utter_echo_core::request::{self, Cache, Flush, Request, Retries, Workers};

use crate::context::Context;
use crate::gentle;
use crate::options::hours::Hours;
use crate::options::values;
use crate::signals::Signals;

#[derive(Debug, Args)]
#[command(next_help_heading = "Speed and errors")]
pub(crate) struct RunningOptions {
    /// Number of threads; 'auto' adapts to the drives
    ///
    /// 'auto' begins with one per processor, at most 8. While they mostly wait for drives, as on a network share,
    /// it tries twice as many, up to 64, as long as that is faster.
    #[arg(long, value_name = "N", default_value = "auto", value_parser = values::workers, allow_negative_numbers = true, hide_short_help = true)]
    pub(crate) workers: Workers,
    /// Retry temporary errors this often, such as a busy file or a read error
    ///
    /// Permanent errors, such as a missing permission or a full drive, are not retried.
    #[arg(long, value_name = "N", default_value = "2", value_parser = clap::value_parser!(u32).range(..=1000), allow_negative_numbers = true, hide_short_help = true)]
    pub(crate) retries: u32,
    /// Wait this long before each retry, like 500ms, 1s or 1m; a run waits at most twenty times
    #[arg(long, value_name = "DURATION", default_value = "1s", value_parser = values::duration, hide_short_help = true)]
    pub(crate) retry_wait: Duration,
    /// Run with the lowest priority for processor and drives
    #[arg(long, hide_short_help = true)]
    pub(crate) gentle: bool,
    /// Begin only between these times of day, like 22:00..06:00, and stop at their end
    ///
    /// A run then stops with exit code 5; finished files are intact, and the same command continues the next time.
    /// Default: at any time.
    #[arg(long, value_name = "HOURS", value_parser = Hours::read, hide_short_help = true)]
    pub(crate) within: Option<Hours>,
    /// Mount the drives named by label= or uuid= for this run, and unmount them afterwards
    ///
    /// They are mounted as in the system's table of drives, else, for root, below /run/utter-echo. They are
    /// unmounted after a failure, too. A dry run mounts them read-only. A log is not written to such a drive.
    #[arg(long, hide_short_help = true)]
    pub(crate) mount: bool,
    /// Whether files over 8 MiB may stay in the system's cache
    ///
    /// 'drop' removes files over 8 MiB from the cache once they are done, so that other programs' cached data
    /// stays. That costs a flush for every 64 MiB written.
    #[arg(long, value_name = "HOW", default_value = "keep", hide_short_help = true)]
    pub(crate) cache: CacheHow,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum CacheHow {
    /// As the system decides
    Keep,
    /// No content of files over 8 MiB
    Drop,
}

impl RunningOptions {
    /// Reading alone needs no flush.
    pub(crate) fn apply(&self, request: Request) -> Request {
        let running = request::Running {
            workers: self.workers,
            flush: Flush::None,
            retries: Retries { times: self.retries, wait: self.retry_wait },
            cache: match self.cache {
                CacheHow::Keep => Cache::Keep,
                CacheHow::Drop => Cache::Drop,
            },
            ..request.running
        };
        request.running(running)
    }

    /// Applies priority and hours to this process. Fails outside its hours.
    pub(crate) fn settle(&self, context: &Context, signals: &Signals) -> Result<()> {
        signals.stop_at(None);
        if let Some(hours) = &self.within {
            signals.stop_at(Some(hours.end(context.began)?));
        }
        if self.gentle { gentle::lower_priority() } else { Ok(()) }
    }
}

/// Of commands that write.
#[derive(Debug, Args)]
#[command(next_help_heading = "Speed and errors")]
pub(crate) struct Writing {
    /// When to flush to the drive: at the end, after each file, or never
    ///
    /// 'end' guarantees everything that a finished run reported. With 'none', a power cut may undo it.
    #[arg(long, value_name = "WHEN", default_value = "end", hide_short_help = true)]
    pub(crate) flush: FlushWhen,
    /// Write at most this many bytes per second, like 500K or 20MiB
    ///
    /// Default: no limit.
    #[arg(long, value_name = "BYTES", value_parser = values::bytes, hide_short_help = true)]
    pub(crate) rate: Option<u64>,
    /// Read written files back from the drive and compare them with the source
    #[arg(long, hide_short_help = true)]
    pub(crate) read_back: bool,
    /// Run this command first; if it fails, nothing is touched
    ///
    /// It is run with 'sh -c', for example to stop a database or to make a snapshot. Not run in a dry run. Default:
    /// none.
    #[arg(long, value_name = "COMMAND", hide_short_help = true)]
    pub(crate) run_before: Option<String>,
    /// Run this command at the end, whatever the result
    ///
    /// It is run with 'sh -c'; UTTER_EXIT_CODE in its environment is the exit code of utter. It also runs if
    /// --run-before failed. Not run in a dry run. Default: none.
    #[arg(long, value_name = "COMMAND", hide_short_help = true)]
    pub(crate) run_after: Option<String>,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum FlushWhen {
    /// Once, before the run ends
    End,
    /// Each file, before it gets its name
    Each,
    /// Left to the system
    None,
}

impl Writing {
    pub(super) fn apply(&self, request: Request) -> Request {
        let running = request::Running {
            flush: match self.flush {
                FlushWhen::End => Flush::End,
                FlushWhen::Each => Flush::Each,
                FlushWhen::None => Flush::None,
            },
            rate: self.rate,
            read_back: self.read_back,
            ..request.running
        };
        request.running(running)
    }
}

/// Of commands that can find out anew what is left to be done.
#[derive(Debug, Args)]
#[command(next_help_heading = "Speed and errors")]
pub(crate) struct Waiting {
    /// If a drive disappears during the run, wait this long for it to return, then continue
    ///
    /// It must be the same drive, mounted in the same place; the run then makes a new plan. Like 10m or 2h.
    /// Default: the run ends, and the same command continues later.
    #[arg(long, value_name = "DURATION", value_parser = values::duration, hide_short_help = true)]
    pub(crate) wait_for_drive: Option<Duration>,
}
