//! Parsers of option values; their errors say what is expected.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bytesize::ByteSize;
use jiff::civil::{Date, DateTime};
use jiff::tz::{Offset, TimeZone};
use jiff::{Timestamp, ToSpan as _};
use utter_echo_core::attribute::{Attributes, UnknownAttribute};
use utter_echo_core::os::Time;
use utter_echo_core::plan::{UnknownVerb, Verbs};
use utter_echo_core::request::{Guard, RemovalLimit, Workers};
use utter_echo_core::select::{Kinds, Span};

use crate::terminal::names;

/// A number of bytes: K, M, G and T are powers of 1000, `KiB` and so on powers of 1024.
pub(crate) fn bytes(text: &str) -> Result<u64, String> {
    let wrong = || "a number of bytes above 0, like 800000, 500K, 20M or 1.5GiB".to_owned();
    let bytes = text.trim().parse::<ByteSize>().map_err(|_| wrong())?.as_u64();
    // More than any drive holds is a typing error.
    if (1..=1_000_000_000_000_000).contains(&bytes) { Ok(bytes) } else { Err(wrong()) }
}

/// The label or UUID of a drive, also written as in a place.
#[allow(clippy::unnecessary_wraps, reason = "as the parser calls it")]
pub(crate) fn drive_name(text: &str) -> Result<String, String> {
    let named = ["label=", "uuid="].iter().find_map(|begin| text.strip_prefix(begin));
    Ok(named.unwrap_or(text).to_owned())
}

/// A number of threads, or `auto`.
pub(crate) fn workers(text: &str) -> Result<Workers, String> {
    match text.trim().parse() {
        Ok(workers @ 1..=256) => Ok(Workers::Fixed(workers)),
        _ if text.trim() == "auto" => Ok(Workers::Auto),
        _ => Err("a number from 1 to 256, or 'auto'".to_owned()),
    }
}

/// A duration. Days have 24 hours; months and years are calendar ones from now.
pub(crate) fn duration(text: &str) -> Result<Duration, String> {
    let wrong = || "a length of time like 2s, 30m, 2h30m, 7days, 2w or 1y".to_owned();
    let span: jiff::Span = text.trim().parse().map_err(|_| wrong())?;
    // UTC, since finding the time zone would take longer than a small run.
    let now = TimeZone::UTC.to_datetime(Timestamp::now());
    let length = span.to_duration(now).map_err(|_| wrong())?;
    // A century is a typing error.
    let length = Duration::try_from(length).map_err(|_| wrong())?;
    Some(length).filter(|length| length.as_secs() <= 3_200_000_000).ok_or_else(wrong)
}

/// Which set-aside runs to keep.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum KeepRuns {
    /// The newest so many, including the present one.
    Newest(usize),
    /// Those that began within this duration.
    For(Duration),
}

pub(super) fn keep(text: &str) -> Result<KeepRuns, String> {
    let wrong = || "a number of runs above 0, like 10, or a length of time like 30d".to_owned();
    match text.parse() {
        Ok(0) => Err(wrong()),
        Ok(count) => Ok(KeepRuns::Newest(count)),
        Err(_) => duration(text).map(KeepRuns::For).map_err(|_| wrong()),
    }
}

/// The two ends of a range, each optional.
fn span<T: PartialOrd>(
    text: &str,
    what: &str,
    read: impl Fn(&str, bool) -> Result<T, String>,
) -> Result<Span<T>, String> {
    let Some((from, to)) = text.split_once("..") else {
        return Err(format!("{what}; '{text}..' means at least that, '..{text}' at most that"));
    };
    let end = |text: &str, is_end| match text.trim() {
        "" => Ok(None),
        text => read(text, is_end).map(Some),
    };
    let (from, to) = (end(from, false)?, end(to, true)?);
    match (&from, &to) {
        (None, None) => Err(format!("{what}; only one end can be left out")),
        (Some(from), Some(to)) if to < from => {
            Err(format!("{what}; the first must not be greater than the second"))
        }
        _ => Ok(Span { from, to }),
    }
}

