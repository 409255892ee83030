//! Progress on stderr: a count while scanning, of how many where that is known, then one bar, or a plain line now
//! and then. It is shown by a thread of its own, which touches no drive, so that it goes on while all drives are
//! waited for.

use std::io::IsTerminal as _;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
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
use crate::report::events::Amount;
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
const READING_BACK: &str = "reading back";
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
    /// Entries that were scanned, or steps that were concluded.
    entries: AtomicU64,
    wrote: AtomicU64,
    /// Bytes of both sides together, since it was last told how many there are.
    compared: AtomicU64,
    /// There was some sign of life.
    moved: AtomicBool,
    /// The changes of a source are over: it is flushed, or read back.
    flushes: AtomicBool,
    /// Since when what was written is being read back, and for how long that took before.
    reads_back: Mutex<(Option<Instant>, Duration)>,
    /// The path that was begun last.
    current: Mutex<Vec<u8>>,
    stage: Mutex<Stage>,
    is_over: Mutex<bool>,
    changed: Condvar,
}

/// What is being done, and as far as that is known how much of it.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Stage {
    /// The first time nothing is known of that.
    Scanning(Option<Expected>),
    Changing(Expected, Then),
    /// What was written is read once more and compared; then it may go on with this.
    ReadingBack(Expected, (Expected, Then)),
}

/// What comes after the changes.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Then {
    Nothing,
    ReadingBack,
}

/// Steps or entries, and bytes.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Expected {
    steps: u64,
    bytes: u64,
}

impl Expected {
    fn work(self) -> u64 {
        self.bytes.saturating_add(self.steps.saturating_mul(STEP))
    }

    /// The same of what was done. Where no number of entries is expected, they do not count.
    fn done(self, entries: u64, bytes: u64) -> u64 {
        let entries = if self.steps == 0 { 0 } else { entries };
        Self { steps: entries, bytes }.work()
    }
}

impl Stage {
    fn expected(self) -> Option<Expected> {
        match self {
            Self::Scanning(expected) => expected,
            Self::Changing(expected, _) | Self::ReadingBack(expected, _) => Some(expected),
        }
    }
}

/// How progress is shown, with what is automatic decided.
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
    Plain,
    Nothing,
}

impl<'a> Progress<'a> {
    /// `foretold` tells what an earlier run scanned and compared, if one is known; it is asked only if something is
    /// shown.
    pub(crate) fn scanning(
        output: &Output,
        signals: &'a Signals,
        foretold: impl FnOnce() -> Option<Amount>,
    ) -> Self {
        let foretold = if how(output) == ProgressHow::None { None } else { foretold() };
        let expected = |Amount { entries, bytes }| Expected { steps: entries, bytes };
        Self::new(how(output), signals, Stage::Scanning(foretold.map(expected)))
    }

    pub(crate) fn changing(
        output: &Output,
        signals: &'a Signals,
        plan: &Plan,
        reads_back: bool,
    ) -> Self {
        let (steps, bytes) = (plan.totals.steps(), plan.totals.bytes_to_write());
        let then = if reads_back && bytes > 0 { Then::ReadingBack } else { Then::Nothing };
        Self::new(how(output), signals, Stage::Changing(Expected { steps, bytes }, then))
    }

