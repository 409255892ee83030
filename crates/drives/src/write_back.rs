//! A limit on data that is written but not yet on its drive. The system accepts a gigabyte and more at once and
//! writes it to the drive later, so that a run would seem nearly done after a second and then stand still. So a
//! helper flushes each drive early, and the writers wait once the drive has two seconds of work ahead.

use parking_lot::{Condvar, Mutex, MutexGuard};
use std::io;
use std::time::{Duration, Instant};

/// The limit for one drive.
#[derive(Debug, Default)]
pub struct WriteBackLimit {
    state: Mutex<LimitState>,
    changed: Condvar,
}

#[derive(Debug, Default)]
struct LimitState {
    handed: HandedOver,
    there: HandedOver,
    /// The drive's recent rate in bytes a second; unknown at first.
    rate: Option<f64>,
    /// What it wrote recently, and the seconds that took; older measurements count less.
    lately: (f64, f64),
    /// The error of a flush, which the system reports only once.
    error: Option<io::Error>,
    /// A helper is at work, so that waiting makes sense.
    is_helped: bool,
}

#[derive(Clone, Copy, Debug, Default)]
struct HandedOver {
    /// Bytes that the drive still has to write, as far as is known.
    cost: u64,
    /// Bytes of content.
    bytes: u64,
}

/// Bytes that are flushed at first, and that are waited for.
const FIRST: u64 = 2 << 20;

const FIRST_MOST: u64 = 4 << 20;

/// Seconds of the drive's work after which the helper begins, and after which the writers wait.
const BEGINS: f64 = 0.5;

const MOST: f64 = 1.25;

/// Data is flushed this often in any case, so that it counts as written.
const AT_LEAST_EVERY: Duration = Duration::from_secs(1);

/// The least that a drive writes at a time, and the cost of an entry besides its content: its inode and its name.
const BLOCK: u64 = 4096;

const ENTRY: u64 = 1024;

/// A drive that writes for this part of the time is fully busy.
const BUSY: f64 = 0.7;

/// The weight of a measurement at the next one.
const KEPT: f64 = 0.6;

/// The most by which one measurement may raise the rate.
const FASTER: f64 = 1.5;

/// The least number of bytes to copy at a time.
const LEAST_STRETCH: u64 = 256 << 10;

const FIRST_STRETCH: u64 = 1 << 20;

/// How often waiting writers check whether the run is to stop.
const NAP: Duration = Duration::from_millis(50);

/// True if entries of these sizes are more than a drive writes at once.
pub fn is_much(mut sizes: impl Iterator<Item = u64>) -> bool {
    let mut sum = 0_u64;
    sizes.any(|bytes| {
        sum = sum.saturating_add(bytes.next_multiple_of(BLOCK) + ENTRY);
        sum > FIRST
    })
}

