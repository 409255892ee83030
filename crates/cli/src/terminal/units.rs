//! Numbers with units, for people.

use std::time::Duration;

use bytesize::ByteSize;
use indicatif::HumanCount;

/// Bytes: exact below a KiB, then with one decimal.
pub(crate) fn bytes(bytes: u64) -> String {
    format!("{:.1}", ByteSize::b(bytes).display().iec())
}

/// Bytes per second, without decimals.
pub(crate) fn per_second(bytes: u64, took: Duration) -> u64 {
    let nanos = took.as_nanos().max(1);
    u64::try_from(u128::from(bytes) * 1_000_000_000 / nanos).unwrap_or(u64::MAX)
}

/// A number with its digits in groups of three.
pub(crate) fn count(number: u64) -> String {
    HumanCount(number).to_string()
}

/// "1 entry", "12 entries".
pub(crate) fn entries(number: u64) -> String {
    counted(number, "entry", "entries")
}

/// A number with the singular or plural.
pub(crate) fn counted(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", count(number), if number == 1 { one } else { many })
}

/// A span of time in its largest unit, precise enough to compare by.
pub(crate) fn span(span: Duration) -> String {
    const UNITS: [(u64, &str); 4] = [(365 * 86_400, "y"), (86_400, "d"), (3600, "h"), (60, "min")];
    let seconds = span.as_secs();
    for (length, unit) in UNITS {
        if seconds >= 2 * length {
            return format!("{} {unit}", seconds / length);
        }
    }
    let milliseconds = span.as_millis();
    match (seconds, milliseconds) {
        (1.., _) if span.subsec_nanos() == 0 => format!("{seconds} s"),
        (1.., _) => format!("{:.1} s", span.as_secs_f64()),
        (0, 1..) => format!("{milliseconds} ms"),
        (0, 0) => format!("{} ns", span.as_nanos()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_keep_three_figures_or_are_exact() {
        let table = [
            (0, "0 B"),
            (1023, "1023 B"),
            (1024, "1.0 KiB"),
            (1536, "1.5 KiB"),
            (5 * 1024 * 1024 / 2, "2.5 MiB"),
            (u64::MAX, "16.0 EiB"),
        ];
        for (number, text) in table {
            assert_eq!(bytes(number), text);
        }
    }

    #[test]
    fn counts_and_spans_read_well() {
        assert_eq!(
            [count(0), count(999), count(1000), count(1_234_567)],
            ["0", "999", "1,000", "1,234,567"]
        );
        assert_eq!(entries(1), "1 entry");
        assert_eq!(per_second(300, Duration::from_millis(1500)), 200);
        assert_eq!(per_second(1, Duration::ZERO), 1_000_000_000);
        let table = [
            (0.0, "0 ns"),
            (0.004, "4 ms"),
            (1.5, "1.5 s"),
            (90.0, "90 s"),
            (150.0, "2 min"),
            (86_400.0 * 3.0, "3 d"),
        ];
        for (seconds, text) in table {
            assert_eq!(span(Duration::from_secs_f64(seconds)), text);
        }
    }
}
