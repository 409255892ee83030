//! Progress on stderr: a count while scanning, then one bar, or a plain line now and then.

use std::io::IsTerminal as _;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use utter_echo_core::observe::Observer;
use utter_echo_core::plan::Plan;

use super::{names, streams, units};
use crate::args::{Output, ProgressHow};
use crate::signals::Signals;

/// How often the bar is drawn, and how often the path in it changes.
const DRAWN: Duration = Duration::from_millis(100);
/// How often a plain line is written.
const PLAIN: Duration = Duration::from_secs(5);

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
    /// Steps and bytes to come; nothing is known of them while scanning.
    expected: Option<(u64, u64)>,
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
        let totals = &plan.totals;
        Self::new(output, signals, Some((totals.steps(), totals.bytes_to_write())))
    }

    fn new(output: &Output, signals: &'a Signals, expected: Option<(u64, u64)>) -> Self {
        let how = match output.progress {
            _ if output.quiet => ProgressHow::None,
            ProgressHow::Auto if std::io::stderr().is_terminal() => ProgressHow::Bar,
            ProgressHow::Auto => ProgressHow::None,
            given => given,
        };
        Self {
            signals,
            display: match how {
                ProgressHow::Bar => Display::Bar(bar(expected)),
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
            Display::Bar(bar) if self.is_due(DRAWN) => self.draw(bar, entries, bytes),
            Display::Plain if self.is_due(PLAIN) => {
                streams::tell(&self.line(entries, bytes));
            }
            Display::Bar(_) | Display::Plain | Display::Nothing => {}
        }
    }

    fn draw(&self, bar: &ProgressBar, entries: u64, bytes: u64) {
        let Some((steps, expected_bytes)) = self.expected else {
            bar.set_message(self.line(entries, bytes));
            return;
        };
        bar.set_position(if expected_bytes > 0 { bytes } else { entries });
        bar.set_prefix(format!("{} of {}", units::count(entries), units::count(steps)));
        let current = self.current.lock().unwrap_or_else(PoisonError::into_inner);
        bar.set_message(names::shown(&current));
    }

    fn line(&self, entries: u64, bytes: u64) -> String {
        let rate = units::per_second(bytes, self.begun.elapsed());
        match self.expected {
            None if bytes > 0 => {
                format!(
                    "compared {}, {}, {}/s",
                    units::entries(entries),
                    units::bytes(bytes),
                    units::bytes(rate)
                )
            }
            None => format!("scanned {}", units::entries(entries)),
            Some((steps, total)) => {
                let left = (total.saturating_sub(bytes)) as f64 / (rate.max(1)) as f64;
                format!(
                    "{} of {} steps, {} of {}, {}/s, {} left",
                    units::count(entries),
                    units::count(steps),
                    units::bytes(bytes),
                    units::bytes(total),
                    units::bytes(rate),
                    units::span(
                        Duration::from_secs_f64(left.clamp(0.0, 1e9)).max(Duration::from_secs(1))
                    ),
                )
            }
        }
    }
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

    fn finished(&self) {
        self.count(1, 0);
    }

    fn flushing(&self) {
        match &self.display {
            Display::Bar(bar) => bar.set_message("flushing to the drive"),
            Display::Plain => streams::tell("flushing to the drive"),
            Display::Nothing => {}
        }
    }

    fn stop_requested(&self) -> bool {
        self.signals.caught().is_some()
    }
}

fn bar(expected: Option<(u64, u64)>) -> ProgressBar {
    let bar = match expected {
        None => ProgressBar::no_length(),
        Some((steps, 0)) => ProgressBar::new(steps),
        Some((_, bytes)) => ProgressBar::new(bytes),
    };
    bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(10));
    // A template that does not parse is ours, and a test reads each.
    if let Ok(style) = ProgressStyle::with_template(template(expected)) {
        bar.set_style(style.progress_chars("━╸─"));
    }
    bar.enable_steady_tick(DRAWN);
    bar
}

fn template(expected: Option<(u64, u64)>) -> &'static str {
    match expected {
        None => "{spinner} {msg}",
        Some((_, 0)) => "{bar:24.cyan} {pos}/{len} steps  {eta} left  {wide_msg:.dim}",
        Some(_) => {
            "{bar:24.cyan} {binary_bytes}/{binary_total_bytes}  {prefix} steps  \
             {binary_bytes_per_sec}  {eta} left  {wide_msg:.dim}"
        }
    }
}

fn millis(span: Duration) -> u64 {
    u64::try_from(span.as_millis()).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_template_parses() {
        for expected in [None, Some((3, 0)), Some((3, 1000))] {
            ProgressStyle::with_template(template(expected)).unwrap();
        }
    }
}