    fn new(how: ProgressHow, signals: &'a Signals, stage: Stage) -> Self {
        let turning = matches!(stage, Stage::Scanning(_));
        let shared = Arc::new(Shared {
            display: match how {
                ProgressHow::Bar => Display::Bar(line_on_stderr(turning)),
                ProgressHow::Plain => Display::Plain,
                ProgressHow::Auto | ProgressHow::None => Display::Nothing,
            },
            begun: Instant::now(),
            entries: AtomicU64::new(0),
            wrote: AtomicU64::new(0),
            compared: AtomicU64::new(0),
            moved: AtomicBool::new(false),
            flushes: AtomicBool::new(false),
            reads_back: Mutex::default(),
            current: Mutex::default(),
            stage: Mutex::new(stage),
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

    /// Entries that were scanned, and bytes that were compared.
    pub(crate) fn looked_at(&self) -> Amount {
        let Shared { entries, compared, .. } = &*self.shared;
        let now = |count: &AtomicU64| count.load(Ordering::Relaxed);
        Amount { entries: now(entries), bytes: now(compared) }
    }

    /// For how long what was written was read back.
    pub(crate) fn reading_back(&self) -> Duration {
        self.shared.time_reading_back(false)
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

    fn stage(&self) -> MutexGuard<'_, Stage> {
        self.stage.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Shows how it goes on until it is over.
    fn show(&self, caught: &Caught) {
        let (mut pace, mut plain_at, mut has_answered) = (Pace::default(), PLAIN, false);
        let mut followed = *self.stage();
        let mut is_over = self.is_over.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            // First, so that what takes no time shows nothing.
            let waited = self.changed.wait_timeout(is_over, DRAWN);
            is_over = waited.unwrap_or_else(PoisonError::into_inner).0;
            if *is_over {
                return;
            }
            let now = self.begun.elapsed();
            let stage = *self.stage();
            if stage != followed {
                // What it did before tells nothing of this.
                (pace, followed) = (Pace::default(), stage);
            }
            let mut far = self.far(stage);
            pace.note(now, far.reached(), self.moved.swap(false, Ordering::Relaxed));
            far.rate = pace.bytes_a_second(now);
            far.left = far.expected().and_then(|expected| pace.left(now, expected.work()));
            let stops = caught.is_set();
            let about = self.about(stage, stops, pace.waits(now));
            match &self.display {
                // Under the lock, so that nothing is drawn once it was taken away.
                Display::Bar(bar) => bar.set_message(far.line(width(), &about)),
                Display::Plain if stops && !has_answered => {
                    has_answered = true;
                    streams::tell(STOPPING);
                }
                Display::Plain if now >= plain_at => {
                    plain_at += PLAIN;
                    let about = match about {
                        About::Path(_) => About::Said(""),
                        said @ About::Said(_) => said,
                    };
                    streams::tell(&far.line(usize::MAX, &about));
                }
                Display::Plain | Display::Nothing => {}
            }
        }
    }

    /// Notes whether it is read back from now on; returns for how long it was until now.
    fn time_reading_back(&self, begins: bool) -> Duration {
        let mut reads_back = self.reads_back.lock().unwrap_or_else(PoisonError::into_inner);
        let (since, total) = &mut *reads_back;
        *total += since.take().map_or(Duration::ZERO, |since| since.elapsed());
        *since = begins.then(Instant::now);
        *total
    }

    fn far(&self, stage: Stage) -> Far {
        let now = |count: &AtomicU64| count.load(Ordering::Relaxed);
        let bytes = if let Stage::Changing(..) = stage { &self.wrote } else { &self.compared };
        Far { stage, entries: now(&self.entries), bytes: now(bytes), rate: None, left: None }
    }

    /// What it is about now.
    fn about(&self, stage: Stage, stops: bool, waits: bool) -> About {
        if stops {
            return About::Said(STOPPING);
        }
        if waits {
            return About::Said(WAITING);
        }
        if let Stage::ReadingBack(..) = stage {
            return About::Said(READING_BACK);
        }
        if self.flushes.load(Ordering::Relaxed) {
            return About::Said(FLUSHING);
        }
        let current = self.current.lock().unwrap_or_else(PoisonError::into_inner);
        About::Path(names::shown(&current))
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

/// How far a stage is.
struct Far {
    stage: Stage,
    entries: u64,
    bytes: u64,
    /// Bytes a second.
    rate: Option<f64>,
    left: Option<Duration>,
}

impl Far {
    /// What is expected of the stage, as long as it has not turned out to be more.
    fn expected(&self) -> Option<Expected> {
        let is_right = |expected: &Expected| {
            let has_more = expected.steps > 0 && self.entries > expected.steps;
            !has_more && self.bytes <= expected.bytes
        };
        match self.stage {
            Stage::Scanning(expected) => expected.filter(is_right),
            stage => stage.expected(),
        }
    }

    fn reached(&self) -> Reached {
        let all = Expected { steps: self.entries, bytes: self.bytes };
        let expected = self.stage.expected().unwrap_or(all);
        Reached { work: expected.done(self.entries, self.bytes), bytes: self.bytes }
    }

    /// As much of it as fits into so many columns, and then what it is about.
    fn line(&self, columns: usize, about: &About) -> String {
        let expected = match (self.stage, self.expected()) {
            (Stage::Changing(..) | Stage::ReadingBack(..), Some(expected)) => expected,
            (_, expected) => return self.line_of_scanning(expected, columns, about),
        };
        let work = expected.done(self.entries, self.bytes);
        let all = expected.work();
        let part = if all == 0 { 1.0 } else { (work as f64 / all as f64).min(1.0) };
        let mut line = format!("{:>3.0} % {}", (part * 100.0).floor(), glyphs(part, columns));
        // In the order in which they stand, each with its turn if there is no room for all.
        let amount = (expected.bytes > 0).then(|| of_bytes(self.bytes, expected.bytes, ""));
        let steps = (units::count(self.entries), units::count(expected.steps));
        let steps = (expected.steps > 0).then(|| format!("{} of {} steps", steps.0, steps.1));
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

    fn line_of_scanning(
        &self,
        expected: Option<Expected>,
        columns: usize,
        about: &About,
    ) -> String {
        let Expected { steps, bytes } = expected.unwrap_or(Expected { steps: 0, bytes: 0 });
        // What an earlier run met need not be there any more.
        let about_so_many = if steps > 0 { "about " } else { "" };
        let verb = if self.bytes > 0 { "compared" } else { "scanned" };
        let entries = if steps == 0 {
            units::entries(self.entries)
        } else {
            let (now, all) = (units::count(self.entries), units::entries(steps));
            format!("{now} of {about_so_many}{all}")
        };
        let amount = (self.bytes > 0).then(|| match bytes {
            0 => units::bytes(self.bytes),
            _ => of_bytes(self.bytes, bytes, about_so_many),
        });
        let rate = amount.as_ref().and_then(|_| self.rate());
        let said = match about {
            About::Said(said) if !said.is_empty() => Some((*said).to_owned()),
            About::Path(_) | About::Said(_) => None,
        };
        let facts = [Some(format!("{verb} {entries}")), amount, rate, self.left(), said];
        cut(&facts.into_iter().flatten().collect::<Vec<_>>().join(" · "), columns)
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
        let left = units::span(Duration::try_from_secs_f64(left).ok()?);
        match self.stage {
            Stage::Changing(_, Then::ReadingBack) => Some(format!("{left} left to write")),
            _ => Some(format!("{left} left")),
        }
    }
}

/// Written to only where that changes something: all workers look at it all the time.
fn set(flag: &AtomicBool, value: bool) {
    if flag.load(Ordering::Relaxed) != value {
        flag.store(value, Ordering::Relaxed);
    }
}

/// "3.2 of 8.6 GiB", or with both units where they are not the same.
fn of_bytes(done: u64, all: u64, about: &str) -> String {
    let (done, all) = (units::bytes(done), units::bytes(all));
    match (done.split_once(' '), all.split_once(' ')) {
        (Some((number, unit)), Some((_, same))) if unit == same => {
            format!("{number} of {about}{all}")
        }
        _ => format!("{done} of {about}{all}"),
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
        self.shared.entries.fetch_add(entries, Ordering::Relaxed);
    }

    fn comparing(&self, bytes: u64) {
        let Shared { compared, flushes, .. } = &*self.shared;
        let mut stage = self.shared.stage();
        let expected = Expected { steps: 0, bytes };
        match *stage {
            Stage::Scanning(_) => {
                let before = compared.load(Ordering::Relaxed);
                let bytes = before.saturating_add(bytes);
                *stage = Stage::Scanning(Some(Expected { bytes, ..expected }));
            }
            Stage::Changing(changing, then) | Stage::ReadingBack(_, (changing, then)) => {
                compared.store(0, Ordering::Relaxed);
                flushes.store(true, Ordering::Relaxed);
                self.shared.time_reading_back(true);
                *stage = Stage::ReadingBack(expected, (changing, then));
            }
        }
    }

    fn compared(&self, bytes: u64) {
        self.shared.compared.fetch_add(bytes, Ordering::Relaxed);
    }

    fn started(&self, path: &[u8]) {
        let Shared { display, moved, flushes, current, .. } = &*self.shared;
        set(moved, true);
        if flushes.load(Ordering::Relaxed) {
            // Of another source.
            flushes.store(false, Ordering::Relaxed);
            let mut stage = self.shared.stage();
            if let Stage::ReadingBack(_, (changing, then)) = *stage {
                self.shared.time_reading_back(false);
                *stage = Stage::Changing(changing, then);
            }
        }
        if let Display::Bar(_) = display {
            let mut current = current.lock().unwrap_or_else(PoisonError::into_inner);
            current.clear();
            current.extend_from_slice(path);
        }
    }

    fn wrote(&self, bytes: u64) {
        self.shared.wrote.fetch_add(bytes, Ordering::Relaxed);
    }

    fn concluded(&self, _: usize, _: StepOutcome) {
        self.shared.entries.fetch_add(1, Ordering::Relaxed);
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
        let expected = Expected { steps: 2002, bytes: 8_600 << 20 };
        let now = Far {
            stage: Stage::Changing(expected, Then::Nothing),
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
        let steps = Expected { steps: 2000, bytes: 0 };
        let only_steps = Far { stage: Stage::Changing(steps, Then::Nothing), bytes: 0, ..now };
        let line = only_steps.line(200, &path);
        assert!(line.contains("412 of 2,000 steps") && !line.contains("iB/s"), "{line}");
        let then_more = Far { stage: Stage::Changing(expected, Then::ReadingBack), ..now };
        assert!(then_more.line(60, &path).ends_with("55 s left to write"));
    }

    #[test]
    fn what_is_known_of_a_scan_is_told_until_it_turns_out_to_be_wrong() {
        let scan = |steps, bytes| Stage::Scanning(Some(Expected { steps, bytes }));
        let (rate, left) = (Some(96.1 * 1024.0 * 1024.0), Some(Duration::from_secs(55)));
        let lines = [
            (Stage::Scanning(None), 1200, 0, "scanned 1,200 entries"),
            (scan(9000, 0), 1200, 0, "scanned 1,200 of about 9,000 entries · 55 s left"),
            (scan(9000, 0), 9001, 0, "scanned 9,001 entries"),
            (
                scan(9000, 8 << 30),
                1200,
                3 << 30,
                "compared 1,200 of about 9,000 entries · 3.0 of about 8.0 GiB · 96.1 MiB/s · 55 s left",
            ),
            (
                scan(0, 8 << 30),
                1200,
                3 << 30,
                "compared 1,200 entries · 3.0 of 8.0 GiB · 96.1 MiB/s · 55 s left",
            ),
            (scan(9000, 1 << 30), 1200, 3 << 30, "compared 1,200 entries · 3.0 GiB · 96.1 MiB/s"),
        ];
        for (stage, entries, bytes, line) in lines {
            let far = Far { stage, entries, bytes, rate, left: None };
            let left = left.filter(|_| far.expected().is_some());
            assert_eq!(Far { left, ..far }.line(200, &About::Said("")), line);
        }
    }

    #[test]
    fn what_is_read_back_counts_for_itself_and_the_next_source_goes_on_where_it_was() {
        let signals = Signals::default();
        let changing = Stage::Changing(Expected { steps: 4, bytes: 900 }, Then::ReadingBack);
        let progress = Progress::new(ProgressHow::Plain, &signals, changing);
        let far = || progress.shared.far(*progress.shared.stage());
        progress.wrote(300);
        progress.comparing(600);
        progress.compared(200);
        assert!(matches!(far().stage, Stage::ReadingBack(Expected { bytes: 600, .. }, _)));
        assert_eq!(far().bytes, 200);
        progress.comparing(50);
        assert_eq!(far().bytes, 0);
        progress.started(b"keepers");
        progress.wrote(11);
        assert!(matches!(far().stage, Stage::Changing(..)));
        assert_eq!(far().bytes, 311);
    }

    proptest! {
        #[test]
        fn a_line_is_never_wider_than_its_terminal(
            columns in 14_usize..250, entries: u32, bytes: u32, steps: u32, all: u32, seconds in 0_u64..9999, path in ".{0,90}",
        ) {
            let expected = Some(Expected { steps: steps.into(), bytes: all.into() });
            let left = Some(Duration::from_secs(seconds));
            let rate = Some(f64::from(bytes));
            let changing = expected.map(|expected| Stage::Changing(expected, Then::ReadingBack));
            for stage in [changing, Some(Stage::Scanning(expected))].into_iter().flatten() {
                let now = Far { stage, entries: entries.into(), bytes: bytes.into(), rate, left };
                let about = About::Path(names::shown(path.as_bytes()));
                let line = now.line(columns, &about);
                prop_assert!(line.width() <= columns, "{line}");
            }
        }
    }
}
