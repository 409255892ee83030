//! The hours in which a run may work.

use jiff::civil::Time;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _};

use crate::exit::OutOfHours;

/// From one time of day to another, in local time; over midnight if the second is earlier.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Hours {
    from: Time,
    to: Time,
}

impl Hours {
    pub(crate) fn read(text: &str) -> Result<Self, String> {
        let wrong = || "two times of the day, like 22:00..06:00".to_owned();
        let (from, to) = text.split_once("..").ok_or_else(wrong)?;
        let time = |text: &str| Time::strptime("%H:%M", text.trim()).map_err(|_| wrong());
        let (from, to) = (time(from)?, time(to)?);
        if from == to {
            Err(format!("{}; they must differ", wrong()))
        } else {
            Ok(Self { from, to })
        }
    }

    /// The end of the present hours.
    pub(crate) fn end(&self, now: Timestamp) -> Result<Timestamp, OutOfHours> {
        let Self { from, to } = *self;
        let now = now.to_zoned(TimeZone::system());
        let time = now.time();
        let goes_on = if from < to { from <= time && time < to } else { from <= time || time < to };
        let date = if to > time { now.date() } else { now.date().saturating_add(1.day()) };
        let end = date.to_datetime(to).to_zoned(now.time_zone().clone()).ok().filter(|_| goes_on);
        let shown = |time: Time| time.strftime("%H:%M").to_string();
        end.map(|end| end.timestamp()).ok_or_else(|| OutOfHours(shown(from), shown(to)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hours_can_go_over_midnight() {
        let at = |time: &str| -> Timestamp {
            format!("2026-11-26T{time}:00")
                .parse::<jiff::civil::DateTime>()
                .unwrap()
                .to_zoned(TimeZone::system())
                .unwrap()
                .timestamp()
        };
        let minutes = |hours: &str, time: &str| {
            let end = Hours::read(hours).unwrap().end(at(time)).ok()?;
            Some(end.duration_since(at(time)).as_mins())
        };
        for (hours, time, left) in [
            ("22:00..06:00", "22:00", Some(480)),
            ("22:00..06:00", "21:59", None),
            ("22:00..06:00", "05:59", Some(1)),
            ("22:00..06:00", "06:00", None),
            ("09:00..17:00", "09:00", Some(480)),
            ("09:00..17:00", "17:00", None),
            ("09:00..00:00", "23:00", Some(60)),
        ] {
            assert_eq!(minutes(hours, time), left, "{hours} at {time}");
        }
        for wrong in ["", "22:00", "22:00..22:00", "22..06", "22:00..24:30"] {
            assert!(Hours::read(wrong).is_err(), "{wrong}");
        }
    }
}
