//! Ctrl-C, termination, the terminal going away, and the end of the hours that a run was given: a wish to stop at the
//! next safe point. A second signal ends at once. What tells of a limit ends nothing: the call that met it fails, and
//! that is the entry's affair.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering};

use jiff::Timestamp;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};
use signal_hook::flag;

/// Which signal came, if any, and when the hours are over, if they ever are.
#[derive(Debug, Default)]
pub(crate) struct Signals {
    signal: Arc<AtomicUsize>,
    /// In seconds since 1970; 0 for never.
    hours_end: AtomicI64,
}

/// Why a run is to stop.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Stop {
    #[error("stopped; nothing was touched")]
    Interrupted,
    #[error("stopped; nothing was touched")]
    Terminated,
    #[error("the hours of --within are over; nothing was touched")]
    HoursOver,
}

/// Tells whether a signal came, from any thread.
pub(crate) struct Caught(Arc<AtomicUsize>);

impl Caught {
    pub(crate) fn is_set(&self) -> bool {
        self.0.load(Ordering::Relaxed) != 0
    }
}

impl Signals {
    pub(crate) fn watched(&self) -> Caught {
        Caught(Arc::clone(&self.signal))
    }

    /// Begins to catch signals.
    pub(crate) fn caught_from_now_on() -> std::io::Result<Self> {
        let signals = Self::default();
        let second = Arc::new(AtomicBool::new(false));
        let ignored = ignored_signals();
        let is_heard = |signal: &i32| ignored >> (signal - 1) & 1 == 0;
        for signal in [SIGINT, SIGTERM, SIGHUP].into_iter().filter(is_heard) {
            // In this order: the first signal finds the flag down, and raises it.
            flag::register_conditional_default(signal, Arc::clone(&second))?;
            flag::register(signal, Arc::clone(&second))?;
            flag::register_usize(
                signal,
                Arc::clone(&signals.signal),
                signal.unsigned_abs() as usize,
            )?;
        }
        // Nobody asks for it: that it is caught keeps it from ending the process.
        flag::register(SIGXFSZ, Arc::new(AtomicBool::new(false)))?;
        Ok(signals)
    }

    /// From this time on it is to stop, too; or not any more.
    pub(crate) fn stop_at(&self, end: Option<Timestamp>) {
        self.hours_end.store(end.map_or(0, Timestamp::as_second), Ordering::Relaxed);
    }

    /// Fails once it is to stop.
    pub(crate) fn check(&self) -> Result<(), Stop> {
        self.caught().map_or(Ok(()), Err)
    }

    pub(crate) fn caught(&self) -> Option<Stop> {
        let signal = self.signal.load(Ordering::Relaxed);
        let end = self.hours_end.load(Ordering::Relaxed);
        match i32::try_from(signal) {
            Ok(0) if end != 0 && Timestamp::now().as_second() >= end => Some(Stop::HoursOver),
            Ok(0) => None,
            Ok(SIGINT) => Some(Stop::Interrupted),
            Ok(_) | Err(_) => Some(Stop::Terminated),
        }
    }
}

/// The signals that whoever started this process does not want it to hear of, as `nohup` does: a bit each, from 1 on.
fn ignored_signals() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or(0)
}
