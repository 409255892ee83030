//! The progress line: how far a stage is, as much of it as fits, and the current path.

use std::time::Duration;

use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

use crate::progress::pace::Position;
use crate::terminal::units;

/// The cost of a step besides its content, in bytes.
const STEP: u64 = 4096;
/// The width of the bar in columns, and on narrow terminals.
const GLYPHS: (u32, u32) = (10, 5);
/// A terminal with fewer columns is narrow.
const NARROW: usize = 60;

/// The stages, with their totals as far as they are known.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum ShownStage {
    /// Unknown for the first run.
    Scanning(Option<Expected>),
    Changing(Expected, AfterReading),
    /// Reading back; then it may continue with this stage.
    ReadingBack(Expected, (Expected, AfterReading)),
}

/// The work after the changes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum AfterReading {
    Nothing,
    ReadingBack,
}

/// Numbers of steps or entries, and of bytes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Expected {
    pub(super) steps: u64,
    pub(super) bytes: u64,
}

impl Expected {
    pub(super) fn work(self) -> u64 {
        self.bytes.saturating_add(self.steps.saturating_mul(STEP))
    }

    /// The work done. Without an expected number of entries, entries do not count.
    fn done(self, entries: u64, bytes: u64) -> u64 {
        let entries = if self.steps == 0 { 0 } else { entries };
        Self { steps: entries, bytes }.work()
    }
}

impl ShownStage {
    fn expected(self) -> Option<Expected> {
        match self {
            Self::Scanning(expected) => expected,
            Self::Changing(expected, _) | Self::ReadingBack(expected, _) => Some(expected),
        }
    }
}

/// The current subject.
pub(super) enum LineHead {
    /// An entry.
    Path(String),
    /// Something else.
    Said(&'static str),
}

impl LineHead {
    /// Shortened to fit; the end of a path is more useful than its start.
    fn cut(&self, columns: usize) -> String {
        match self {
            Self::Path(path) => cut_in_front(path, columns),
            Self::Said(said) => cut(said, columns),
        }
    }
}

/// How far a stage is.
pub(super) struct StageProgress {
    pub(super) stage: ShownStage,
    pub(super) entries: u64,
    pub(super) bytes: u64,
    /// Bytes per second.
    pub(super) rate: Option<f64>,
    pub(super) left: Option<Duration>,
}

impl StageProgress {
    /// The expected work, unless more was done already.
    pub(super) fn expected(&self) -> Option<Expected> {
        let is_right = |expected: &Expected| {
            let has_more = expected.steps > 0 && self.entries > expected.steps;
            !has_more && self.bytes <= expected.bytes
        };
        match self.stage {
            ShownStage::Scanning(expected) => expected.filter(is_right),
            stage => stage.expected(),
        }
    }

    pub(super) fn position(&self) -> Position {
        let all = Expected { steps: self.entries, bytes: self.bytes };
        let expected = self.stage.expected().unwrap_or(all);
        Position { work: expected.done(self.entries, self.bytes), bytes: self.bytes }
    }

    /// As many parts as fit into so many columns, then the subject.
    pub(super) fn line(&self, columns: usize, about: &LineHead) -> String {
        let expected = match (self.stage, self.expected()) {
            (ShownStage::Changing(..) | ShownStage::ReadingBack(..), Some(expected)) => expected,
            (_, expected) => return self.line_of_scanning(expected, columns, about),
        };
        let work = expected.done(self.entries, self.bytes);
        let all = expected.work();
        let part = if all == 0 { 1.0 } else { (work as f64 / all as f64).min(1.0) };
        let mut line = format!("{:>3.0} % {}", (part * 100.0).floor(), glyphs(part, columns));
        // In printed order, each with its priority when not all fit.
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
        about: &LineHead,
    ) -> String {
        let Expected { steps, bytes } = expected.unwrap_or(Expected { steps: 0, bytes: 0 });
        // The totals of an earlier run may be outdated.
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
            LineHead::Said(said) if !said.is_empty() => Some((*said).to_owned()),
            LineHead::Path(_) | LineHead::Said(_) => None,
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
            ShownStage::Changing(_, AfterReading::ReadingBack) => {
                Some(format!("{left} left to write"))
            }
            _ => Some(format!("{left} left")),
        }
    }
}

/// "3.2 of 8.6 GiB", or with both units if they differ.
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

/// The last columns of a path.
fn cut_in_front(path: &str, columns: usize) -> String {
    if path.width() <= columns {
        return path.to_owned();
    }
    let back: String = path.chars().rev().collect();
    cut(&back, columns).chars().rev().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::terminal::names;
    use proptest::prelude::*;

    #[test]
    fn figures_come_first_and_are_dropped_by_importance() {
        let expected = Expected { steps: 2002, bytes: 8_600 << 20 };
        let now = StageProgress {
            stage: ShownStage::Changing(expected, AfterReading::Nothing),
            entries: 412,
            bytes: 3_268 << 20,
            rate: Some(96.1 * 1024.0 * 1024.0),
            left: Some(Duration::from_secs(55)),
        };
        let path = LineHead::Path("fog-signals/gull-ness/season.wav".to_owned());
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
        let only_steps = StageProgress {
            stage: ShownStage::Changing(steps, AfterReading::Nothing),
            bytes: 0,
            ..now
        };
        let line = only_steps.line(200, &path);
        assert!(line.contains("412 of 2,000 steps") && !line.contains("iB/s"), "{line}");
        let then_more = StageProgress {
            stage: ShownStage::Changing(expected, AfterReading::ReadingBack),
            ..now
        };
        assert!(then_more.line(60, &path).ends_with("55 s left to write"));
    }

    #[test]
    fn the_expected_size_of_a_scan_is_shown_until_it_is_exceeded() {
        let scan = |steps, bytes| ShownStage::Scanning(Some(Expected { steps, bytes }));
        let (rate, left) = (Some(96.1 * 1024.0 * 1024.0), Some(Duration::from_secs(55)));
        let lines = [
            (ShownStage::Scanning(None), 1200, 0, "scanned 1,200 entries"),
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
            let far = StageProgress { stage, entries, bytes, rate, left: None };
            let left = left.filter(|_| far.expected().is_some());
            assert_eq!(StageProgress { left, ..far }.line(200, &LineHead::Said("")), line);
        }
    }

    proptest! {
        #[test]
        fn a_line_is_never_wider_than_its_terminal(
            columns in 14_usize..250, entries: u32, bytes: u32, steps: u32, all: u32, seconds in 0_u64..9999, path in ".{0,90}",
        ) {
            let expected = Some(Expected { steps: steps.into(), bytes: all.into() });
            let left = Some(Duration::from_secs(seconds));
            let rate = Some(f64::from(bytes));
            let changing = expected.map(|expected| ShownStage::Changing(expected, AfterReading::ReadingBack));
            for stage in [changing, Some(ShownStage::Scanning(expected))].into_iter().flatten() {
                let now = StageProgress { stage, entries: entries.into(), bytes: bytes.into(), rate, left };
                let about = LineHead::Path(names::shown(path.as_bytes()));
                let line = now.line(columns, &about);
                prop_assert!(line.width() <= columns, "{line}");
            }
        }
    }
}
