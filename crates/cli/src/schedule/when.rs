//! When a job starts: our own syntax, and that of the system's schedulers.
//!
//! All times are local. One that a clock change skips moves by the change, and one that comes twice counts the
//! first time.

use std::fmt;

use jiff::civil::{Date, DateTime, Time, Weekday};
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{Timestamp, ToSpan as _, Zoned};

/// When a job starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum When {
    /// On these days of the week, at this time.
    On(Vec<Weekday>, Time),
    /// On this day of every month.
    Monthly(i8, Time),
    /// Every so many minutes from midnight on; a divisor of a day.
    Every(i32),
    /// When the drive of its destination is mounted.
    Mounted,
}

const DAYS: [Weekday; 7] = [
    Weekday::Monday,
    Weekday::Tuesday,
    Weekday::Wednesday,
    Weekday::Thursday,
    Weekday::Friday,
    Weekday::Saturday,
    Weekday::Sunday,
];

/// The words, in the order of [`DAYS`].
const NAMES: [&str; 7] =
    ["mondays", "tuesdays", "wednesdays", "thursdays", "fridays", "saturdays", "sundays"];

const FORMS: &str = "'daily 02:30', 'weekdays 18:00', 'mondays 06:00', 'mondays,fridays 06:00', \
                     'hourly', 'every 15 minutes', 'every 6 hours', 'monthly 1 03:00' or 'when mounted'";

/// The error for an unknown time.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("{0}\n  it is one of {FORMS}")]
pub(crate) struct NoTime(String);

impl std::str::FromStr for When {
    type Err = NoTime;

    fn from_str(text: &str) -> Result<Self, NoTime> {
        let no_time = |why: &str| NoTime(format!("'{text}' {why}"));
        let lower = text.to_lowercase();
        let words: Vec<&str> = lower.split_whitespace().collect();
        let time = |text: &str| clock(text).ok_or_else(|| no_time("has no time like 02:30 in it"));
        match *words.as_slice() {
            ["when", "mounted"] => Ok(Self::Mounted),
            ["hourly"] => Ok(Self::Every(60)),
            ["daily", at] => Ok(Self::On(DAYS.to_vec(), time(at)?)),
            ["weekdays", at] => Ok(Self::On(DAYS[..5].to_vec(), time(at)?)),
            ["weekends", at] => Ok(Self::On(DAYS[5..].to_vec(), time(at)?)),
            ["monthly", day, at] => match day.parse() {
                Ok(day @ 1..=28) => Ok(Self::Monthly(day, time(at)?)),
                Ok(29..=31) => Err(no_time("has a day that not every month has")),
                _ => Err(no_time("has no day of a month")),
            },
            ["every", count, unit] => {
                let count: i32 = count.parse().map_err(|_| no_time("has no number in it"))?;
                let (minutes, all, what) = match unit.trim_end_matches('s') {
                    "minute" => (count, 60, "an hour"),
                    "hour" => (count.saturating_mul(60), 24 * 60, "a day"),
                    _ => return Err(no_time("has neither minutes nor hours")),
                };
                match minutes {
                    1.. if all % minutes == 0 => Ok(Self::Every(minutes)),
                    _ => Err(no_time(&format!("does not divide {what} evenly"))),
                }
            }
            [days, at] => {
                let day = |name: &str| {
                    let found = NAMES.iter().position(|known| *known == name);
                    found.map(|at| DAYS[at]).ok_or_else(|| no_time("is not a start time"))
                };
                let mut days = days.split(',').map(day).collect::<Result<Vec<_>, _>>()?;
                days.sort_by_key(|day| day.to_monday_zero_offset());
                days.dedup();
                Ok(Self::On(days, time(at)?))
            }
            _ => Err(no_time("is not a start time")),
        }
    }
}

/// In the syntax of the job file.
impl fmt::Display for When {
    fn fmt(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
        let at = |time: &Time| format!("{:02}:{:02}", time.hour(), time.minute());
        match self {
            Self::On(days, time) if *days == DAYS => write!(to, "daily {}", at(time)),
            Self::On(days, time) if *days == DAYS[..5] => write!(to, "weekdays {}", at(time)),
            Self::On(days, time) if *days == DAYS[5..] => write!(to, "weekends {}", at(time)),
            Self::On(days, time) => {
                let names = days.iter().map(|day| NAMES[position(*day)]);
                write!(to, "{} {}", names.collect::<Vec<_>>().join(","), at(time))
            }
            Self::Monthly(day, time) => write!(to, "monthly {day} {}", at(time)),
            Self::Every(60) => to.write_str("hourly"),
            Self::Every(minutes) if minutes % 60 == 0 => write!(to, "every {} hours", minutes / 60),
            Self::Every(minutes) => write!(to, "every {minutes} minutes"),
            Self::Mounted => to.write_str("when mounted"),
        }
    }
}

fn position(day: Weekday) -> usize {
    DAYS.iter().position(|known| *known == day).unwrap_or_default()
}

