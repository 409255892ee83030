//! Progress on stderr: a count while scanning, then one bar, or a plain line now and then. A thread of its own,
//! which accesses no drive, draws it, so that it continues while the workers wait for drives.

mod line;
mod pace;

use std::io::IsTerminal as _;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use parking_lot::{Condvar, Mutex, MutexGuard};
use utter_echo_core::StepOutcome;
use utter_echo_core::observe::Observer;
use utter_echo_core::plan::Plan;

use line::{AfterReading, Expected, LineHead, ShownStage, StageProgress};
use pace::Pace;

use crate::options::{Output, ProgressHow};
use crate::report::events::Amount;
use crate::signals::{Caught, Signals};
use crate::terminal::{names, streams};

/// The interval between redraws of the bar.
const DRAWN: Duration = Duration::from_millis(100);
/// The interval between plain lines.
const PLAIN: Duration = Duration::from_secs(10);
/// The width of a terminal if unknown.
const USUAL_WIDTH: usize = 80;

const FLUSHING: &str = "flushing to the drive";
const WAITING: &str = "waiting for the drive";
const READING_BACK: &str = "reading back";
const STOPPING: &str = "stopping at a safe point";

/// Follows one stage of a run.
pub(crate) struct Progress<'a> {
    signals: &'a Signals,
    shared: Arc<Shared>,
    /// The thread that shows it, if any.
    shows: Option<JoinHandle<()>>,
}

/// The work done so far.
struct Counted {
    /// Entries that were scanned, or steps that were concluded.
    entries: AtomicU64,
    wrote: AtomicU64,
    /// Bytes of both sides together, since the last report of a total.
    compared: AtomicU64,
    /// True after any activity.
    moved: AtomicBool,
}

/// What the workers report, shared with the thread that shows it.
struct Shared {
    display: Display,
    begun: Instant,
    /// The changes are done: flushing or reading back.
    flushes: AtomicBool,
    /// The start of the present reading back, and the duration of earlier ones.
    reads_back: Mutex<(Option<Instant>, Duration)>,
    /// The path begun last.
    current: Mutex<Vec<u8>>,
    stage: Mutex<ShownStage>,
    is_over: Mutex<bool>,
    changed: Condvar,
    counted: Counted,
}

/// How to show progress, with `auto` resolved.
fn how(output: &Output) -> ProgressHow {
    match output.progress {
        _ if output.quiet => ProgressHow::None,
        ProgressHow::Auto if std::io::stderr().is_terminal() => ProgressHow::Bar,
        ProgressHow::Auto => ProgressHow::None,
        given => given,
    }
}

enum Display {
    Bar(ProgressBar),
    Lines,
    Nothing,
}

impl<'a> Progress<'a> {
    /// `foretold` returns the totals of an earlier run, if known; called only if progress is shown.
    pub(crate) fn scanning(
        output: &Output,
        signals: &'a Signals,
        expected_totals: impl FnOnce() -> Option<Amount>,
    ) -> Self {
        let expected_totals =
            if how(output) == ProgressHow::None { None } else { expected_totals() };
        let expected = |Amount { entries, bytes }| Expected { steps: entries, bytes };
        Self::new(how(output), signals, ShownStage::Scanning(expected_totals.map(expected)))
    }

    pub(crate) fn changing(
        output: &Output,
        signals: &'a Signals,
        plan: &Plan,
        reads_back: bool,
    ) -> Self {
        let (steps, bytes) = (plan.totals.steps(), plan.bytes_to_write());
        let then =
            if reads_back && bytes > 0 { AfterReading::ReadingBack } else { AfterReading::Nothing };
        Self::new(how(output), signals, ShownStage::Changing(Expected { steps, bytes }, then))
    }

    fn new(how: ProgressHow, signals: &'a Signals, stage: ShownStage) -> Self {
        let turning = matches!(stage, ShownStage::Scanning(_));
        let shared = Arc::new(Shared {
            display: match how {
                ProgressHow::Bar => Display::Bar(line_on_stderr(turning)),
                ProgressHow::Lines => Display::Lines,
                ProgressHow::Auto | ProgressHow::None => Display::Nothing,
            },
            begun: Instant::now(),
            flushes: AtomicBool::new(false),
            reads_back: Mutex::default(),
            current: Mutex::default(),
            stage: Mutex::new(stage),
            is_over: Mutex::default(),
            changed: Condvar::new(),
            counted: Counted {
                entries: AtomicU64::new(0),
                wrote: AtomicU64::new(0),
                compared: AtomicU64::new(0),
                moved: AtomicBool::new(false),
            },
        });
        let shows = !matches!(shared.display, Display::Nothing);
        // Without a further thread, no progress is shown.
        let shows = shows.then(|| {
            let (shared, caught) = (Arc::clone(&shared), signals.watched());
            std::thread::Builder::new().spawn(move || shared.show(&caught)).ok()
        });
        Self { signals, shared, shows: shows.flatten() }
    }

