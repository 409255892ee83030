//! Processor time of threads.

use std::time::Duration;

use rustix::time::{ClockId, clock_gettime};

/// The processor time that the calling thread has used so far.
pub fn processor_time() -> Duration {
    let took = clock_gettime(ClockId::ThreadCPUTime);
    let whole = |part: i64| u64::try_from(part).unwrap_or(0);
    Duration::from_secs(whole(took.tv_sec)) + Duration::from_nanos(whole(took.tv_nsec))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Instant;

    #[test]
    fn a_thread_that_counts_takes_time_and_one_that_sleeps_takes_none() {
        let took = |work: &dyn Fn()| {
            let before = processor_time();
            work();
            processor_time().saturating_sub(before)
        };
        let counted = took(&|| {
            let begun = Instant::now();
            while begun.elapsed() < Duration::from_millis(50) {}
        });
        let slept = took(&|| std::thread::sleep(Duration::from_millis(50)));
        assert!(counted > slept + slept);
    }
}