pub(super) fn sizes(text: &str) -> Result<Span<u64>, String> {
    span(text, "two sizes like 1M..2GiB", |text, _| if text == "0" { Ok(0) } else { bytes(text) })
}

pub(super) fn ages(text: &str) -> Result<Span<Duration>, String> {
    span(text, "two lengths of time like 1d..2w", |text, _| duration(text))
}

/// The range of times of so long ago.
pub(super) fn times_of_age(age: Span<Duration>, now: Time) -> Span<Time> {
    let before = |age: Duration| {
        let secs = now.secs.saturating_sub_unsigned(age.as_secs());
        match now.nanos.checked_sub(age.subsec_nanos()) {
            Some(nanos) => Time { secs, nanos },
            None => Time { secs: secs - 1, nanos: now.nanos + 1_000_000_000 - age.subsec_nanos() },
        }
    };
    Span { from: age.to.map(before), to: age.from.map(before) }
}

/// A point in the past: a duration ago, or a local date.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Moment {
    Ago(Duration),
    At(Time),
}

impl Moment {
    /// As seen from `now`.
    pub(crate) fn before(self, now: Timestamp) -> Option<Timestamp> {
        match self {
            Self::Ago(ago) => now.checked_sub(ago).ok(),
            Self::At(Time { secs, nanos }) => Timestamp::new(secs, nanos.cast_signed()).ok(),
        }
    }
}

pub(crate) fn moment(text: &str) -> Result<Moment, String> {
    let wrong = |_| "a length of time like 3d, or a local date like 2026-01-31".to_owned();
    let ago = duration(text).map(Moment::Ago);
    ago.or_else(|_| date(text, false).map(Moment::At)).map_err(wrong)
}

pub(super) fn dates(text: &str) -> Result<Span<Time>, String> {
    span(text, "two local dates like 2026-01-31..2026-02-28T14:00", date)
}

/// The start or the end of the named day, hour, minute or second. Local time, unless it ends in an offset like
/// `+02:00` or in `Z`.
fn date(text: &str, is_end: bool) -> Result<Time, String> {
    let wrong = |why: &dyn std::fmt::Display| {
        format!(
            "'{text}' is not a date like 2026-01-31, 2026-01-31T14:00 or 2026-01-31T14:00+02:00: {why}"
        )
    };
    let (day, time) = match text.split_once(['T', 't', ' ']) {
        Some((day, time)) => (day, Some(time)),
        None => (text, None),
    };
    let day: Date = day.parse().map_err(|e| wrong(&e))?;
    let clock = time.unwrap_or_default();
    let (clock, offset) = clock.split_at(clock.find(['Z', 'z', '+', '-']).unwrap_or(clock.len()));
    let zone = match offset {
        "" => local_zone().map_err(|e| wrong(&e))?,
        // An offset from UTC in seconds.
        offset => {
            let there = format!("1970-01-01T00:00{offset}").parse::<Timestamp>();
            let seconds = -there.map_err(|e| wrong(&e))?.as_second();
            let seconds = i32::try_from(seconds).map_err(|e| wrong(&e))?;
            TimeZone::fixed(Offset::from_seconds(seconds).map_err(|e| wrong(&e))?)
        }
    };
    let begin = match time {
        None => day.at(0, 0, 0, 0),
        Some(_) => format!("{day}T{clock}").parse::<DateTime>().map_err(|e| wrong(&e))?,
    };
    let span = match clock.bytes().filter(u8::is_ascii_digit).count() {
        0 => 1.day(),
        1..=2 => 1.hour(),
        3..=4 => 1.minute(),
        5..=6 => 1.second(),
        _ => 1.nanosecond(),
    };
    let end = || begin.checked_add(span)?.checked_sub(1.nanosecond());
    let at = if is_end { end() } else { Ok(begin) };
    let zoned = at.and_then(|at| at.to_zoned(zone)).map_err(|e| wrong(&e))?;
    let nanos = zoned.timestamp().as_nanosecond();
    let secs = i64::try_from(nanos.div_euclid(1_000_000_000)).map_err(|e| wrong(&e))?;
    let nanos = u32::try_from(nanos.rem_euclid(1_000_000_000)).map_err(|e| wrong(&e))?;
    Ok(Time { secs, nanos })
}

