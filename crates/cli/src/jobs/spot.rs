//! Positions in a job file.

use std::ops::Range;
use std::path::{Path, PathBuf};

use crate::call;
use crate::exit::WrongCall;
use crate::terminal::names;

/// The text of a job file.
#[derive(Debug)]
pub(crate) struct Source {
    pub(crate) path: PathBuf,
    pub(super) text: String,
}

/// An error of the whole file.
pub(super) fn wrong_file(path: &Path, what: &str, advice: &str) -> WrongCall {
    WrongCall(format!("job file '{}' {what}\n  {advice}", names::path(path)))
}

impl Source {
    /// An error at these bytes of the file.
    pub(super) fn wrong(&self, at: &Range<usize>, what: &str, advice: &str) -> WrongCall {
        let before = self.text.get(..at.start).unwrap_or(&self.text);
        let begin = before.rfind('\n').map_or(0, |newline| newline + 1);
        let number = before.matches('\n').count() + 1;
        let column = before[begin..].chars().count() + 1;
        let line = self.text[begin..].lines().next().unwrap_or_default();
        let (path, line) = (names::path(&self.path), names::harmless(line.trim()));
        let advice = if advice.is_empty() { String::new() } else { format!("\n  {advice}") };
        WrongCall(format!("{path}:{number}:{column}: {what}\n  {line}{advice}"))
    }
}

/// Advice: today's name, or the most similar known word, else the list of all.
pub(super) fn nearest<'k>(word: &str, known: impl Iterator<Item = &'k str>, all: &str) -> String {
    if let Some(new) = call::renamed(word) {
        return format!("'{word}' is '{new}' here");
    }
    let alike = |one: &&str| strsim::jaro_winkler(word, one);
    let best = known.max_by(|a, b| alike(a).total_cmp(&alike(b)));
    match best.filter(|best| alike(best) > 0.75) {
        Some(best) => format!("did you mean '{best}'?"),
        None => all.to_owned(),
    }
}
