//! The recent pace of a run, and the time left.

use std::collections::VecDeque;
use std::time::Duration;

/// The position of a run. It moves in jumps, since drives confirm writes only now and then.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Position {
    /// In units of what takes the time.
    pub(super) work: u64,
    /// Bytes of content.
    pub(super) bytes: u64,
}

/// The moments at which a run advanced.
#[derive(Debug, Default)]
pub(super) struct Pace {
    leaps: VecDeque<(Duration, Position)>,
    /// The time of the last activity of any kind.
    alive: Duration,
}

/// Older moments are ignored.
const LATELY: Duration = Duration::from_secs(12);
/// If the pace changes by this factor, for this long and this many moments, earlier moments are dropped.
const CHANGED: f64 = 1.5;
const FOR: Duration = Duration::from_secs(2);
const MOMENTS: usize = 8;
/// Closer moments are merged.
const APART: Duration = Duration::from_millis(100);
/// The shortest observation for an estimate.
const SEEN: Duration = Duration::from_millis(900);
/// Without activity for this long, the run is waiting.
const STILL: Duration = Duration::from_secs(3);
/// A gap this many times the usual one is a pause.
const UNUSUAL: u32 = 4;

impl Pace {
    /// Records the present position. `moves`: there was activity, with or without an advance.
    pub(super) fn note(&mut self, now: Duration, position: Position, moves: bool) {
        let last = self.leaps.back().copied();
        let leapt = last.is_none_or(|(_, before)| before != position);
        if moves || leapt {
            self.alive = now;
        }
        if !leapt {
            return;
        }
        if last.is_some_and(|(at, _)| self.is_pause(now.saturating_sub(at))) {
            self.leaps.clear();
        }
        // Merged into one moment, so that a burst counts once.
        if self.leaps.len() > 1 && last.is_some_and(|(at, _)| now.saturating_sub(at) < APART) {
            self.leaps.pop_back();
        }
        self.leaps.push_back((now, position));
        while self.leaps.len() > 2 && now.saturating_sub(self.leaps[0].0) > LATELY {
            self.leaps.pop_front();
        }
        self.drop_older_pace(now);
    }

    /// Disks are faster in some areas than in others; the recent pace predicts best.
    fn drop_older_pace(&mut self, now: Duration) {
        let begin = self.leaps.partition_point(|(at, _)| now.saturating_sub(*at) > FOR);
        let rate = |from: usize| {
            let ((begun, before), (at, after)) = (self.leaps.get(from)?, self.leaps.back()?);
            let done = after.work.saturating_sub(before.work) as f64;
            Some(done / at.saturating_sub(*begun).as_secs_f64().max(1e-9))
        };
        let (Some(all), Some(last)) = (rate(0), rate(begin)) else { return };
        let is_otherwise = last > all * CHANGED || all > last * CHANGED;
        if begin > 0 && self.leaps.len() - begin >= MOMENTS && is_otherwise {
            self.leaps.drain(..begin);
        }
    }

    pub(super) fn waits(&self, now: Duration) -> bool {
        now.saturating_sub(self.alive) > STILL
    }

    /// After such a long pause, the earlier pace predicts nothing.
    fn is_pause(&self, span: Duration) -> bool {
        let (Some((first, _)), Some((last, _))) = (self.leaps.front(), self.leaps.back()) else {
            return false;
        };
        let gaps = u32::try_from(self.leaps.len() - 1).unwrap_or(u32::MAX);
        let usual = last.saturating_sub(*first).checked_div(gaps);
        span > STILL && usual.is_some_and(|usual| span > usual * UNUSUAL)
    }

    /// Recent bytes per second; `None` while waiting.
    pub(super) fn bytes_a_second(&self, now: Duration) -> Option<f64> {
        if self.waits(now) { None } else { self.a_second(|position| position.bytes) }
    }

    /// The time left for so much work; `None` while waiting.
    pub(super) fn left(&self, now: Duration, all: u64) -> Option<Duration> {
        if self.waits(now) {
            return None;
        }
        let (at, position) = self.leaps.back()?;
        let rate = self.a_second(|position| position.work).filter(|rate| *rate > 0.0)?;
        let left = all.saturating_sub(position.work) as f64 / rate;
        // The run has advanced since the last report.
        let since = now.saturating_sub(*at).as_secs_f64();
        Duration::try_from_secs_f64((left - since).clamp(0.0, 1e9)).ok()
    }