/// The system's time zone. An unknown one is an error: it would pass for UTC.
fn local_zone() -> Result<TimeZone, jiff::Error> {
    match std::env::var("TZ").ok().filter(|name| !name.is_empty()) {
        Some(name) if !name.trim_start_matches(':').starts_with('/') => {
            let name = name.trim_start_matches(':');
            TimeZone::posix(name).or_else(|_| TimeZone::get(name))
        }
        _ => TimeZone::try_system(),
    }
}

pub(super) fn kinds(list: &str) -> Result<Kinds, String> {
    let mut kinds = Kinds { files: false, folders: false, links: false, specials: false };
    for word in list.split(',') {
        match word.trim() {
            "file" => kinds.files = true,
            "folder" => kinds.folders = true,
            "symlink" => kinds.links = true,
            "special" => kinds.specials = true,
            other => {
                return Err(format!(
                    "'{other}' is not a kind of entry; the kinds are file, folder, symlink, special"
                ));
            }
        }
    }
    Ok(kinds)
}

pub(super) fn steps(list: &str) -> Result<Verbs, UnknownVerb> {
    Verbs::parse(list)
}

pub(super) fn percent(text: &str) -> Result<f64, String> {
    let wrong = || "a percentage above 0, like 5% or 0.1%".to_owned();
    let number = text.strip_suffix('%').ok_or_else(wrong)?;
    let number: f64 = number.trim().parse().map_err(|_| wrong())?;
    Some(number).filter(|number| *number > 0.0 && *number <= 100.0).ok_or_else(wrong)
}

/// Fails for a pattern that is an absolute path of the system: one that begins with the source's own path, or with
/// a name at the top of the system that the source does not have.
pub(super) fn refuse_outside(pattern: &str, sources: &[PathBuf]) -> Result<(), String> {
    let body = pattern.strip_prefix('!').unwrap_or(pattern).trim_end();
    let Some(first) = body.strip_prefix('/').and_then(|path| path.split('/').next()) else {
        return Ok(());
    };
    let is_in_a_source = sources.iter().any(|source| {
        let is_file = !source.is_dir();
        is_file || source.join(first).symlink_metadata().is_ok()
    });
    let holds_more = body[1..].contains('/');
    if is_in_a_source || !holds_more || !Path::new("/").join(first).exists() {
        return Ok(());
    }
    let hint = sources.iter().find_map(|source| {
        let full = source.canonicalize().ok()?;
        let rest = body.strip_prefix(full.to_str()?)?;
        rest.starts_with('/').then(|| format!("\n  within '{}' that is '{rest}'", source.display()))
    });
    Err(format!(
        "pattern '{pattern}' is a path from the top of the system and cannot match anything: \
         patterns start at the source{}",
        hint.unwrap_or_default()
    ))
}

/// Fails if a pattern is the name of a file here and a source is a similar one: the shell expanded a pattern
/// without quotes.
pub(super) fn refuse_expanded(
    option: &str,
    patterns: &[String],
    sources: &[PathBuf],
) -> Result<(), String> {
    let is_file_here = |name: &Path| {
        let is_bare = name.components().count() == 1 && name.is_relative();
        is_bare && name.symlink_metadata().is_ok_and(|entry| !entry.is_dir())
    };
    for pattern in patterns.iter().map(Path::new).filter(|pattern| is_file_here(pattern)) {
        let alike =
            |source: &&PathBuf| is_file_here(source) && source.extension() == pattern.extension();
        if let Some(source) = sources.iter().find(alike) {
            let ending = pattern.extension().map(OsStr::to_string_lossy).unwrap_or_default();
            let ending = if ending.is_empty() { String::new() } else { format!(".{ending}") };
            return Err(format!(
                "{option} '{}' and the source '{}' look like file names that the shell put in place of a pattern\n  put the pattern in quotes: {option} '*{ending}'; if the file is a source, write './{}'",
                names::path(pattern),
                names::path(source),
                names::path(source),
            ));
        }
    }
    Ok(())
}

