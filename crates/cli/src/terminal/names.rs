//! Names for people, with everything escaped that could affect a terminal.

use std::fmt::Write as _;
use std::path::Path;

/// A path as one line of harmless characters. Control characters, those that change the direction
/// of writing, bytes that are not UTF-8 and the backslash itself are written as `\n`, `\u{202e}`,
/// `\xff` and `\\`, so that no two names look alike. The root of a tree shows as `.`.
pub(crate) fn shown(path: &[u8]) -> String {
    if path.is_empty() {
        return ".".to_owned();
    }
    let mut text = String::with_capacity(path.len());
    for chunk in path.utf8_chunks() {
        for character in chunk.valid().chars() {
            match character {
                '\\' => text.push_str("\\\\"),
                c if c.is_control() || is_deceptive(c) => text.extend(c.escape_default()),
                c => text.push(c),
            }
        }
        for byte in chunk.invalid() {
            // Writing to a String cannot fail.
            let _ = write!(text, "\\x{byte:02x}");
        }
    }
    text
}

/// As [`shown`], of a path of the system.
pub(crate) fn path(path: &Path) -> String {
    shown(path.as_os_str().as_encoded_bytes())
}

/// A whole message; keeps its line ends. Errors of libraries may quote names that are not escaped yet.
pub(crate) fn harmless(message: &str) -> String {
    let mut text = String::with_capacity(message.len());
    for character in message.chars() {
        match character {
            '\n' => text.push('\n'),
            c if c.is_control() || is_deceptive(c) => text.extend(c.escape_default()),
            c => text.push(c),
        }
    }
    text
}

/// True for characters that change the direction of writing, have no width, break a line, or look like a slash.
fn is_deceptive(c: char) -> bool {
    matches!(
        c,
        '\u{200e}' | '\u{200f}' | '\u{061c}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}'
            | '\u{00ad}' | '\u{200b}'..='\u{200d}' | '\u{2060}' | '\u{feff}'
            | '\u{2028}' | '\u{2029}'
            | '\u{2044}' | '\u{2215}' | '\u{29f8}' | '\u{ff0f}'
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tricky_characters_are_escaped() {
        assert_eq!(shown("Leuchtturm/älter.csv".as_bytes()), "Leuchtturm/älter.csv");
        assert_eq!(shown(b"a\nb\x1b[2J\xff\\"), "a\\nb\\u{1b}[2J\\xff\\\\");
        assert_eq!(shown("txt\u{202e}exe".as_bytes()), "txt\\u{202e}exe");
        assert_eq!(shown(b""), ".");
        assert_eq!(shown("tide\u{200b}\u{2215}x".as_bytes()), "tide\\u{200b}\\u{2215}x");
        assert_eq!(harmless("'a\x1b[31m'\n  b\\n"), "'a\\u{1b}[31m'\n  b\\n");
    }
}
