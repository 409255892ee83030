//! Patterns, with their checks and origins.

use std::ffi::OsStr;
use std::fmt;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use globset::{ErrorKind, GlobBuilder, GlobSet};

/// Where a pattern was given.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PatternOrigin {
    /// With this option.
    Option(&'static str),
    /// In this file, on this line, counted from 1.
    Line(String, usize),
    /// Built in, under this option.
    BuiltIn(&'static str),
}

/// A pattern with its origin.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct GivenPattern {
    pub(crate) text: String,
    pub(crate) origin: PatternOrigin,
}

impl fmt::Display for GivenPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.origin {
            PatternOrigin::Option(option) | PatternOrigin::BuiltIn(option) => {
                write!(f, "{option} '{}'", self.text)
            }
            PatternOrigin::Line(file, line) => write!(f, "{file}:{line} '{}'", self.text),
        }
    }
}

/// A pattern that cannot be read, or that can match nothing.
#[derive(Debug, thiserror::Error)]
#[error("{}: {cause}{}", .given, place(.given, *.at))]
pub struct BadPattern {
    given: GivenPattern,
    cause: String,
    at: Option<usize>,
}

/// The line with a marker below the error.
fn place(given: &GivenPattern, at: Option<usize>) -> String {
    let Some(at) = at else { return String::new() };
    let column = given.text[..at].chars().count() + 1;
    let told = match given.origin {
        PatternOrigin::Line(..) => format!(" (column {column})"),
        _ => String::new(),
    };
    format!("{told}\n    {}\n    {:>column$}", given.text, '^')
}

/// Patterns, of which the last match decides.
#[derive(Debug)]
pub(crate) struct Patterns {
    pub(crate) given: Vec<GivenPattern>,
    meanings: Vec<PatternParts>,
    globs: GlobSet,
}

/// The parts of a pattern besides the names that it matches.
#[derive(Debug)]
struct PatternParts {
    is_undo: bool,
    only_folders: bool,
}

impl Patterns {
    /// None at all.
    pub(crate) fn none() -> Self {
        Self { given: Vec::new(), meanings: Vec::new(), globs: GlobSet::empty() }
    }

    pub(crate) fn new(given: Vec<GivenPattern>, ignore_case: bool) -> Result<Self, BadPattern> {
        let bad = |given: &GivenPattern, cause: &str, at| BadPattern {
            given: given.clone(),
            cause: cause.to_owned(),
            at,
        };
        let (mut globs, mut meanings) = (GlobSet::builder(), Vec::new());
        for pattern in &given {
            check(&pattern.text).map_err(|(cause, at)| bad(pattern, cause, at))?;
            let (meaning, glob) = read(&pattern.text);
            let glob = GlobBuilder::new(&glob)
                .literal_separator(true)
                .backslash_escape(true)
                .empty_alternates(true)
                .case_insensitive(ignore_case)
                .build()
                .map_err(|e| {
                    bad(pattern, &e.kind().to_string(), position_of(&pattern.text, e.kind()))
                })?;
            globs.add(glob);
            meanings.push(meaning);
        }
        let globs = globs.build().map_err(|e| {
            let all = given.iter().map(|given| given.text.as_str()).collect::<Vec<_>>();
            let text = all.join("' '");
            let origin =
                given.first().map_or(PatternOrigin::Option(""), |given| given.origin.clone());
            bad(&GivenPattern { text, origin }, &e.to_string(), None)
        })?;
        Ok(Self { given, meanings, globs })
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.given.is_empty()
    }

    /// The pattern that decides about a path, and whether it begins with `!`.
    pub(crate) fn decides(&self, path: &[u8], folder: bool) -> Option<(usize, bool)> {
        if self.is_empty() {
            return None;
        }
        let fitting = self.globs.matches(Path::new(OsStr::from_bytes(path)));
        let last = fitting.into_iter().rev().find(|at| folder || !self.meanings[*at].only_folders);
        last.map(|at| (at, self.meanings[at].is_undo))
    }
}

/// A checked pattern, in a form that matches whole paths.
fn read(pattern: &str) -> (PatternParts, String) {
    let text = without_spaces_at_the_end(pattern);
    let (is_undo, text) = match text.strip_prefix('!') {
        Some(text) => (true, text),
        None => (false, text),
    };
    let (only_folders, text) = match text.strip_suffix('/') {
        Some(text) => (true, text),
        None => (false, text),
    };
    let mut glob = within_names(text.strip_prefix('/').unwrap_or(text));
    if !text.contains('/') {
        glob.insert_str(0, "**/");
    }
    // At the end it matches the entries of a folder, and not the folder.
    if glob.ends_with("/**") {
        glob.push_str("/*");
    }
    (PatternParts { is_undo, only_folders }, glob)
}

/// Trailing spaces are invisible and so not meant, unless a backslash precedes them.
fn without_spaces_at_the_end(pattern: &str) -> &str {
    let text = pattern.trim_end();
    // A space may have several bytes.
    match pattern[text.len()..].chars().next() {
        Some(space) if text.ends_with('\\') => &pattern[..text.len() + space.len_utf8()],
        _ => text,
    }
}

/// Checks a pattern as far as that is possible without the crate that compiles it.
fn check(pattern: &str) -> Result<(), (&'static str, Option<usize>)> {
    if pattern.trim().is_empty() || pattern.starts_with('#') {
        return Err((
            "this pattern matches nothing (write \\# for a name that begins with #)",
            None,
        ));
    }
    let body = pattern.strip_prefix('!').unwrap_or(pattern);
    if body.trim_matches('/').is_empty() {
        return Err((
            "this pattern does not name anything; to take everything, leave it out",
            None,
        ));
    }
    let begins = pattern.len() - body.len();
    if let Some(at) = body.find("//") {
        return Err(("no path contains '//'", Some(begins + at)));
    }
    let mut at = begins;
    for part in body.split('/') {
        if part == ".." || part == "." {
            let hint = "no path contains '.' or '..'; patterns are relative to the source";
            return Err((hint, Some(at)));
        }
        at += part.len() + 1;
    }
    if let Some(at) = slash_in_class(pattern) {
        return Err(("no name contains a '/', so it means nothing between '[' and ']'", Some(at)));
    }
    // The crate takes an unclosed class literally; a typing error is more likely.
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

/// The pattern with classes that do not match a slash, which the crate would allow.
fn within_names(pattern: &str) -> String {
    let mut text = String::new();
    let mut rest = pattern;
    while let Some(at) = rest.find(['\\', '[']) {
        let (before, special) = rest.split_at(at);
        text.push_str(before);
        // The class was checked to be closed.
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
    text
}

/// A class without the slash in its ranges.
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

/// The length of the class at the beginning of a text, with its brackets.
fn class_length(text: &str) -> Option<usize> {
    let bytes = text.as_bytes();
    let first = 1 + usize::from(matches!(bytes.get(1), Some(b'!' | b'^')));
    let end = bytes.iter().skip(first + 1).position(|b| *b == b']')?;
    Some(first + 1 + end + 1)
}

/// The position of a `[` that no `]` closes. A `]` right after the opening (or after its `!`) is a member of the
/// class.
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

/// The position in a pattern that an error is about, if any.
fn position_of(pattern: &str, error: &ErrorKind) -> Option<usize> {
    match error {
        ErrorKind::UnclosedAlternates => pattern.rfind('{'),
        ErrorKind::UnopenedAlternates => pattern.rfind('}'),
        ErrorKind::InvalidRange(..) | ErrorKind::UnclosedClass => pattern.rfind('['),
        ErrorKind::DanglingEscape => pattern.rfind('\\'),
        _ => None,
    }
}