pub(super) fn carry(list: &str) -> Result<Attributes, UnknownAttribute> {
    Attributes::parse(list)
}

pub(super) fn waivable(name: &str) -> Result<Guard, String> {
    match Guard::ALL.into_iter().find(|guard| guard.name() == name) {
        Some(Guard::Overlap) => {
            Err("this guard cannot be switched off: a folder cannot be copied into itself".into())
        }
        Some(guard) => Ok(guard),
        None => {
            let waivable = Guard::ALL.into_iter().filter(|guard| *guard != Guard::Overlap);
            let names: Vec<_> = waivable.map(Guard::name).collect();
            Err(format!("the guards are {}", names.join(", ")))
        }
    }
}

pub(super) fn removal_limit(text: &str) -> Result<RemovalLimit, String> {
    let wrong = || "a number of entries like 500, or a part of the destination like 10%".to_owned();
    match text.strip_suffix('%') {
        Some(percent) => match percent.trim().parse::<f64>() {
            Ok(percent) if (0.0..=100.0).contains(&percent) => Ok(RemovalLimit::Percent(percent)),
            _ => Err(wrong()),
        },
        None => text.parse().map(RemovalLimit::Count).map_err(|_| wrong()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use utter_echo_core::plan::Verb;

    #[test]
    fn bytes_are_read_with_their_unit() {
        for (text, number) in [
            ("1", 1),
            ("500K", 500_000),
            ("1.5KiB", 1536),
            ("2MiB", 2 << 20),
            ("3gb", 3_000_000_000),
        ] {
            assert_eq!(bytes(text), Ok(number), "{text}");
        }
        for wrong in ["", "0", "-5", "fast", "5X", "1e300", "0.2", "NaN", "inf", "9999999T"] {
            assert!(bytes(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn durations_are_read_with_their_unit() {
        for (text, seconds) in [
            ("0s", 0.0),
            ("500ms", 0.5),
            ("2s", 2.0),
            ("1.5h", 5400.0),
            ("2h30m", 9000.0),
            ("7days", 604_800.0),
            ("2w", 1_209_600.0),
        ] {
            assert_eq!(duration(text), Ok(Duration::from_secs_f64(seconds)), "{text}");
        }
        let year = duration("1y").unwrap().as_secs() / 86_400;
        assert!((365..=366).contains(&year), "{year}");
        for wrong in
            ["", "2", "-1s", "2s ago", "soon", "1e300w", "NaNs", "infs", "99999999w", "200y"]
        {
            assert!(duration(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn spans_are_open_at_either_end_and_the_right_way_round() {
        assert_eq!(sizes("1M.."), Ok(Span { from: Some(1_000_000), to: None }));
        assert_eq!(sizes("0..2KiB"), Ok(Span { from: Some(0), to: Some(2048) }));
        let days = |n: u64| Duration::from_secs(n * 86_400);
        assert_eq!(ages("1d..1w"), Ok(Span { from: Some(days(1)), to: Some(days(7)) }));
        for wrong in ["", "..", "1M", "2M..1M", "1M..x", "1M...2M", "1e30..", "-1.."] {
            assert!(sizes(wrong).is_err(), "{wrong}");
        }
        let now = Time { secs: 1000, nanos: 5 };
        let half = Duration::from_millis(500);
        let times = times_of_age(Span { from: Some(half), to: Some(Duration::from_secs(10)) }, now);
        assert_eq!(times.from, Some(Time { secs: 990, nanos: 5 }));
        assert_eq!(times.to, Some(Time { secs: 999, nanos: 500_000_005 }));
    }

    #[test]
    fn days_count_to_their_end_and_must_exist() {
        let span = dates("2026-02-28..2026-02-28").unwrap();
        let (from, to) = (span.from.unwrap(), span.to.unwrap());
        assert_eq!((to.secs - from.secs, to.nanos), (86_399, 999_999_999));
        let minute = dates("2026-02-28T14:00..2026-02-28T14:00").unwrap();
        assert_eq!(minute.to.unwrap().secs - minute.from.unwrap().secs, 59);
        assert_eq!(dates("..1969-12-31").unwrap().from, None);
        let begin = |text: &str| dates(&format!("{text}..")).unwrap().from.unwrap().secs;
        for (text, seconds) in [
            ("1970-01-01T00:00Z", 0),
            ("1970-01-01T02:30+02:30", 0),
            ("1970-01-01 00:00:07-01", 3607),
            ("1970-01-01T03Z", 10_800),
        ] {
            assert_eq!(begin(text), seconds, "{text}");
        }
        let hour = dates("..1970-01-01T03Z").unwrap().to.unwrap();
        assert_eq!(hour.secs, 4 * 3600 - 1);
        let wrong = [
            "2026-02-29..",
            "2026-13-01..",
            "..2026-01-31T25:00",
            "31.1.2026..",
            "99999-01-01..",
            "2026-01-31T..",
            "2026-01-31T10+99..",
            "2026-01-31TZ..",
        ];
        for wrong in wrong {
            assert!(dates(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn lists_and_parts_report_unknown_words() {
        assert!(kinds("file,symlink").unwrap().links && !kinds("file,symlink").unwrap().folders);
        assert!(kinds("file,disk").unwrap_err().contains("'disk'"));
        assert!(steps("add, replace").unwrap().has(Verb::Replace));
        assert!(!steps("add").unwrap().has(Verb::Remove) && steps("").is_err());
        assert_eq!(percent("0.5%"), Ok(0.5));
        for wrong in ["5", "0%", "101%", "NaN%", "%"] {
            assert!(percent(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn paths_from_the_top_of_the_system_are_no_patterns() {
        let source = tempfile::tempdir().unwrap();
        std::fs::create_dir(source.path().join("etc")).unwrap();
        let sources = [source.path().to_path_buf()];
        assert!(refuse_outside("/etc/fog.conf", &sources).is_ok(), "the source has such a folder");
        assert!(refuse_outside("/nowhere/at/all", &sources).is_ok());
        assert!(
            refuse_outside("usr/lib", &sources).is_ok() && refuse_outside("/usr", &sources).is_ok()
        );
        assert!(refuse_outside("/usr/lib", &sources).is_err());
        let own = format!("{}/etc/fog.conf", source.path().display());
        let told = refuse_outside(&own, &sources).unwrap_err();
        assert!(told.ends_with("that is '/etc/fog.conf'"), "{told}");
    }

    #[test]
    fn runs_are_kept_by_number_or_for_a_time() {
        assert_eq!(keep("10"), Ok(KeepRuns::Newest(10)));
        assert_eq!(keep("30d"), Ok(KeepRuns::For(Duration::from_secs(30 * 86_400))));
        for wrong in ["", "0", "-1", "many", "99999999999999999999", "3 lights"] {
            assert!(keep(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn a_removal_limit_is_a_count_or_a_part() {
        assert_eq!(removal_limit("0"), Ok(RemovalLimit::Count(0)));
        assert_eq!(removal_limit("12.5%"), Ok(RemovalLimit::Percent(12.5)));
        for wrong in ["", "%", "-1", "101%", "ten", "99999999999999999999", "NaN%"] {
            assert!(removal_limit(wrong).is_err(), "{wrong}");
        }
    }
}
