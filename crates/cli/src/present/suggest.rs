//! The command that would make the destination the source's echo.

use std::env;
use std::ffi::OsString;

use utter_echo_core::plan::{Plan, Reason, Verb};
use utter_echo_core::request::{By, Request};

/// As it can be typed into a shell: the present call with another command, and what it needs to see
/// the same differences.
pub(super) fn command(plan: &Plan, request: &Request) -> String {
    let sees_extra = request.changed.steps.has(Verb::Remove);
    let mut words = vec!["utter".to_owned(), if sees_extra { "mirror" } else { "copy" }.to_owned()];
    let by_content =
        plan.steps().any(|placed| matches!(placed.step.reason, Reason::Content { .. }));
    if by_content && request.changed.by != By::Content {
        words.push("--by=content".to_owned());
    }
    let attributes = plan.totals.adjust.entries > 0;
    if attributes && !by_content && request.changed.by != By::Content {
        words.push("--all-aspects".to_owned());
    }
    words.extend(kept(env::args_os().skip(2)).iter().map(quoted));
    words.join(" ")
}

/// What was typed, without what only a verification knows.
fn kept(typed: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let (alone, with_value) =
        (["--ignore-extra", "--suggest"], ["--sample", "--limit", "--format", "--progress"]);
    let mut kept = Vec::new();
    let mut skips = false;
    for word in typed {
        if std::mem::take(&mut skips) {
            continue;
        }
        let text = word.to_string_lossy();
        let joined = with_value.iter().any(|option| text.starts_with(&format!("{option}=")));
        skips = with_value.contains(&&*text);
        if !skips && !joined && !alone.contains(&&*text) {
            kept.push(word);
        }
    }
    kept
}

/// A word as a shell reads it back.
fn quoted(word: &OsString) -> String {
    let plain = |byte: &u8| byte.is_ascii_alphanumeric() || b"-_./=,:+@%".contains(byte);
    let bytes = word.as_encoded_bytes();
    if !bytes.is_empty() && bytes.iter().all(plain) {
        return word.to_string_lossy().into_owned();
    }
    match word.to_str() {
        Some(text) if !text.contains(char::is_control) => {
            format!("'{}'", text.replace('\'', r"'\''"))
        }
        // Every shell of the day reads this form.
        _ => {
            let escaped = bytes.iter().map(|byte| match byte {
                b'\'' | b'\\' => format!("\\{}", char::from(*byte)),
                0x20..0x7f => char::from(*byte).to_string(),
                _ => format!("\\x{byte:02x}"),
            });
            format!("$'{}'", escaped.collect::<String>())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::ffi::OsStringExt as _;
    use std::process::Command;

    #[test]
    fn a_shell_reads_back_every_word() {
        let words: [&[u8]; 6] =
            [b"plain/path.csv", b"two words", b"it's", b"", b"new\nline 'x'\\", b"not \xff utf8"];
        for word in words {
            let word = OsString::from_vec(word.to_vec());
            let script = format!("printf %s {}", quoted(&word));
            let read = Command::new("bash").args(["-c", &script]).output().unwrap();
            assert_eq!(OsString::from_vec(read.stdout), word, "{script}");
        }
    }

    #[test]
    fn what_only_a_verification_knows_is_left_out() {
        let typed = ["--limit", "3", "--suggest", "--only", "*.csv", "a", "--format=csv", "b"];
        let left = kept(typed.iter().map(OsString::from));
        assert_eq!(left, ["--only", "*.csv", "a", "b"]);
    }
}