    fn a_second(&self, of: impl Fn(&Position) -> u64) -> Option<f64> {
        let ((begun, before), (at, now)) = (self.leaps.front()?, self.leaps.back()?);
        let span = at.saturating_sub(*begun);
        let done = of(now).saturating_sub(of(before));
        (span >= SEEN).then(|| done as f64 / span.as_secs_f64())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// A drive with a constant rate, which confirms at random intervals of up to two seconds.
        #[test]
        fn the_time_left_is_right_after_a_fifth_of_the_work_and_counts_down(
            rate in 1_000_000_u64..1_000_000_000, seconds in 15_u64..200, leaps in prop::collection::vec(100_u64..2000, 1..40),
        ) {
            let all = rate * seconds;
            let mut pace = Pace::default();
            let (mut told, mut next, mut leap) = (0_u64, 0_u64, leaps.iter().cycle());
            let mut before = None;
            for milliseconds in (0..seconds * 1000).step_by(100) {
                let now = Duration::from_millis(milliseconds);
                if milliseconds >= next {
                    told = rate * milliseconds / 1000;
                    next = milliseconds + leap.next().unwrap();
                }
                pace.note(now, Position { work: told, bytes: told }, false);
                if milliseconds < seconds * 200 || milliseconds < 3000 {
                    continue;
                }
                let (truth, left) = ((seconds * 1000 - milliseconds) as f64 / 1e3, pace.left(now, all).unwrap().as_secs_f64());
                prop_assert!((left - truth).abs() <= truth * 0.25 + 1.0, "{left} s of {truth} s");
                prop_assert!(before.is_none_or(|before| left <= before + 0.1 * truth + 0.5));
                prop_assert!(!pace.waits(now));
                before = Some(left);
            }
        }
    }

    #[test]
    fn a_hanging_drive_has_no_time_left_and_then_its_own_rate() {
        let mut pace = Pace::default();
        let at = |tenths: u64| Duration::from_millis(tenths * 100);
        // Ten units per second for five seconds, a pause of thirty, and the same again.
        for tenths in (0..50).chain(350..400) {
            let work = if tenths < 50 { tenths } else { tenths - 300 };
            pace.note(at(tenths), Position { work, bytes: work }, false);
            let left = pace.left(at(tenths), 200);
            let expected = (20..50).contains(&tenths) || (370..400).contains(&tenths);
            let seconds = left.map(|left| left.as_secs_f64() * 10.0 + work as f64);
            let is_right = seconds.is_some_and(|all| (all - 200.0).abs() < 5.0);
            assert!(!expected || is_right, "{tenths}: {left:?}");
            // Asked during the pause.
            if tenths == 49 {
                assert!(pace.waits(at(100)) && pace.left(at(100), 200).is_none());
            }
        }
    }

    #[test]
    fn a_slower_disk_is_soon_noticed() {
        let mut pace = Pace::default();
        // Fast for three seconds, then a fifth of that rate.
        for tenths in 0_u64..100 {
            let work = tenths.min(30) * 50 + tenths.saturating_sub(30) * 10;
            pace.note(Duration::from_millis(tenths * 100), Position { work, bytes: work }, false);
            let left =
                pace.left(Duration::from_millis(tenths * 100), 3500).map(|l| l.as_secs_f64());
            let truth = (3500 - work) as f64 / if tenths < 30 { 500.0 } else { 100.0 };
            let is_right = left.is_some_and(|left| (left - truth).abs() < truth * 0.25);
            assert!(
                !(10..30).contains(&tenths) && tenths < 55 || is_right,
                "{tenths}: {left:?}, {truth}"
            );
        }
    }

    #[test]
    fn a_stopped_bar_waits_until_it_moves() {
        let mut pace = Pace::default();
        let position = Position { work: 1, bytes: 1 };
        pace.note(Duration::ZERO, position, false);
        let later = Duration::from_secs(4);
        pace.note(later, position, false);
        assert!(pace.waits(later));
        pace.note(later, position, true);
        assert!(!pace.waits(later));
    }
}
