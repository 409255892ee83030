//! Ctrl-C, termination, a closed terminal, and the end of the hours of a run: requests to stop at the next safe
//! point. A second signal ends the process at once. Signals about limits are ignored: the call that exceeds the
//! limit fails, as a problem of its entry.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering};

use jiff::Timestamp;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};
use signal_hook::flag;

/// The signal received, if any, and the end of the hours, if limited.
#[derive(Debug, Default)]
pub(crate) struct Signals {
    signal: Arc<AtomicUsize>,
    /// In seconds since 1970; 0 for never.
    hours_end: AtomicI64,
}

/// Why a run must stop.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Stop {
    #[error("stopped; nothing was touched")]
    Interrupted,
    #[error("stopped; nothing was touched")]
    Terminated,
    #[error("the hours of --within are over; nothing was touched")]
    HoursOver,
}

/// Whether a signal came; for any thread.
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

    /// Installs the signal handlers.
    pub(crate) fn caught_from_now_on() -> std::io::Result<Self> {
        let signals = Self::default();
        let second = Arc::new(AtomicBool::new(false));
        let ignored = ignored_signals();
        let is_heard = |signal: &i32| ignored >> (signal - 1) & 1 == 0;
        for signal in [SIGINT, SIGTERM, SIGHUP].into_iter().filter(is_heard) {
            // In this order: the first signal finds the flag cleared, and sets it.
            flag::register_conditional_default(signal, Arc::clone(&second))?;
            flag::register(signal, Arc::clone(&second))?;
            flag::register_usize(
                signal,
                Arc::clone(&signals.signal),
                signal.unsigned_abs() as usize,
            )?;
        }
        // Caught and ignored, so that it does not end the process.
        flag::register(SIGXFSZ, Arc::new(AtomicBool::new(false)))?;
        Ok(signals)
    }

    /// Sets or clears the time from which it must stop, too.
    pub(crate) fn stop_at(&self, end: Option<Timestamp>) {
        self.hours_end.store(end.map_or(0, Timestamp::as_second), Ordering::Relaxed);
    }

    /// Fails once the run must stop.
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

/// The signals that the parent process made this one ignore, as `nohup` does: a bit each, from 1 on.
fn ignored_signals() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or(0)
}