fn clock(text: &str) -> Option<Time> {
    let (hour, minute) = text.split_once(':')?;
    let is_number =
        |text: &str| (1..=2).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_digit());
    if !is_number(hour) || minute.len() != 2 || !is_number(minute) {
        return None;
    }
    Time::new(hour.parse().ok()?, minute.parse().ok()?, 0, 0).ok()
}

impl When {
    /// The times of the starts of a day, in order.
    fn on(&self, date: Date) -> Vec<DateTime> {
        match self {
            Self::On(days, time) => days
                .contains(&date.weekday())
                .then(|| date.to_datetime(*time))
                .into_iter()
                .collect(),
            Self::Monthly(day, time) => {
                (date.day() == *day).then(|| date.to_datetime(*time)).into_iter().collect()
            }
            Self::Every(minutes) => {
                let midnight = date.to_datetime(Time::midnight());
                (0..24 * 60 / minutes).map(|at| midnight + (at * minutes).minutes()).collect()
            }
            Self::Mounted => Vec::new(),
        }
    }

    /// The starts after a time, up to the end of the calendar.
    pub(crate) fn after(&self, now: &Zoned) -> impl Iterator<Item = Zoned> {
        let (zone, mut last) = (now.time_zone().clone(), now.timestamp());
        // A moved start may fall on the next day.
        let days = now.date().yesterday().into_iter().flat_map(|from| from.series(1.day()));
        let days = days.take(if *self == Self::Mounted { 0 } else { usize::MAX });
        days.flat_map(|date| self.on(date)).filter_map(move |shown| {
            let start = shown.to_zoned(zone.clone()).ok()?;
            let is_later = start.timestamp() > last;
            last = last.max(start.timestamp());
            is_later.then_some(start)
        })
    }

    /// The last start up to a time.
    pub(crate) fn before(&self, now: &Zoned) -> Option<Zoned> {
        if *self == Self::Mounted {
            return None;
        }
        // Starts are at most a month apart.
        let days = (0..63).filter_map(|back| now.date().checked_sub(i64::from(back).days()).ok());
        let starts = days.flat_map(|date| self.on(date).into_iter().rev());
        let mut starts = starts.filter_map(|shown| shown.to_zoned(now.time_zone().clone()).ok());
        starts.find(|start| start <= now)
    }