    /// Entries that were scanned, and bytes that were compared.
    pub(crate) fn scanned_totals(&self) -> Amount {
        let Counted { entries, compared, .. } = &self.shared.counted;
        let now = |count: &AtomicU64| count.load(Ordering::Relaxed);
        Amount { entries: now(entries), bytes: now(compared) }
    }

    /// The time spent on reading back.
    pub(crate) fn reading_back(&self) -> Duration {
        self.shared.time_reading_back(false)
    }

    /// Clears the bar.
    pub(crate) fn done(&self) {
        self.shared.end();
        if let Display::Bar(bar) = &self.shared.display {
            bar.finish_and_clear();
        }
    }
}

impl Drop for Progress<'_> {
    fn drop(&mut self) {
        self.shared.end();
        if let Some(shows) = self.shows.take() {
            // It returns nothing.
            let _ = shows.join();
        }
    }
}

impl Shared {
    fn end(&self) {
        *self.is_over.lock() = true;
        self.changed.notify_all();
    }

    fn stage(&self) -> MutexGuard<'_, ShownStage> {
        self.stage.lock()
    }

    /// Shows progress until the stage ends.
    fn show(&self, caught: &Caught) {
        let (mut pace, mut line_at, mut has_answered) = (Pace::default(), PLAIN, false);
        let mut followed = *self.stage();
        let mut is_over = self.is_over.lock();
        loop {
            // Waits first, so that quick stages show nothing.
            self.changed.wait_for(&mut is_over, DRAWN);
            if *is_over {
                return;
            }
            let now = self.begun.elapsed();
            let stage = *self.stage();
            if stage != followed {
                // The earlier pace is irrelevant now.
                (pace, followed) = (Pace::default(), stage);
            }
            let mut far = self.far(stage);
            pace.note(now, far.position(), self.counted.moved.swap(false, Ordering::Relaxed));
            far.rate = pace.bytes_a_second(now);
            far.left = far.expected().and_then(|expected| pace.left(now, expected.work()));
            let stops = caught.is_set();
            let about = self.about(stage, stops, pace.waits(now));
            match &self.display {
                // Under the lock, so that nothing is drawn after clearing.
                Display::Bar(bar) => bar.set_message(far.line(width(), &about)),
                Display::Lines if stops && !has_answered => {
                    has_answered = true;
                    streams::emit(STOPPING);
                }
                Display::Lines if now >= line_at => {
                    line_at += PLAIN;
                    let about = match about {
                        LineHead::Path(_) => LineHead::Said(""),
                        said @ LineHead::Said(_) => said,
                    };
                    streams::emit(&far.line(usize::MAX, &about));
                }
                Display::Lines | Display::Nothing => {}
            }
        }
    }

    /// Sets whether the run is reading back now; returns the total time spent on it.
    fn time_reading_back(&self, begins: bool) -> Duration {
        let mut reads_back = self.reads_back.lock();
        let (since, total) = &mut *reads_back;
        *total += since.take().map_or(Duration::ZERO, |since| since.elapsed());
        *since = begins.then(Instant::now);
        *total
    }

    fn far(&self, stage: ShownStage) -> StageProgress {
        let now = |count: &AtomicU64| count.load(Ordering::Relaxed);
        let bytes = if let ShownStage::Changing(..) = stage {
            &self.counted.wrote
        } else {
            &self.counted.compared
        };
        StageProgress {
            stage,
            entries: now(&self.counted.entries),
            bytes: now(bytes),
            rate: None,
            left: None,
        }
    }

    /// The current subject.
    fn about(&self, stage: ShownStage, stops: bool, waits: bool) -> LineHead {
        if stops {
            return LineHead::Said(STOPPING);
        }
        if waits {
            return LineHead::Said(WAITING);
        }
        if let ShownStage::ReadingBack(..) = stage {
            return LineHead::Said(READING_BACK);
        }
        if self.flushes.load(Ordering::Relaxed) {
            return LineHead::Said(FLUSHING);
        }
        let current = self.current.lock();
        LineHead::Path(names::shown(&current))
    }
}

