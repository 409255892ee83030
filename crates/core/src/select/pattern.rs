//! Patterns in the syntax of gitignore files: checked, matched, and known by where they stand.

use std::ffi::OsStr;
use std::fmt;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use ignore::Match;
use ignore::gitignore::{Gitignore, GitignoreBuilder};

/// Where a pattern was given.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// With this option.
    Option(&'static str),
    /// In this file, on this line, counted from 1.
    Line(String, usize),
    /// It comes with the program, under this option.
    BuiltIn(&'static str),
}

/// A pattern with its origin.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Given {
    pub(crate) text: String,
    pub(crate) origin: Origin,
}

impl fmt::Display for Given {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.origin {
            Origin::Option(option) | Origin::BuiltIn(option) => {
                write!(f, "{option} '{}'", self.text)
            }
            Origin::Line(file, line) => write!(f, "{file}:{line} '{}'", self.text),
        }
    }
}

/// A pattern that cannot be read, or that can match nothing.
#[derive(Debug, thiserror::Error)]
#[error("{}: {cause}{}", .given, place(.given, *.at))]
pub struct BadPattern {
    given: Given,
    cause: String,
    at: Option<usize>,
}

/// The line once more, with a mark below what is wrong.
fn place(given: &Given, at: Option<usize>) -> String {
    let Some(at) = at else { return String::new() };
    let column = given.text[..at].chars().count() + 1;
    let told = match given.origin {
        Origin::Line(..) => format!(" (column {column})"),
        _ => String::new(),
    };
    format!("{told}\n    {}\n    {:>column$}", given.text, '^')
}

/// Patterns of which the last that fits decides.
#[derive(Debug)]
pub(crate) struct Patterns {
    pub(crate) given: Vec<Given>,
    matcher: Gitignore,
}

impl Patterns {
    /// None at all.
    pub(crate) fn none() -> Self {
        Self { given: Vec::new(), matcher: Gitignore::empty() }
    }

    pub(crate) fn new(given: Vec<Given>, any_case: bool) -> Result<Self, BadPattern> {
        let mut builder = GitignoreBuilder::new("");
        let bad = |given: &Given, cause: &str, at| BadPattern {
            given: given.clone(),
            cause: cause.to_owned(),
            at,
        };
        // Cannot fail: it only turns a switch.
        let _ = builder.case_insensitive(any_case);
        for (number, pattern) in given.iter().enumerate() {
            check(&pattern.text).map_err(|(cause, at)| bad(pattern, cause, at))?;
            // What it keeps as the file a pattern stands in is our number of it.
            let number = PathBuf::from(number.to_string());
            builder.add_line(Some(number), &within_names(&pattern.text)).map_err(|e| {
                let (cause, at) = explain(&pattern.text, &e);
                bad(pattern, &cause, at)
            })?;
        }
        let matcher = builder.build().map_err(|e| {
            let all = given.iter().map(|given| given.text.as_str()).collect::<Vec<_>>();
            let text = all.join("' '");
            let origin = given.first().map_or(Origin::Option(""), |given| given.origin.clone());
            bad(&Given { text, origin }, &e.to_string(), None)
        })?;
        Ok(Self { given, matcher })
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.given.is_empty()
    }

    /// The pattern that decides about a path, and whether it takes it back with `!`.
    pub(crate) fn decides(&self, path: &[u8], folder: bool) -> Option<(usize, bool)> {
        if self.is_empty() {
            return None;
        }
        let path = Path::new(OsStr::from_bytes(path));
        let (glob, takes_back) = match self.matcher.matched(path, folder) {
            Match::None => return None,
            Match::Ignore(glob) => (glob, false),
            Match::Whitelist(glob) => (glob, true),
        };
        let number = glob.from().and_then(Path::to_str).and_then(|number| number.parse().ok());
        number.map(|number| (number, takes_back))
    }
}

