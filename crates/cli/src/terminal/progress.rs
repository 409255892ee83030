//! Progress on stderr: a count while scanning, then one bar, or a plain line now and then. It is shown by a thread
//! of its own, which touches no drive, so that it goes on while all drives are waited for.

use std::io::IsTerminal as _;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};
use utter_echo_core::StepOutcome;
use utter_echo_core::observe::Observer;
use utter_echo_core::plan::Plan;

use super::pace::{Pace, Reached};
use super::{names, streams, units};
use crate::options::{Output, ProgressHow};
use crate::signals::{Caught, Signals};

/// How often the bar is drawn.
const DRAWN: Duration = Duration::from_millis(100);
/// How often a plain line is written.
const PLAIN: Duration = Duration::from_secs(10);
/// What a step takes beside its content, in bytes of it.
const STEP: u64 = 4096;
/// How many glyphs make the bar, and how many where there is little room.
const GLYPHS: (u32, u32) = (10, 5);
/// Fewer columns than this are little room.
const NARROW: usize = 60;
/// Where nothing tells how wide a terminal is.
const USUAL_WIDTH: usize = 80;

const FLUSHING: &str = "flushing to the drive";
const WAITING: &str = "waiting for the drive";
const STOPPING: &str = "stopping at a safe point";

/// Follows one stage of a run.
pub(crate) struct Progress<'a> {
    signals: &'a Signals,
    shared: Arc<Shared>,
    /// Shows it, if anything is shown.
    shows: Option<JoinHandle<()>>,
}

/// What the workers tell, and what is shown of it.
struct Shared {
    display: Display,
    begun: Instant,
    entries: AtomicU64,
    bytes: AtomicU64,
    /// There was some sign of life.
    moved: AtomicBool,
    flushes: AtomicBool,
    /// The path that was begun last.
    current: Mutex<Vec<u8>>,
    /// What is to come; nothing is known of it while scanning.
    expected: Option<Expected>,
    is_over: Mutex<bool>,
    changed: Condvar,
}

#[derive(Clone, Copy)]
struct Expected {
    steps: u64,
    bytes: u64,
}

impl Expected {
    fn work(self) -> u64 {
        self.bytes.saturating_add(self.steps.saturating_mul(STEP))
    }
}

enum Display {
    Bar(ProgressBar),
    Plain,
    Nothing,
}

impl<'a> Progress<'a> {
    pub(crate) fn scanning(output: &Output, signals: &'a Signals) -> Self {
        Self::new(output, signals, None)
    }

    pub(crate) fn changing(output: &Output, signals: &'a Signals, plan: &Plan) -> Self {
        let (steps, bytes) = (plan.totals.steps(), plan.totals.bytes_to_write());
        Self::new(output, signals, Some(Expected { steps, bytes }))
    }

    fn new(output: &Output, signals: &'a Signals, expected: Option<Expected>) -> Self {
        let how = match output.progress {
            _ if output.quiet => ProgressHow::None,
            ProgressHow::Auto if std::io::stderr().is_terminal() => ProgressHow::Bar,
            ProgressHow::Auto => ProgressHow::None,
            given => given,
        };
        let shared = Arc::new(Shared {
            display: match how {
                ProgressHow::Bar => Display::Bar(line_on_stderr(expected.is_none())),
                ProgressHow::Plain => Display::Plain,
                ProgressHow::Auto | ProgressHow::None => Display::Nothing,
            },
            begun: Instant::now(),
            entries: AtomicU64::new(0),
            bytes: AtomicU64::new(0),
            moved: AtomicBool::new(false),
            flushes: AtomicBool::new(false),
            current: Mutex::default(),
            expected,
            is_over: Mutex::default(),
            changed: Condvar::new(),
        });
        let shows = !matches!(shared.display, Display::Nothing);
        let shows = shows.then(|| {
            let (shared, caught) = (Arc::clone(&shared), signals.watched());
            std::thread::spawn(move || shared.show(&caught))
        });
        Self { signals, shared, shows }
    }

