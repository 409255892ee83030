//! The command for a scheduler.

use std::ffi::{OsStr, OsString};
use std::fmt::Write as _;
use std::os::unix::ffi::OsStrExt as _;

use crate::terminal::shell::quoted;

/// The command of a job.
#[derive(Clone, Debug)]
pub(crate) struct CommandLine {
    pub(crate) words: Vec<OsString>,
    /// Variables that it needs, besides those of every scheduler.
    pub(crate) environment: Vec<(String, OsString)>,
}

impl CommandLine {
    /// In the form of `ExecStart`.
    pub(super) fn for_a_unit(&self) -> String {
        let words = self.words.iter().map(|word| for_a_unit(word).replace('$', "$$"));
        words.collect::<Vec<_>>().join(" ")
    }

    /// In the form of `Environment`.
    pub(super) fn environment_of_a_unit(&self) -> Vec<String> {
        let all = self.environment.iter().map(|(name, value)| {
            let mut both = OsString::from(format!("{name}="));
            both.push(value);
            for_a_unit(&both)
        });
        all.collect()
    }

    /// In the form of a line for cron.
    pub(super) fn for_cron(&self) -> String {
        let variables =
            self.environment.iter().map(|(name, value)| format!("{name}={}", quoted(value)));
        let nice = ["nice".to_owned(), "-n".to_owned(), "19".to_owned()];
        let words = self.words.iter().map(|word| quoted(word));
        let line: Vec<String> = variables.chain(nice).chain(words).collect();
        // A bare `%` ends the command in cron.
        line.join(" ").replace('%', "\\%")
    }
}

/// A quoted word for a unit, where `%`, `\` and `"` are special.
fn for_a_unit(word: &OsStr) -> String {
    let mut quoted = String::from("\"");
    for chunk in word.as_bytes().utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '%' => quoted.push_str("%%"),
                '\\' | '"' => {
                    quoted.push('\\');
                    quoted.push(c);
                }
                // Writing to a String cannot fail.
                c if c.is_ascii_control() => _ = write!(quoted, "\\x{:02x}", c as u32),
                c => quoted.push(c),
            }
        }
        for byte in chunk.invalid() {
            _ = write!(quoted, "\\x{byte:02x}");
        }
    }
    quoted + "\""
}
