//! Trying again what may pass.

use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use utter_echo_model::observe::Observer;
use utter_echo_model::problem::Cause;
use utter_echo_model::running::Retries;

/// Waits of a whole run. A drive that fails at every file must not be waited for at each.
const WAITS: u32 = 20;

/// How often a wait looks whether the run is to stop.
const NAP: Duration = Duration::from_millis(20);

/// How much of it a run has left.
#[derive(Debug)]
pub struct Retrying {
    retries: Retries,
    waits_left: AtomicU32,
}

impl Retrying {
    /// For one run.
    pub fn new(retries: Retries) -> Self {
        Self { retries, waits_left: AtomicU32::new(WAITS) }
    }

    /// Does `work` until it succeeds, fails for good, or was tried often enough.
    pub fn retry<T, E>(
        &self,
        observer: &dyn Observer,
        cause: impl Fn(&E) -> &Cause,
        work: impl Fn() -> Result<T, E>,
    ) -> Result<T, E> {
        let mut tries = 0;
        loop {
            match work() {
                Err(e) if tries < self.retries.times && cause(&e).may_pass() => {
                    if observer.stop_requested() {
                        return Err(e);
                    }
                    tries += 1;
                    self.wait(observer);
                }
                other => return other,
            }
        }
    }

    fn wait(&self, observer: &dyn Observer) {
        let one_less = |left: u32| left.checked_sub(1);
        if self.waits_left.fetch_update(Ordering::Relaxed, Ordering::Relaxed, one_less).is_err() {
            return;
        }
        let begun = Instant::now();
        while let Some(rest) = self.retries.wait.checked_sub(begun.elapsed())
            && !rest.is_zero()
            && !observer.stop_requested()
        {
            std::thread::sleep(rest.min(NAP));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rustix::io::Errno;
    use std::cell::Cell;
    use std::io;
    use utter_echo_model::observe::NoObserver;

    fn tries(errno: Errno, succeeds_at: u32) -> (u32, bool) {
        let retrying = Retrying::new(Retries { times: 2, wait: Duration::ZERO });
        let count = Cell::new(0);
        let result = retrying.retry(
            &NoObserver,
            |cause| cause,
            || {
                count.set(count.get() + 1);
                let error = || Cause::from(io::Error::from_raw_os_error(errno.raw_os_error()));
                if count.get() == succeeds_at { Ok(()) } else { Err(error()) }
            },
        );
        (count.get(), result.is_ok())
    }

    #[test]
    fn temporary_errors_are_retried_and_permanent_ones_are_not() {
        for passing in [Errno::IO, Errno::BUSY, Errno::STALE, Errno::AGAIN] {
            assert_eq!(tries(passing, 3), (3, true));
            assert_eq!(tries(passing, 4), (3, false));
        }
        for lasting in [Errno::NOSPC, Errno::ACCESS, Errno::NAMETOOLONG, Errno::ROFS] {
            assert_eq!(tries(lasting, 2), (1, false));
        }
    }

    #[test]
    fn a_run_waits_a_limited_number_of_times() {
        let retrying = Retrying::new(Retries { times: 1000, wait: Duration::from_millis(1) });
        let fail = || Err::<(), _>(Cause::from(io::Error::from(Errno::IO)));
        assert!(retrying.retry(&NoObserver, |cause| cause, fail).is_err());
        assert_eq!(retrying.waits_left.into_inner(), 0);
    }
}