/// Written only if it changes: all workers read it frequently.
fn set(flag: &AtomicBool, value: bool) {
    if flag.load(Ordering::Relaxed) != value {
        flag.store(value, Ordering::Relaxed);
    }
}

/// Columns of the terminal of stderr, less one: some terminals wrap a full line.
fn width() -> usize {
    let size = rustix::termios::tcgetwinsize(std::io::stderr());
    let columns = size.map_or(0, |size| usize::from(size.ws_col));
    if columns == 0 { USUAL_WIDTH } else { columns - 1 }
}

impl Observer for Progress<'_> {
    fn scanned(&self, entries: u64) {
        self.shared.counted.entries.fetch_add(entries, Ordering::Relaxed);
    }

    fn comparing(&self, bytes: u64) {
        let Shared { counted: Counted { compared, .. }, flushes, .. } = &*self.shared;
        let mut stage = self.shared.stage();
        let expected = Expected { steps: 0, bytes };
        match *stage {
            ShownStage::Scanning(_) => {
                let before = compared.load(Ordering::Relaxed);
                let bytes = before.saturating_add(bytes);
                *stage = ShownStage::Scanning(Some(Expected { bytes, ..expected }));
            }
            ShownStage::Changing(changing, then) | ShownStage::ReadingBack(_, (changing, then)) => {
                compared.store(0, Ordering::Relaxed);
                flushes.store(true, Ordering::Relaxed);
                self.shared.time_reading_back(true);
                *stage = ShownStage::ReadingBack(expected, (changing, then));
            }
        }
    }

    fn compared(&self, bytes: u64) {
        self.shared.counted.compared.fetch_add(bytes, Ordering::Relaxed);
    }

    fn started(&self, path: &[u8]) {
        let Shared { display, counted, flushes, current, .. } = &*self.shared;
        set(&counted.moved, true);
        if flushes.load(Ordering::Relaxed) {
            // Another source began.
            flushes.store(false, Ordering::Relaxed);
            let mut stage = self.shared.stage();
            if let ShownStage::ReadingBack(_, (changing, then)) = *stage {
                self.shared.time_reading_back(false);
                *stage = ShownStage::Changing(changing, then);
            }
        }
        if let Display::Bar(_) = display {
            let mut current = current.lock();
            current.clear();
            current.extend_from_slice(path);
        }
    }

    fn wrote(&self, bytes: u64) {
        self.shared.counted.wrote.fetch_add(bytes, Ordering::Relaxed);
    }

    fn concluded(&self, _: usize, _: StepOutcome) {
        self.shared.counted.entries.fetch_add(1, Ordering::Relaxed);
    }

    fn flushing(&self) {
        self.shared.flushes.store(true, Ordering::Relaxed);
        if let Display::Lines = &self.shared.display {
            streams::emit(FLUSHING);
        }
    }

    fn stop_requested(&self) -> bool {
        self.signals.caught().is_some()
    }
}

/// A line redrawn in place, with a spinner if nothing else in it moves.
fn line_on_stderr(turning: bool) -> ProgressBar {
    let line = ProgressBar::no_length();
    line.set_draw_target(ProgressDrawTarget::stderr_with_hz(10));
    // The templates are constants, and a test parses each.
    if let Ok(style) = ProgressStyle::with_template(template(turning)) {
        line.set_style(style);
    }
    if turning {
        line.enable_steady_tick(DRAWN);
    }
    line
}

fn template(turning: bool) -> &'static str {
    if turning { "{spinner} {msg}" } else { "{msg}" }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_template_parses() {
        for turning in [false, true] {
            ProgressStyle::with_template(template(turning)).unwrap();
        }
    }

    #[test]
    fn reading_back_counts_separately_and_the_next_source_continues_the_bar() {
        let signals = Signals::default();
        let changing =
            ShownStage::Changing(Expected { steps: 4, bytes: 900 }, AfterReading::ReadingBack);
        let progress = Progress::new(ProgressHow::Lines, &signals, changing);
        let far = || progress.shared.far(*progress.shared.stage());
        progress.wrote(300);
        progress.comparing(600);
        progress.compared(200);
        assert!(matches!(far().stage, ShownStage::ReadingBack(Expected { bytes: 600, .. }, _)));
        assert_eq!(far().bytes, 200);
        progress.comparing(50);
        assert_eq!(far().bytes, 0);
        progress.started(b"keepers");
        progress.wrote(11);
        assert!(matches!(far().stage, ShownStage::Changing(..)));
        assert_eq!(far().bytes, 311);
    }
}