    /// Takes the bar away.
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
            // It tells nothing when it ends.
            let _ = shows.join();
        }
    }
}

impl Shared {
    fn end(&self) {
        *self.is_over.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.changed.notify_all();
    }

    fn count(&self, entries: u64, bytes: u64) {
        self.entries.fetch_add(entries, Ordering::Relaxed);
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
    }

    /// Shows how it goes on until it is over.
    fn show(&self, caught: &Caught) {
        let (mut pace, mut plain_at, mut has_answered) = (Pace::default(), PLAIN, false);
        let mut is_over = self.is_over.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            // First, so that what takes no time shows nothing.
            let waited = self.changed.wait_timeout(is_over, DRAWN);
            is_over = waited.unwrap_or_else(PoisonError::into_inner).0;
            if *is_over {
                return;
            }
            let now = self.begun.elapsed();
            let reached = self.reached();
            pace.note(now, reached, self.moved.swap(false, Ordering::Relaxed));
            let stops = caught.is_set();
            match &self.display {
                // Under the lock, so that nothing is drawn once it was taken away.
                Display::Bar(bar) => bar.set_message(
                    self.now(now, &pace).line(width(), &self.about(stops, pace.waits(now))),
                ),
                Display::Plain if stops && !has_answered => {
                    has_answered = true;
                    streams::tell(STOPPING);
                }
                Display::Plain if now >= plain_at => {
                    plain_at += PLAIN;
                    let about = match self.about(stops, pace.waits(now)) {
                        About::Path(_) => About::Said(""),
                        said @ About::Said(_) => said,
                    };
                    streams::tell(&self.now(now, &pace).line(usize::MAX, &about));
                }
                Display::Plain | Display::Nothing => {}
            }
        }
    }

    fn reached(&self) -> Reached {
        let (entries, bytes) =
            (self.entries.load(Ordering::Relaxed), self.bytes.load(Ordering::Relaxed));
        Reached { work: bytes.saturating_add(entries.saturating_mul(STEP)), bytes }
    }

    /// What it is about now.
    fn about(&self, stops: bool, waits: bool) -> About {
        if stops {
            return About::Said(STOPPING);
        }
        if waits {
            return About::Said(WAITING);
        }
        if self.flushes.load(Ordering::Relaxed) {
            return About::Said(FLUSHING);
        }
        let current = self.current.lock().unwrap_or_else(PoisonError::into_inner);
        About::Path(names::shown(&current))
    }

    fn now(&self, now: Duration, pace: &Pace) -> Now {
        let expected = self.expected;
        let reached = self.reached();
        Now {
            expected,
            entries: self.entries.load(Ordering::Relaxed),
            bytes: reached.bytes,
            rate: pace.bytes_a_second(now),
            left: expected.and_then(|expected| pace.left(now, expected.work())),
        }
    }
}