impl WriteBackLimit {
    fn state(&self) -> MutexGuard<'_, LimitState> {
        self.state.lock()
    }

    /// Counts content that was written; waits while it is too much, unless `stops` returns true.
    pub fn hand(&self, bytes: u64, stops: impl Fn() -> bool) {
        self.add(HandedOver { cost: bytes.next_multiple_of(BLOCK), bytes }, stops);
    }

    /// The same for an entry without its content.
    pub fn hand_entry(&self, stops: impl Fn() -> bool) {
        self.add(HandedOver { cost: ENTRY, bytes: 0 }, stops);
    }

    fn add(&self, amount: HandedOver, stops: impl Fn() -> bool) {
        let mut state = self.state();
        state.handed.cost += amount.cost;
        state.handed.bytes += amount.bytes;
        if state.is_due() {
            self.changed.notify_all();
        }
        while state.is_too_much() && !stops() {
            self.changed.wait_for(&mut state, NAP);
        }
    }

    /// Bytes to copy at a time, so that progress shows and a request to stop is heard.
    pub fn stretch(&self, most: u64) -> u64 {
        let rate = self.state().rate;
        // Within the range, and a fraction of a byte does not matter.
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "see above")]
        let stretch = rate.map_or(FIRST_STRETCH, |rate| (rate / 8.0) as u64);
        stretch.clamp(LEAST_STRETCH, most)
    }

    /// A helper begins.
    pub fn begin(&self) {
        self.state().is_helped = true;
    }

    /// Flushes whenever that is due, until [`end`](Self::end), and reports how many more bytes of content are on
    /// the drive.
    pub fn work_off(&self, write_out: impl Fn() -> io::Result<()>, tell: impl Fn(u64)) {
        // However it ends, no writer may wait for it.
        let _gone = EndWithHelper(self);
        let mut ended = Instant::now();
        loop {
            let idle = |state: &mut LimitState| state.is_helped && !state.is_due();
            let mut state = self.state();
            self.changed.wait_while_for(&mut state, idle, AT_LEAST_EVERY);
            if !state.is_helped {
                return;
            }
            let is_due = state.is_due();
            if !is_due && state.outstanding() == 0.0 {
                continue;
            }
            // Read now, since another process may flush the drive before this flush ends.
            let (handed, cost) = (state.handed, state.handed.cost - state.there.cost);
            drop(state);
            let begun = Instant::now();
            let done = write_out();
            let mut state = self.state();
            if let Err(error) = done {
                state.error = Some(error);
                return;
            }
            // A small amount measures how long a flush takes, and not how fast the drive is.
            if is_due {
                state.measure(cost, begun.elapsed(), ended.elapsed());
            }
            ended = Instant::now();
            let news = state.is_there(handed);
            drop(state);
            tell(news);
            self.changed.notify_all();
        }
    }

    /// The helper ends.
    pub fn end(&self) {
        self.state().is_helped = false;
        self.changed.notify_all();
    }

    /// The error of a flush, if there was one.
    pub fn take_error(&self) -> Option<io::Error> {
        self.state().error.take()
    }

    /// Everything is on the drive. Returns the bytes of content that were not reported yet.
    pub fn settle(&self) -> u64 {
        let mut state = self.state();
        let handed = state.handed;
        state.is_there(handed)
    }
}

/// The helper is gone.
struct EndWithHelper<'a>(&'a WriteBackLimit);

impl Drop for EndWithHelper<'_> {
    fn drop(&mut self) {
        self.0.end();
    }
}

impl LimitState {
    fn outstanding(&self) -> f64 {
        self.handed.cost.saturating_sub(self.there.cost) as f64
    }

    fn is_due(&self) -> bool {
        self.is_helped && self.outstanding() > self.rate.map_or(FIRST as f64, |rate| rate * BEGINS)
    }

    fn is_too_much(&self) -> bool {
        let most = self.rate.map_or(FIRST_MOST as f64, |rate| rate * MOST);
        self.is_helped && self.outstanding() > most
    }

    /// Reports may arrive in another order than they began.
    fn is_there(&mut self, amount: HandedOver) -> u64 {
        let news = amount.bytes.saturating_sub(self.there.bytes);
        if amount.cost >= self.there.cost {
            self.there = amount;
        }
        news
    }

    /// So much was written out, which took so long, of the time since the last one ended. What is handed while
    /// the drive writes something out is often written with that, and the next one then takes no time: so it
    /// counts what they took together, and one alone never makes the drive much faster.
    fn measure(&mut self, cost: u64, took: Duration, of: Duration) {
        let (took, of) = (took.as_secs_f64(), of.as_secs_f64());
        let took = if took > of * BUSY { of } else { took };
        self.lately.0 = self.lately.0 * KEPT + cost as f64;
        self.lately.1 = self.lately.1 * KEPT + took.max(1e-6);
        let now = self.lately.0 / self.lately.1;
        let most = self.rate.map_or(now, |before| before * FASTER);
        // Even the slowest drive has a rate.
        self.rate = Some(now.min(most).max(LEAST_STRETCH as f64));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU64, Ordering};

