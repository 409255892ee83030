//! What a thread took of the processors.

use std::time::Duration;

/// A thread of this process.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Thread(rustix::thread::Pid);

impl Thread {
    /// The one that asks.
    pub(crate) fn this() -> Self {
        Self(rustix::thread::gettid())
    }

    /// What it took so far; nothing once it has ended.
    #[allow(
        unsafe_code,
        reason = "the layer over the system's calls has no clocks of other threads"
    )]
    pub(crate) fn processor_time(self) -> Duration {
        // The number of such a clock holds that of its thread, as `pthread_getcpuclockid(3)` puts it together.
        let clock = (!self.0.as_raw_nonzero().get() << 3) | 6;
        let mut took = libc::timespec { tv_sec: 0, tv_nsec: 0 };
        // SAFETY: the struct outlives the call, and a clock that is not there is refused.
        let done = unsafe { libc::clock_gettime(clock, &raw mut took) };
        let whole = |part: i64| u64::try_from(part).unwrap_or(0);
        let time = Duration::new(whole(took.tv_sec), 0) + Duration::from_nanos(whole(took.tv_nsec));
        if done == 0 { time } else { Duration::ZERO }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Instant;

    #[test]
    fn a_thread_that_counts_takes_time_and_one_that_sleeps_takes_none() {
        std::thread::scope(|scope| {
            let counts = |span: Duration| {
                let begun = Instant::now();
                while begun.elapsed() < span {}
            };
            let took = |work: &(dyn Fn() + Sync)| {
                let thread = Thread::this();
                work();
                scope.spawn(move || thread.processor_time()).join().unwrap()
            };
            let before = took(&|| {});
            let counted = took(&|| counts(Duration::from_millis(50)));
            let slept = took(&|| std::thread::sleep(Duration::from_millis(50)));
            assert!(counted > before && slept + before < counted + counted);
        });
    }
}