/// What a run is about.
enum About {
    /// An entry.
    Path(String),
    /// Something else.
    Said(&'static str),
}

impl About {
    /// As much of it as fits; the last columns of a path tell more than the first.
    fn cut(&self, columns: usize) -> String {
        match self {
            Self::Path(path) => cut_in_front(path, columns),
            Self::Said(said) => cut(said, columns),
        }
    }
}

/// How far it is.
struct Now {
    expected: Option<Expected>,
    entries: u64,
    bytes: u64,
    /// Bytes a second.
    rate: Option<f64>,
    left: Option<Duration>,
}

impl Now {
    /// As much of it as fits into so many columns, and then what it is about.
    fn line(&self, columns: usize, about: &About) -> String {
        let Some(expected) = self.expected else {
            let scanned = self.scanned();
            return match about {
                About::Said(said) if !said.is_empty() => {
                    cut(&format!("{scanned} · {said}"), columns)
                }
                About::Path(_) | About::Said(_) => cut(&scanned, columns),
            };
        };
        let work = self.bytes.saturating_add(self.entries.saturating_mul(STEP));
        let all = expected.work();
        let part = if all == 0 { 1.0 } else { (work as f64 / all as f64).min(1.0) };
        let mut line = format!("{:>3.0} % {}", (part * 100.0).floor(), glyphs(part, columns));
        // In the order in which they stand, each with its turn if there is no room for all.
        let amount = (expected.bytes > 0).then(|| of_bytes(self.bytes, expected.bytes));
        let steps = (units::count(self.entries), units::count(expected.steps));
        let steps = Some(format!("{} of {} steps", steps.0, steps.1));
        let (amount, steps) = if amount.is_some() { (amount, steps) } else { (steps, None) };
        let rate = (expected.bytes > 0).then(|| self.rate()).flatten();
        let facts = [(amount, 0), (steps, 3), (rate, 2), (self.left(), 1)];
        let mut room = columns.saturating_sub(line.width());
        let mut fits = [false; 4];
        for turn in 0..facts.len() {
            for (at, (fact, own)) in facts.iter().enumerate() {
                let Some(fact) = fact.as_ref().filter(|_| *own == turn) else { continue };
                let needs = fact.width() + if turn == 0 { 1 } else { 3 };
                fits[at] = needs <= room;
                room -= if fits[at] { needs } else { 0 };
            }
        }
        let facts = facts.into_iter().zip(fits).filter(|(_, fits)| *fits);
        let facts: Vec<String> = facts.filter_map(|((fact, _), _)| fact).collect();
        line = format!("{line} {}", facts.join(" · "));
        let room = columns.saturating_sub(line.width() + 3);
        let about = about.cut(room);
        if !about.is_empty() && room >= 12 {
            line = format!("{line} · {about}");
        }
        line.trim_end().to_owned()
    }

    fn scanned(&self) -> String {
        let entries = units::entries(self.entries);
        match self.rate() {
            Some(rate) if self.bytes > 0 => {
                format!("compared {entries}, {}, {rate}", units::bytes(self.bytes))
            }
            _ if self.bytes > 0 => format!("compared {entries}, {}", units::bytes(self.bytes)),
            _ => format!("scanned {entries}"),
        }
    }

    fn rate(&self) -> Option<String> {
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "never negative, and a fraction of a byte does not matter"
        )]
        let rate = self.rate.map(|rate| rate as u64).filter(|rate| *rate > 0)?;
        Some(format!("{}/s", units::bytes(rate)))
    }

    fn left(&self) -> Option<String> {
        let left = self.left?.as_secs_f64().ceil().max(1.0);
        let left = Duration::try_from_secs_f64(left).ok()?;
        Some(format!("{} left", units::span(left)))
    }
}

/// "3.2 of 8.6 GiB", or with both units where they are not the same.
fn of_bytes(done: u64, all: u64) -> String {
    let (done, all) = (units::bytes(done), units::bytes(all));
    match (done.split_once(' '), all.split_once(' ')) {
        (Some((number, unit)), Some((_, same))) if unit == same => format!("{number} of {all}"),
        _ => format!("{done} of {all}"),
    }
}

fn glyphs(part: f64, columns: usize) -> String {
    let all = if columns < NARROW { GLYPHS.1 } else { GLYPHS.0 };
    let is_full = |at: u32| f64::from(at + 1) <= part * f64::from(all);
    (0..all).map(|at| if is_full(at) { '▮' } else { '▯' }).collect()
}

/// The first columns of a text.
fn cut(text: &str, columns: usize) -> String {
    if text.width() <= columns {
        return text.to_owned();
    }
    let mut room = columns.saturating_sub(1);
    let fits = |c: &char| {
        let width = c.width().unwrap_or(0);
        let fits = width <= room;
        room = room.saturating_sub(width);
        fits
    };
    text.chars().take_while(fits).chain(['…']).collect()
}

/// The last columns of a path, which tell more than the first.
fn cut_in_front(path: &str, columns: usize) -> String {
    if path.width() <= columns {
        return path.to_owned();
    }
    let back: String = path.chars().rev().collect();
    cut(&back, columns).chars().rev().collect()
}