    /// As lines of a systemd timer: one for all starts, and one for each start of the next ten years that a clock
    /// change would skip.
    pub(crate) fn calendar(&self, now: &Zoned) -> Vec<String> {
        let at = |time: &Time| format!("{:02}:{:02}:00", time.hour(), time.minute());
        let all = match self {
            Self::On(days, time) if days.len() == 7 => format!("*-*-* {}", at(time)),
            Self::On(days, time) => {
                let days = days
                    .iter()
                    .map(|day| ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"][position(*day)]);
                format!("{} *-*-* {}", days.collect::<Vec<_>>().join(","), at(time))
            }
            Self::Monthly(day, time) => format!("*-*-{day:02} {}", at(time)),
            Self::Every(minutes) if minutes % 60 == 0 => format!("*-*-* 00/{}:00:00", minutes / 60),
            Self::Every(minutes) => format!("*-*-* *:00/{minutes}:00"),
            Self::Mounted => return Vec::new(),
        };
        let passed_over = self.passed_over(now);
        let once =
            passed_over.into_iter().map(|start| start.strftime("%Y-%m-%d %H:%M:%S").to_string());
        [all].into_iter().chain(once).collect()
    }

    /// Starts of the next ten years that a clock change skips, at their moved times.
    fn passed_over(&self, now: &Zoned) -> Vec<Zoned> {
        // More frequent starts need none.
        if matches!(self, Self::Every(_)) {
            return Vec::new();
        }
        let end: Timestamp =
            now.checked_add(10.years()).map_or(Timestamp::MAX, |end| end.timestamp());
        let zone = now.time_zone();
        let changes = zone.following(now.timestamp()).map(|change| change.timestamp());
        let days = changes
            .take_while(|change| *change < end)
            .map(|change| change.to_zoned(zone.clone()).date());
        let starts = days.flat_map(|date| self.on(date));
        let is_gap = |shown: &DateTime| {
            matches!(zone.to_ambiguous_timestamp(*shown).offset(), AmbiguousOffset::Gap { .. })
        };
        starts.filter(is_gap).filter_map(|shown| shown.to_zoned(zone.clone()).ok()).collect()
    }

    /// As the first five fields of a line for cron; `None` for what cron cannot express.
    pub(crate) fn cron(&self) -> Option<String> {
        Some(match self {
            Self::On(days, time) => {
                let days = if days.len() == 7 {
                    "*".to_owned()
                } else {
                    let days = days.iter().map(|day| day.to_sunday_zero_offset().to_string());
                    days.collect::<Vec<_>>().join(",")
                };
                format!("{} {} * * {days}", time.minute(), time.hour())
            }
            Self::Monthly(day, time) => format!("{} {} {day} * *", time.minute(), time.hour()),
            Self::Every(60) => "0 * * * *".to_owned(),
            Self::Every(minutes) if minutes % 60 == 0 => format!("0 */{} * * *", minutes / 60),
            Self::Every(minutes) => format!("*/{minutes} * * * *"),
            Self::Mounted => return None,
        })
    }

    /// Notes on the next starts: those that a clock change moves or repeats.
    pub(crate) fn clock_changes(&self, now: &Zoned) -> Vec<(Zoned, bool)> {
        if matches!(self, Self::Every(_) | Self::Mounted) {
            return Vec::new();
        }
        let zone: &TimeZone = now.time_zone();
        let changes = zone.following(now.timestamp()).take(2).map(|change| change.timestamp());
        let days = changes.map(|change| change.to_zoned(zone.clone()).date());
        let starts = days.flat_map(|date| self.on(date));
        let ambiguous = starts.filter_map(|shown| {
            let is_gap = match zone.to_ambiguous_timestamp(shown).offset() {
                AmbiguousOffset::Gap { .. } => true,
                AmbiguousOffset::Fold { .. } => false,
                AmbiguousOffset::Unambiguous { .. } => return None,
            };
            Some((shown.to_zoned(zone.clone()).ok()?, is_gap))
        });
        ambiguous.collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn when(text: &str) -> When {
        text.parse().unwrap()
    }

    fn any_when() -> impl Strategy<Value = When> {
        let time = || (0..24_i8, 0..60_i8).prop_map(|(h, m)| Time::new(h, m, 0, 0).unwrap());
        let days = proptest::collection::btree_set(0..7_usize, 1..=7);
        let days = days.prop_map(|days| days.into_iter().map(|day| DAYS[day]).collect());
        prop_oneof![
            (days, time()).prop_map(|(days, time)| When::On(days, time)),
            (1..=28_i8, time()).prop_map(|(day, time)| When::Monthly(day, time)),
            proptest::sample::select(vec![1, 5, 15, 30, 60, 120, 360, 720]).prop_map(When::Every),
        ]
    }

    fn any_now() -> impl Strategy<Value = Zoned> {
        let zones =
            ["UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata"];
        (1_700_000_000..1_900_000_000_i64, proptest::sample::select(zones.to_vec())).prop_map(
            |(secs, zone)| {
                Timestamp::from_second(secs).unwrap().to_zoned(TimeZone::get(zone).unwrap())
            },
        )
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_as_the_same(when in any_when()) {
            prop_assert_eq!(&when, &when.to_string().parse().unwrap());
        }

        #[test]
        fn no_start_lies_between_the_last_and_the_next(when in any_when(), now in any_now()) {
            let next = when.after(&now).next().unwrap();
            let last = when.before(&now).unwrap();
            prop_assert!(last <= now && now < next);
            // Seen from the last start, the next is the same.
            prop_assert_eq!(when.after(&last).next().unwrap(), next.clone());
            prop_assert_eq!(when.before(&next).unwrap(), next);
        }
    }

    #[test]
    fn a_skipped_time_starts_later_and_a_repeated_time_starts_once() {
        let zone = TimeZone::get("Europe/Berlin").unwrap();
        let from = |date: &str| date.parse::<Date>().unwrap().to_zoned(zone.clone()).unwrap();
        let starts = |date: &str| -> Vec<String> {
            when("daily 02:30").after(&from(date)).take(3).map(|start| start.to_string()).collect()
        };
        assert_eq!(
            starts("2027-03-27"),
            [
                "2027-03-27T02:30:00+01:00[Europe/Berlin]",
                "2027-03-28T03:30:00+02:00[Europe/Berlin]",
                "2027-03-29T02:30:00+02:00[Europe/Berlin]"
            ]
        );
        assert_eq!(
            starts("2026-10-24"),
            [
                "2026-10-24T02:30:00+02:00[Europe/Berlin]",
                "2026-10-25T02:30:00+02:00[Europe/Berlin]",
                "2026-10-26T02:30:00+01:00[Europe/Berlin]"
            ]
        );
        let calendar = when("sundays 02:30").calendar(&from("2026-11-26"));
        assert_eq!(calendar[..2], ["Sun *-*-* 02:30:00", "2027-03-28 03:30:00"]);
        assert_eq!(when("mondays 02:30").calendar(&from("2026-11-26")).len(), 1);
    }

    #[test]
    fn a_wrong_start_time_is_answered_with_the_forms() {
        for wrong in [
            "",
            "daily",
            "daily 25:00",
            "daily 2:3",
            "dayly 02:30",
            "every 7 minutes",
            "every 0 hours",
            "every 5 hours",
            "monthly 31 02:30",
            "monthly x 02:30",
            "mondays,x 02:30",
            "when",
            "02:30",
        ] {
            let error = wrong.parse::<When>().unwrap_err().to_string();
            assert!(error.contains("'daily 02:30'"), "{wrong}: {error}");
        }
        assert_eq!(when("Fridays,mondays 6:00").to_string(), "mondays,fridays 06:00");
    }
}
