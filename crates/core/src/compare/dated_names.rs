//! Dated names for entries whose name is taken.

use jiff::Timestamp;
use utter_echo_os::Time;

/// The most names that are tried for one entry.
const TRIED: usize = 100;

/// Names with the UTC date of the last change, then with the time, then with a number, before the extension.
pub(super) fn names(name: &[u8], modified: Time) -> impl Iterator<Item = Vec<u8>> {
    let (stem, ending) = split(name);
    let (stem, ending) = (stem.to_vec(), ending.to_vec());
    let changed = Timestamp::from_second(modified.secs).unwrap_or(Timestamp::UNIX_EPOCH);
    let date = changed.strftime("%Y-%m-%d").to_string();
    let time = changed.strftime("%Y-%m-%d %H-%M-%S").to_string();
    let numbered = {
        let time = time.clone();
        (2..TRIED).map(move |number| format!("{time} {number}"))
    };
    let added = [date, time].into_iter().chain(numbered);
    added.map(move |added| [&*stem, b" ", added.as_bytes(), &*ending].concat())
}

/// Splits at the last dot that has something on both sides.
fn split(name: &[u8]) -> (&[u8], &[u8]) {
    let dot = name.iter().rposition(|b| *b == b'.');
    let at = dot.filter(|at| *at > 0 && at + 1 < name.len()).unwrap_or(name.len());
    name.split_at(at)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_beside_another_has_the_date_before_the_ending() {
        let named = |name: &str| {
            let names = names(name.as_bytes(), Time { secs: 1_000_000_000, nanos: 0 });
            let names = names.take(3).map(|name| String::from_utf8(name).unwrap());
            names.collect::<Vec<_>>()
        };
        let expected = [
            "tide 2001-09-09.csv",
            "tide 2001-09-09 01-46-40.csv",
            "tide 2001-09-09 01-46-40 2.csv",
        ];
        assert_eq!(named("tide.csv"), expected);
        assert_eq!(named(".keeper")[0], ".keeper 2001-09-09");
        assert_eq!(named("lens.")[0], "lens. 2001-09-09");
        assert_eq!(named("a.tar.gz")[0], "a.tar 2001-09-09.gz");
    }
}