/// Columns of the terminal behind stderr, less one: a line that reaches its edge would wrap on some.
fn width() -> usize {
    let size = rustix::termios::tcgetwinsize(std::io::stderr());
    let columns = size.map_or(0, |size| usize::from(size.ws_col));
    if columns == 0 { USUAL_WIDTH } else { columns - 1 }
}

impl Observer for Progress<'_> {
    fn scanned(&self, entries: u64) {
        self.shared.count(entries, 0);
    }

    fn compared(&self, bytes: u64) {
        self.shared.count(0, bytes);
    }

    fn started(&self, path: &[u8]) {
        self.shared.moved.store(true, Ordering::Relaxed);
        if let Display::Bar(_) = &self.shared.display {
            let mut current = self.shared.current.lock().unwrap_or_else(PoisonError::into_inner);
            current.clear();
            current.extend_from_slice(path);
        }
    }

    fn wrote(&self, bytes: u64) {
        self.shared.count(0, bytes);
    }

    fn concluded(&self, _: usize, _: StepOutcome) {
        self.shared.count(1, 0);
    }

    fn flushing(&self) {
        self.shared.flushes.store(true, Ordering::Relaxed);
        if let Display::Plain = &self.shared.display {
            streams::tell(FLUSHING);
        }
    }

    fn stop_requested(&self) -> bool {
        self.signals.caught().is_some()
    }
}

/// A line that is drawn over itself; `turning` if nothing else in it shows that it goes on.
fn line_on_stderr(turning: bool) -> ProgressBar {
    let line = ProgressBar::no_length();
    line.set_draw_target(ProgressDrawTarget::stderr_with_hz(10));
    // A template that does not parse is ours, and a test reads each.
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
    use proptest::prelude::*;

    #[test]
    fn every_template_parses() {
        for turning in [false, true] {
            ProgressStyle::with_template(template(turning)).unwrap();
        }
    }

    #[test]
    fn figures_come_first_and_give_way_by_their_weight() {
        let now = Now {
            expected: Some(Expected { steps: 2002, bytes: 8_600 << 20 }),
            entries: 412,
            bytes: 3_268 << 20,
            rate: Some(96.1 * 1024.0 * 1024.0),
            left: Some(Duration::from_secs(55)),
        };
        let path = About::Path("fog-signals/gull-ness/season.wav".to_owned());
        let lines = [
            (40, "37 % ▮▯▯▯▯ 3.2 of 8.4 GiB · 55 s left"),
            (60, "37 % ▮▮▮▯▯▯▯▯▯▯ 3.2 of 8.4 GiB · 96.1 MiB/s · 55 s left"),
            (
                200,
                "37 % ▮▮▮▯▯▯▯▯▯▯ 3.2 of 8.4 GiB · 412 of 2,002 steps · 96.1 MiB/s · 55 s left · \
                 fog-signals/gull-ness/season.wav",
            ),
        ];
        for (columns, line) in lines {
            assert_eq!(now.line(columns, &path).trim_start(), line);
        }
        let only_steps =
            Now { expected: Some(Expected { steps: 2000, bytes: 0 }), bytes: 0, ..now };
        let line = only_steps.line(200, &path);
        assert!(line.contains("412 of 2,000 steps") && !line.contains("iB/s"), "{line}");
    }

    proptest! {
        #[test]
        fn a_line_is_never_wider_than_its_terminal(
            columns in 14_usize..250, entries: u32, bytes: u32, steps: u32, all: u32, seconds in 0_u64..9999, path in ".{0,90}",
        ) {
            let expected = Some(Expected { steps: steps.into(), bytes: all.into() });
            let left = Some(Duration::from_secs(seconds));
            let rate = Some(f64::from(bytes));
            for expected in [expected, None] {
                let now = Now { expected, entries: entries.into(), bytes: bytes.into(), rate, left };
                let about = About::Path(names::shown(path.as_bytes()));
                let line = now.line(columns, &about);
                prop_assert!(line.width() <= columns, "{line}");
            }
        }
    }
}
