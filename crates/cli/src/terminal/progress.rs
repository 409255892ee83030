//! Progress on stderr: a count while scanning, then one bar, or a plain line now and then.

use std::io::IsTerminal as _;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};
use utter_echo_core::StepOutcome;
use utter_echo_core::observe::Observer;
use utter_echo_core::plan::Plan;

use super::{names, streams, units};
use crate::options::{Output, ProgressHow};
use crate::signals::Signals;

/// How often the bar is drawn, and how often the path in it changes.
const DRAWN: Duration = Duration::from_millis(100);
/// How often a plain line is written.
const PLAIN: Duration = Duration::from_secs(5);
/// How many glyphs make the bar, and how many where there is little room.
const GLYPHS: (u32, u32) = (10, 5);
/// Fewer columns than this are little room.
const NARROW: usize = 60;
/// Where nothing tells how wide a terminal is.
const USUAL_WIDTH: usize = 80;

/// Follows one stage of a run.
pub(crate) struct Progress<'a> {
    signals: &'a Signals,
    display: Display,
    begun: Instant,
    /// When something was last shown, in milliseconds since `begun`.
    shown: AtomicU64,
    entries: AtomicU64,
    bytes: AtomicU64,
    /// The path that was begun last.
    current: Mutex<Vec<u8>>,
    /// What is to come; nothing is known of it while scanning.
    expected: Option<Expected>,
}

#[derive(Clone, Copy)]
struct Expected {
    steps: u64,
    bytes: u64,
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
        Self {
            signals,
            display: match how {
                ProgressHow::Bar => Display::Bar(line_on_stderr(expected.is_none())),
                ProgressHow::Plain => Display::Plain,
                ProgressHow::Auto | ProgressHow::None => Display::Nothing,
            },
            begun: Instant::now(),
            shown: AtomicU64::new(0),
            entries: AtomicU64::new(0),
            bytes: AtomicU64::new(0),
            current: Mutex::default(),
            expected,
        }
    }

    /// Takes the bar away.
    pub(crate) fn done(&self) {
        if let Display::Bar(bar) = &self.display {
            bar.finish_and_clear();
        }
    }

    /// True once in every `interval`, for whichever worker comes first.
    fn is_due(&self, interval: Duration) -> bool {
        let now = millis(self.begun.elapsed());
        let last = self.shown.load(Ordering::Relaxed);
        let due = now.saturating_sub(last) >= millis(interval);
        due && self.shown.compare_exchange(last, now, Ordering::Relaxed, Ordering::Relaxed).is_ok()
    }

    fn count(&self, entries: u64, bytes: u64) {
        let entries = self.entries.fetch_add(entries, Ordering::Relaxed) + entries;
        let bytes = self.bytes.fetch_add(bytes, Ordering::Relaxed) + bytes;
        match &self.display {
            Display::Bar(bar) if self.is_due(DRAWN) => {
                let current = self.current.lock().unwrap_or_else(PoisonError::into_inner);
                let path = names::shown(&current);
                bar.set_message(self.now(entries, bytes).line(width(), &path));
            }
            Display::Plain if self.is_due(PLAIN) => {
                streams::tell(&self.now(entries, bytes).line(usize::MAX, ""));
            }
            Display::Bar(_) | Display::Plain | Display::Nothing => {}
        }
    }

    fn now(&self, entries: u64, bytes: u64) -> Now {
        Now { expected: self.expected, entries, bytes, took: self.begun.elapsed() }
    }
}

/// How far it is.
struct Now {
    expected: Option<Expected>,
    entries: u64,
    bytes: u64,
    took: Duration,
}

