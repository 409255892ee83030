//! Ctrl-C and termination: a wish to stop at the next safe point; a second one ends at once. What tells
//! of a limit ends nothing: the call that met it fails, and that is the entry's affair.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use signal_hook::consts::{SIGINT, SIGTERM, SIGXFSZ};
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
        for signal in [SIGINT, SIGTERM] {
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
