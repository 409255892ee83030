//! Quoting for shells.

use std::ffi::OsStr;
use std::fmt::Write as _;
use std::os::unix::ffi::OsStrExt as _;

/// A word quoted for any POSIX shell, without control characters.
pub(crate) fn quoted(word: &OsStr) -> String {
    match word.to_str() {
        Some(text) if !text.contains(char::is_control) => {
            // Only a NUL cannot be quoted, and no argument holds one.
            shlex::try_quote(text).map(Into::into).unwrap_or_default()
        }
        _ => printed(word.as_bytes()),
    }
}

/// A word with control characters, or not UTF-8, as a `printf` substitution.
fn printed(word: &[u8]) -> String {
    // A substitution drops line ends at its end.
    let end = word.iter().rposition(|byte| *byte != b'\n').map_or(0, |last| last + 1);
    let mut format = String::new();
    for byte in &word[..end] {
        match byte {
            b'%' => format.push_str("%%"),
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'.' | b'-' | b'_' | b' ' | b'=' => {
                format.push(char::from(*byte));
            }
            // Writing to a String cannot fail.
            _ => _ = write!(format, "\\{byte:03o}"),
        }
    }
    // The format of `printf` must not begin like an option.
    let format = format.strip_prefix('-').map_or(format.clone(), |rest| format!("\\055{rest}"));
    let lines = String::from_utf8_lossy(&word[end..]).into_owned();
    format!("\"$(printf '{format}'){lines}\"")
}