/// What can be told of a pattern without the crate that reads it.
fn check(pattern: &str) -> Result<(), (&'static str, Option<usize>)> {
    if pattern.trim().is_empty() || pattern.starts_with('#') {
        return Err((
            "this pattern matches nothing (write \\# for a name that begins with #)",
            None,
        ));
    }
    let body = pattern.strip_prefix('!').unwrap_or(pattern);
    if body.trim_matches('/').is_empty() {
        return Err(("this pattern names no entry; to take everything leave it out", None));
    }
    let begins = pattern.len() - body.len();
    if let Some(at) = body.find("//") {
        return Err(("no entry's path holds '//'", Some(begins + at)));
    }
    let mut at = begins;
    for part in body.split('/') {
        if part == ".." || part == "." {
            let hint = "no entry's path holds '.' or '..'; patterns are relative to the source";
            return Err((hint, Some(at)));
        }
        at += part.len() + 1;
    }
    if let Some(at) = slash_in_class(pattern) {
        return Err(("no name holds a '/', so it means nothing between '[' and ']'", Some(at)));
    }
    // The crate lets an unclosed class stand for itself; a typing error is likelier.
    match unclosed_class(pattern) {
        Some(at) => {
            Err(("'[' is not closed by a ']' (write \\[ for the character itself)", Some(at)))
        }
        None => Ok(()),
    }
}

fn slash_in_class(pattern: &str) -> Option<usize> {
    let mut at = 0;
    while at < pattern.len() {
        match pattern.as_bytes()[at] {
            b'\\' => at += 2,
            b'[' => {
                let length = class_length(&pattern[at..])?;
                if let Some(slash) = pattern[at..at + length].find('/') {
                    return Some(at + slash);
                }
                at += length;
            }
            _ => at += 1,
        }
    }
    None
}

/// The pattern with classes that cannot match a slash, as the syntax has it and the crate does not.
fn within_names(pattern: &str) -> String {
    let mut text = String::new();
    let mut rest = pattern;
    while let Some(at) = rest.find(['\\', '[']) {
        let (before, special) = rest.split_at(at);
        text.push_str(before);
        // Checked to be closed.
        let length = match class_length(special) {
            Some(length) if special.starts_with('[') => length,
            _ => 1 + special.chars().nth(1).map_or(0, char::len_utf8),
        };
        let (here, after) = special.split_at(length);
        match here.strip_suffix(']').filter(|_| here.starts_with('[')) {
            Some(class) if class[1..].starts_with(['!', '^']) => {
                text.push_str(class);
                text.push_str("/]");
            }
            Some(class) => {
                text.push_str(&without_slash(class));
                text.push(']');
            }
            None => text.push_str(here),
        }
        rest = after;
    }
    text.push_str(rest);
    // To the crate the slash that a class leaves out now ties the pattern to the top.
    let body = text.strip_prefix('!').unwrap_or(&text);
    if body.trim_end_matches('/').contains('/') && !pattern.trim_end_matches('/').contains('/') {
        let taking_back = &text[..text.len() - body.len()];
        return format!("{taking_back}**/{body}");
    }
    text
}

/// A class with the ranges cut that reach over the slash.
fn without_slash(class: &str) -> String {
    let characters: Vec<char> = class.chars().collect();
    let mut text = String::new();
    let mut at = 0;
    while at < characters.len() {
        match characters[at..] {
            [from, '-', to, ..] if at > 0 && from < '/' && '/' < to => {
                text.extend([from, '-', '.', '0', '-', to]);
                at += 3;
            }
            _ => {
                text.push(characters[at]);
                at += 1;
            }
        }
    }
    text
}

/// How long the class is that a text begins with, its brackets among it.
fn class_length(text: &str) -> Option<usize> {
    let bytes = text.as_bytes();
    let first = 1 + usize::from(matches!(bytes.get(1), Some(b'!' | b'^')));
    let end = bytes.iter().skip(first + 1).position(|b| *b == b']')?;
    Some(first + 1 + end + 1)
}

/// Where a `[` stands that no `]` closes. A `]` right after the opening (or after its `!`) is a
/// member of the class.
fn unclosed_class(pattern: &str) -> Option<usize> {
    let bytes = pattern.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            b'\\' => at += 1,
            b'[' => match class_length(&pattern[at..]) {
                Some(length) => at += length - 1,
                None => return Some(at),
            },
            _ => {}
        }
        at += 1;
    }
    None
}

/// What is wrong with a pattern, in our words, and the byte it is about.
fn explain(pattern: &str, error: &ignore::Error) -> (String, Option<usize>) {
    let mut error = error;
    while let ignore::Error::WithPath { err, .. } | ignore::Error::WithLineNumber { err, .. } =
        error
    {
        error = err;
    }
    let ignore::Error::Glob { err, .. } = error else {
        return (error.to_string(), None);
    };
    let at = if err.contains("unclosed") || err.contains("alternate") {
        pattern.rfind('{').or_else(|| pattern.rfind('}'))
    } else if err.contains("range") {
        pattern.rfind('[')
    } else if err.contains('\\') {
        pattern.rfind('\\')
    } else {
        None
    };
    (err.clone(), at)
}
