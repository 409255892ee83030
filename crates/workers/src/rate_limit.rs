//! Keeping to a rate.

use parking_lot::Mutex;
use std::time::{Duration, Instant};

/// Time that was not used counts for so long, so that a pause is not followed by a flood.
const CREDIT: Duration = Duration::from_millis(100);

/// Longest sleep before the caller is asked whether to go on.
const NAP: Duration = Duration::from_millis(50);

/// Lets so many bytes a second pass, whoever brings them.
#[derive(Debug)]
pub struct RateLimit {
    rate: f64,
    /// When all that has passed so far would have taken its time.
    paid_until: Mutex<Instant>,
}

impl RateLimit {
    /// So many bytes a second, at least one.
    pub fn new(bytes_per_second: u64) -> Self {
        let rate = bytes_per_second.max(1) as f64;
        Self { rate, paid_until: Mutex::new(Instant::now()) }
    }

    /// The most to bring at a time: what takes an eighth of a second.
    pub fn stretch(&self) -> u64 {
        // Within the range, and a fraction of a byte does not matter.
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "see above")]
        let stretch = (self.rate / 8.0) as u64;
        stretch.max(4096)
    }

    /// Waits until these bytes have taken their time, or until `stops` says so.
    pub fn pass(&self, bytes: u64, stops: impl Fn() -> bool) {
        let due = self.due(bytes, Instant::now());
        loop {
            let left = due.saturating_duration_since(Instant::now());
            if left.is_zero() || stops() {
                return;
            }
            std::thread::sleep(left.min(NAP));
        }
    }

    fn due(&self, bytes: u64, now: Instant) -> Instant {
        let mut paid_until = self.paid_until.lock();
        let from =
            now.checked_sub(CREDIT).map_or(*paid_until, |earliest| earliest.max(*paid_until));
        *paid_until = from + Duration::from_secs_f64(bytes as f64 / self.rate);
        *paid_until
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_take_their_time_and_idle_time_is_not_saved_up() {
        let pace = RateLimit::new(1000);
        let begun = Instant::now();
        let later = begun + Duration::from_secs(10);
        // A hundred pieces of 100 bytes at 1000 a second, after ten seconds of nothing.
        let dues: Vec<_> = (0..100).map(|_| pace.due(100, later)).collect();
        let last = dues[99].duration_since(later).as_secs_f64();
        assert!((9.8..=10.0).contains(&last), "{last}");
        assert!(dues.windows(2).all(|pair| pair[0] < pair[1]));
        assert_eq!((pace.stretch(), RateLimit::new(80_000_000).stretch()), (4096, 10_000_000));
    }
}
