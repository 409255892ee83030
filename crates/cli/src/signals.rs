//! Ctrl-C, termination and the terminal going away: a wish to stop at the next safe point; a second one ends at once. What tells
//! of a limit ends nothing: the call that met it fails, and that is the entry's affair.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};
use signal_hook::flag;

use crate::exit::StoppedBy;

/// Which signal came, if any.
#[derive(Debug, Default)]
pub(crate) struct Signals(Arc<AtomicUsize>);

impl Signals {
    /// Begins to catch signals.
    pub(crate) fn caught_from_now_on() -> std::io::Result<Self> {
        let signals = Self::default();
        let second = Arc::new(AtomicBool::new(false));
        for signal in [SIGINT, SIGTERM, SIGHUP].into_iter().filter(|signal| !is_ignored(*signal)) {
            // In this order: the first signal finds the flag down, and raises it.
            flag::register_conditional_default(signal, Arc::clone(&second))?;
            flag::register(signal, Arc::clone(&second))?;
            flag::register_usize(signal, Arc::clone(&signals.0), signal.unsigned_abs() as usize)?;
        }
        // Nobody asks for it: that it is caught keeps it from ending the process.
        flag::register(SIGXFSZ, Arc::new(AtomicBool::new(false)))?;
        Ok(signals)
    }

    /// Fails once a signal came.
    pub(crate) fn check(&self) -> Result<(), StoppedBy> {
        self.caught().map_or(Ok(()), |signal| Err(StoppedBy(signal)))
    }

    pub(crate) fn caught(&self) -> Option<i32> {
        let signal = self.0.load(Ordering::Relaxed);
        i32::try_from(signal).ok().filter(|signal| *signal != 0)
    }
}

/// True if whoever started this process does not want it to hear of a signal, as `nohup` does.
fn is_ignored(signal: i32) -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    let mask = mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok());
    mask.is_some_and(|mask| mask >> (signal - 1) & 1 == 1)
}