impl Now {
    /// As much of it as fits into so many columns.
    fn line(&self, columns: usize, path: &str) -> String {
        let Some(expected) = self.expected else { return cut(&self.scanned(), columns) };
        let (done, all) = match expected {
            Expected { steps, bytes: 0 } => (self.entries, steps),
            Expected { bytes, .. } => (self.bytes, bytes),
        };
        let part = if all == 0 { 1.0 } else { (done as f64 / all as f64).min(1.0) };
        let mut line = format!("{:>3.0} % {}", (part * 100.0).floor(), glyphs(part, columns));
        // In the order in which they stand, each with its turn if there is no room for all.
        let amount = (expected.bytes > 0).then(|| of_bytes(self.bytes, expected.bytes));
        let steps = (units::count(self.entries), units::count(expected.steps));
        let steps = Some(format!("{} of {} steps", steps.0, steps.1));
        let (amount, steps) = if amount.is_some() { (amount, steps) } else { (steps, None) };
        let rate = (expected.bytes > 0).then(|| self.rate()).flatten();
        let facts = [(amount, 0), (steps, 3), (rate, 2), (self.left(part), 1)];
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
        if !path.is_empty() && room >= 12 {
            line = format!("{line} · {}", cut_in_front(path, room));
        }
        line.trim_end().to_owned()
    }

    fn scanned(&self) -> String {
        let entries = units::entries(self.entries);
        match self.rate() {
            Some(rate) if self.bytes > 0 => {
                format!("compared {entries}, {}, {rate}", units::bytes(self.bytes))
            }
            _ => format!("scanned {entries}"),
        }
    }

    fn rate(&self) -> Option<String> {
        let rate = units::per_second(self.bytes, self.took);
        (self.bytes > 0).then(|| format!("{}/s", units::bytes(rate)))
    }

    /// Not before there is something to judge by.
    fn left(&self, part: f64) -> Option<String> {
        if part <= 0.0 || self.took < Duration::from_secs(1) {
            return None;
        }
        let left = self.took.as_secs_f64() * (1.0 - part) / part;
        let left = Duration::try_from_secs_f64(left.clamp(1.0, 1e9)).ok()?;
        Some(format!("{} left", units::span(Duration::from_secs(left.as_secs()))))
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
        self.count(entries, 0);
    }

    fn compared(&self, bytes: u64) {
        self.count(0, bytes);
    }

    fn started(&self, path: &[u8]) {
        if let Display::Bar(_) = &self.display {
            let mut current = self.current.lock().unwrap_or_else(PoisonError::into_inner);
            current.clear();
            current.extend_from_slice(path);
        }
    }

    fn wrote(&self, bytes: u64) {
        self.count(0, bytes);
    }

    fn concluded(&self, _: usize, _: StepOutcome) {
        self.count(1, 0);
    }

    fn flushing(&self) {
        let text = "flushing to the drive";
        match &self.display {
            Display::Bar(bar) => bar.set_message(cut(text, width())),
            Display::Plain => streams::tell(text),
            Display::Nothing => {}
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

fn millis(span: Duration) -> u64 {
    u64::try_from(span.as_millis()).unwrap_or(u64::MAX)
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
            took: Duration::from_secs(34),
        };
        let path = "fog-signals/gull-ness/season.wav";
        let lines = [
            (40, "38 % ▮▯▯▯▯ 3.2 of 8.4 GiB · 55 s left"),
            (60, "38 % ▮▮▮▯▯▯▯▯▯▯ 3.2 of 8.4 GiB · 96.1 MiB/s · 55 s left"),
            (
                200,
                "38 % ▮▮▮▯▯▯▯▯▯▯ 3.2 of 8.4 GiB · 412 of 2,002 steps · 96.1 MiB/s · 55 s left · \
                 fog-signals/gull-ness/season.wav",
            ),
        ];
        for (columns, line) in lines {
            assert_eq!(now.line(columns, path).trim_start(), line);
        }
        let only_steps =
            Now { expected: Some(Expected { steps: 2000, bytes: 0 }), bytes: 0, ..now };
        let line = only_steps.line(200, path);
        assert!(line.contains("412 of 2,000 steps") && !line.contains("iB/s"), "{line}");
    }

    proptest! {
        #[test]
        fn a_line_is_never_wider_than_its_terminal(
            columns in 14_usize..250, entries: u32, bytes: u32, steps: u32, all: u32, seconds in 0_u64..9999, path in ".{0,90}",
        ) {
            let expected = Some(Expected { steps: steps.into(), bytes: all.into() });
            let took = Duration::from_secs(seconds);
            for expected in [expected, None] {
                let now = Now { expected, entries: entries.into(), bytes: bytes.into(), took };
                let line = now.line(columns, &names::shown(path.as_bytes()));
                prop_assert!(line.width() <= columns, "{line}");
            }
        }
    }
}