    /// Hands so much over to a drive of so many bytes a second; returns the most that was outstanding, in seconds
    /// of its work, once its rate was known, and the content that was told of.
    fn through(rate: f64, pieces: &[u64]) -> (f64, u64) {
        let (backlog, told) = (WriteBackLimit::default(), AtomicU64::new(0));
        let taken = Mutex::new(0_u64);
        let mut most = 0_f64;
        backlog.begin();
        std::thread::scope(|scope| {
            scope.spawn(|| {
                let write_out = || {
                    let handed = backlog.state().handed.cost;
                    let mut taken = taken.lock();
                    std::thread::sleep(Duration::from_secs_f64((handed - *taken) as f64 / rate));
                    *taken = handed;
                    Ok(())
                };
                backlog.work_off(write_out, |news| {
                    told.fetch_add(news, Ordering::Relaxed);
                });
            });
            for piece in pieces {
                backlog.hand(*piece, || false);
                let state = backlog.state();
                if state.rate.is_some() {
                    most = most.max((state.outstanding() - *piece as f64) / rate);
                }
            }
            backlog.end();
        });
        (most, told.load(Ordering::Relaxed) + backlog.settle())
    }

    #[test]
    fn at_most_two_seconds_of_the_drives_work_are_outstanding_and_all_of_it_counts() {
        for pieces in [vec![1 << 20; 60], vec![100_000; 600]] {
            let (most, told) = through(20e6, &pieces);
            assert!(most < 2.0, "{most} s");
            assert_eq!(told, pieces.iter().sum::<u64>());
        }
    }

    #[test]
    fn a_failing_drive_blocks_no_writer_and_its_error_is_reported() {
        let backlog = WriteBackLimit::default();
        backlog.begin();
        std::thread::scope(|scope| {
            scope.spawn(|| backlog.work_off(|| Err(io::ErrorKind::Other.into()), |_| {}));
            (0..100).for_each(|_| backlog.hand(FIRST, || false));
        });
        assert!(backlog.take_error().is_some() && backlog.take_error().is_none());
    }

    #[test]
    fn a_stopped_writer_waits_for_no_drive() {
        let backlog = WriteBackLimit::default();
        backlog.begin();
        (0..100).for_each(|_| backlog.hand(FIRST, || true));
        assert_eq!(backlog.settle(), 100 * FIRST);
    }

    #[test]
    fn a_flush_during_the_helpers_flush_counts_the_rest_once() {
        let (backlog, told) = (WriteBackLimit::default(), AtomicU64::new(0));
        let tell = |news| {
            told.fetch_add(news, Ordering::Relaxed);
        };
        backlog.begin();
        let write_out = || {
            backlog.hand(FIRST, || true);
            tell(backlog.settle());
            Ok(())
        };
        std::thread::scope(|scope| {
            scope.spawn(|| backlog.work_off(write_out, tell));
            backlog.hand(FIRST + 1, || true);
            while told.load(Ordering::Relaxed) == 0 {
                std::thread::yield_now();
            }
            backlog.end();
        });
        assert_eq!(told.into_inner(), 2 * FIRST + 1);
    }

    #[test]
    fn small_amounts_count_as_well_and_make_no_drive_slow() {
        let (backlog, told) = (WriteBackLimit::default(), AtomicU64::new(0));
        backlog.begin();
        std::thread::scope(|scope| {
            scope.spawn(|| {
                backlog.work_off(
                    || Ok(()),
                    |news| {
                        told.fetch_add(news, Ordering::Relaxed);
                    },
                );
            });
            backlog.hand(1, || false);
            while told.load(Ordering::Relaxed) == 0 {
                std::thread::sleep(NAP);
            }
            assert!(backlog.state().rate.is_none());
            backlog.end();
        });
    }

    #[test]
    fn without_a_helper_no_writer_waits() {
        let backlog = WriteBackLimit::default();
        (0..100).for_each(|_| backlog.hand(FIRST, || false));
        backlog.begin();
        backlog.end();
        (0..100).for_each(|_| backlog.hand(FIRST, || false));
        assert_eq!(backlog.settle(), 200 * FIRST);
    }
}
