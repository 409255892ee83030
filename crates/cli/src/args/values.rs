//! What an option takes, read from its text, with a word on what it should be.

use std::time::Duration;

use utter_echo_core::aspect::{Aspects, UnknownAspect};
use utter_echo_core::request::{Guard, RemovalLimit};

/// A number of bytes: K, M, G and T are powers of 1000, `KiB` and so on powers of 1024.
pub(super) fn bytes(text: &str) -> Result<u64, String> {
    let wrong = || "a number of bytes above 0, like 800000, 500K, 20M or 1.5GiB".to_owned();
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let number: f64 = digits.trim().parse().map_err(|_| wrong())?;
    let unit = match text[digits.len()..].to_ascii_lowercase().as_str() {
        "" | "b" => 1.0,
        "k" | "kb" => 1e3,
        "m" | "mb" => 1e6,
        "g" | "gb" => 1e9,
        "t" | "tb" => 1e12,
        "kib" => 1024.0,
        "mib" => f64::from(1 << 20),
        "gib" => f64::from(1 << 30),
        "tib" => 2_f64.powi(40),
        _ => return Err(wrong()),
    };
    let bytes = number * unit;
    // Far below where a float loses whole bytes; anything else is a slip.
    if !(1.0..=1e15).contains(&bytes) {
        return Err(wrong());
    }
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "checked above")]
    let whole = bytes as u64;
    Ok(whole)
}

/// A length of time: a number with ms, s, m, h, d or w.
pub(super) fn duration(text: &str) -> Result<Duration, String> {
    let wrong = || "a length of time like 2s, 30m, 1.5h, 5d or 2w".to_owned();
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let number: f64 = digits.trim().parse().map_err(|_| wrong())?;
    let unit = match &text[digits.len()..] {
        "ms" => 0.001,
        "s" => 1.0,
        "m" => 60.0,
        "h" => 3600.0,
        "d" => 86_400.0,
        "w" => 604_800.0,
        _ => return Err(wrong()),
    };
    // A century is a slip of the hand.
    let seconds = Some(number * unit).filter(|seconds| (0.0..=3.2e9).contains(seconds));
    seconds.map(Duration::from_secs_f64).ok_or_else(wrong)
}

/// Which runs to keep of those that set something aside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum KeepRuns {
    /// So many, the present one among them.
    Newest(usize),
    /// Those that began no longer ago than this.
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

pub(super) fn carry(list: &str) -> Result<Aspects, UnknownAspect> {
    Aspects::parse(list)
}

pub(super) fn waivable(name: &str) -> Result<Guard, String> {
    match Guard::ALL.into_iter().find(|guard| guard.name() == name) {
        Some(Guard::Overlap) => {
            Err("this guard cannot be waived: a tree cannot be its own echo".into())
        }
        Some(guard) => Ok(guard),
        None => Err("there are the guards empty-source, removals, space, busy and drive".into()),
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
        for (text, seconds) in [("0s", 0.0), ("2s", 2.0), ("1.5h", 5400.0), ("2w", 1_209_600.0)] {
            assert_eq!(duration(text), Ok(Duration::from_secs_f64(seconds)), "{text}");
        }
        for wrong in ["", "2", "-1s", "soon", "5y", "1e300w", "NaNs", "infs", "99999999w"] {
            assert!(duration(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn runs_are_kept_by_number_or_for_a_time() {
        assert_eq!(keep("10"), Ok(KeepRuns::Newest(10)));
        assert_eq!(keep("30d"), Ok(KeepRuns::For(Duration::from_secs(30 * 86_400))));
        for wrong in ["", "0", "-1", "many", "99999999999999999999", "3y"] {
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
