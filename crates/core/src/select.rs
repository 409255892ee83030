//! Station: which entries take part.
//!
//! An entry that is left out is invisible on both sides: it is neither carried nor removed.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};

use ignore::Match;
use ignore::gitignore::{Gitignore, GitignoreBuilder};

/// Patterns and limits as given.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rules {
    /// Entries to leave out; a later pattern overrides an earlier one, `!` takes back.
    pub exclude: Vec<String>,
    /// If not empty, only what matches one of these, with all below a folder that matches.
    pub only: Vec<String>,
    /// Deepest level taken; 1 is the entries directly in the source.
    pub depth: Option<u32>,
    /// Leave out folders in which nothing is taken.
    pub no_empty_folders: bool,
    /// Leave out folders of the source where another drive is mounted.
    pub same_drive: bool,
}

/// [`Rules`] made ready to decide.
#[derive(Debug)]
pub struct Selection {
    exclude: PatternSet,
    only: PatternSet,
    depth: Option<u32>,
    no_empty_folders: bool,
    same_drive: bool,
}

/// What the selection says about one entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Verdict {
    /// It takes part. `all_below` is set where a `--only` pattern took a folder as a whole.
    Take { all_below: bool },
    /// A folder that takes part only if something in it does.
    IfNeeded,
    /// It is left out, and everything below it.
    Leave,
}

/// A pattern that cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("{option} '{pattern}': {cause}{}", place(pattern, *.at))]
pub struct BadPattern {
    option: &'static str,
    pattern: String,
    cause: String,
    at: Option<usize>,
}

fn place(pattern: &str, at: Option<usize>) -> String {
    at.map_or(String::new(), |at| {
        format!("\n    {pattern}\n    {:>width$}", '^', width = pattern[..at].chars().count() + 1)
    })
}

impl Selection {
    /// Reads the patterns; the first bad one is the error.
    pub fn new(rules: &Rules) -> Result<Self, BadPattern> {
        Ok(Self {
            exclude: PatternSet::new("--exclude", &rules.exclude)?,
            only: PatternSet::new("--only", &rules.only)?,
            depth: rules.depth,
            no_empty_folders: rules.no_empty_folders,
            same_drive: rules.same_drive,
        })
    }

    /// Decides about the entry at `path`, which lies `depth` levels below the root. `all_below`
    /// is what the folder above was taken with.
    pub(crate) fn decide(&self, path: &[u8], folder: bool, depth: u32, all_below: bool) -> Verdict {
        if self.too_deep(depth) || self.exclude.matches(path, folder) {
            return Verdict::Leave;
        }
        if !all_below && !self.only.is_empty() && !self.only.matches(path, folder) {
            return if folder { Verdict::IfNeeded } else { Verdict::Leave };
        }
        if folder && self.no_empty_folders {
            return Verdict::IfNeeded;
        }
        Verdict::Take { all_below: all_below || !self.only.is_empty() }
    }

    /// True if what it says depends on paths.
    pub(crate) fn looks_at_paths(&self) -> bool {
        !self.exclude.is_empty() || !self.only.is_empty()
    }

    /// True if a folder may take part only for what it holds.
    pub(crate) fn is_choosy(&self) -> bool {
        self.no_empty_folders || self.takes_only()
    }

    /// True if it stops where another drive is mounted.
    pub(crate) fn stays_on_its_drive(&self) -> bool {
        self.same_drive
    }

    /// True if there are patterns of what to take.
    pub(crate) fn takes_only(&self) -> bool {
        !self.only.is_empty()
    }

    /// True if entries at this level are left out for their depth alone.
    pub(crate) fn too_deep(&self, depth: u32) -> bool {
        self.depth.is_some_and(|limit| depth > limit)
    }

    /// True if folders below `all_below = false` inherit being taken as a whole: a folder that
    /// [`Verdict::IfNeeded`] stands for because of `no_empty_folders` alone.
    pub(crate) fn takes_all_below(&self, path: &[u8], all_below: bool) -> bool {
        all_below || self.only.is_empty() || self.only.matches(path, true)
    }

    /// Patterns, with the option that gave them, that matched no entry so far.
    pub fn idle_patterns(&self) -> Vec<(&'static str, &str)> {
        self.exclude.idle().chain(self.only.idle()).collect()
    }
}

/// Patterns of one option, in the syntax of gitignore files.
#[derive(Debug)]
struct PatternSet {
    option: &'static str,
    patterns: Vec<String>,
    matcher: Gitignore,
    hits: Vec<AtomicU64>,
}

impl PatternSet {
    fn new(option: &'static str, patterns: &[String]) -> Result<Self, BadPattern> {
        let mut builder = GitignoreBuilder::new("");
        for pattern in patterns {
            let bad =
                |cause: String, at| BadPattern { option, pattern: pattern.clone(), cause, at };
            if pattern.trim().is_empty() || pattern.starts_with('#') {
                return Err(bad(
                    "this pattern matches nothing (write \\# for a name that begins with #)".into(),
                    None,
                ));
            }
            if pattern.split('/').any(|part| part == ".." || part == ".") {
                let hint = "no entry's path holds '.' or '..'; patterns are relative to the source";
                return Err(bad(hint.into(), None));
            }
            // The crate lets an unclosed class stand for itself; a typing error is likelier.
            if let Some(at) = unclosed_class(pattern) {
                return Err(bad(
                    "'[' is not closed by a ']' (write \\[ for the character itself)".into(),
                    Some(at),
                ));
            }
            builder.add_line(None, pattern).map_err(|e| {
                let (cause, at) = explain(pattern, &e);
                bad(cause, at)
            })?;
        }
        let matcher = builder.build().map_err(|e| BadPattern {
            option,
            pattern: patterns.join("' '"),
            cause: e.to_string(),
            at: None,
        })?;
        let hits = patterns.iter().map(|_| AtomicU64::new(0)).collect();
        Ok(Self { option, patterns: patterns.to_vec(), matcher, hits })
    }

    fn is_empty(&self) -> bool {
        self.patterns.is_empty()
    }

    /// The last pattern that fits decides; `!` makes it decide for "no".
    fn matches(&self, path: &[u8], folder: bool) -> bool {
        if self.is_empty() {
            return false;
        }
        let found = self.matcher.matched(Path::new(OsStr::from_bytes(path)), folder);
        if let Match::Ignore(glob) | Match::Whitelist(glob) = found {
            let at = self.patterns.iter().position(|p| p == glob.original());
            if let Some(hits) = at.and_then(|at| self.hits.get(at)) {
                hits.fetch_add(1, Ordering::Relaxed);
            }
        }
        found.is_ignore()
    }

    fn idle(&self) -> impl Iterator<Item = (&'static str, &str)> {
        let pairs = self.patterns.iter().zip(&self.hits);
        pairs
            .filter(|(_, hits)| hits.load(Ordering::Relaxed) == 0)
            .map(|(pattern, _)| (self.option, pattern.as_str()))
    }
}

/// Where a `[` stands that no `]` closes. A `]` right after the opening (or after its `!`) is a
/// member of the class.
fn unclosed_class(pattern: &str) -> Option<usize> {
    let bytes = pattern.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            b'\\' => at += 1,
            b'[' => {
                let mut first = at + 1;
                first += usize::from(matches!(bytes.get(first), Some(b'!' | b'^')));
                match bytes.iter().skip(first + 1).position(|b| *b == b']') {
                    Some(length) => at = first + 1 + length,
                    None => return Some(at),
                }
            }
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

#[cfg(test)]
mod tests {
    use super::*;

    fn selection(exclude: &[&str], only: &[&str]) -> Selection {
        let own = |list: &[&str]| list.iter().map(|p| (*p).to_owned()).collect();
        Selection::new(&Rules { exclude: own(exclude), only: own(only), ..Rules::default() })
            .unwrap()
    }

    fn taken(selection: &Selection, path: &str, folder: bool) -> bool {
        matches!(selection.decide(path.as_bytes(), folder, 1, false), Verdict::Take { .. })
    }

    #[test]
    fn patterns_follow_the_documented_syntax() {
        // Pattern, path, folder, whether it matches.
        let table = [
            ("*.csv", "tides.csv", false, true),
            ("*.csv", "logs/1923/tides.csv", false, true),
            ("/tides.csv", "logs/tides.csv", false, false),
            ("/tides.csv", "tides.csv", false, true),
            ("logs/", "logs", true, true),
            ("logs/", "logs", false, false),
            ("logs/*.csv", "logs/a.csv", false, true),
            ("logs/*.csv", "old/logs/a.csv", false, false),
            ("logs/**/a.csv", "logs/1/2/a.csv", false, true),
            ("lamp[0-9]", "lamp7", false, true),
            ("lamp[!0-9]", "lamp7", false, false),
            ("\\!wichtig", "!wichtig", false, true),
            ("lamp?", "lamp", false, false),
        ];
        for (pattern, path, folder, matches) in table {
            let left_out = !taken(&selection(&[pattern], &[]), path, folder);
            assert_eq!(left_out, matches, "{pattern} on {path}");
        }
    }

    #[test]
    fn the_last_exclude_that_fits_decides() {
        let selection = selection(&["*.wav", "!north.wav"], &[]);
        assert!(!taken(&selection, "south.wav", false));
        assert!(taken(&selection, "north.wav", false));
    }

    #[test]
    fn only_takes_files_by_name_and_folders_as_a_whole() {
        let selection = selection(&[], &["*.csv", "logbooks/"]);
        assert_eq!(selection.decide(b"shop", true, 1, false), Verdict::IfNeeded);
        assert_eq!(selection.decide(b"shop/a.txt", false, 2, false), Verdict::Leave);
        assert_eq!(
            selection.decide(b"logbooks", true, 1, false),
            Verdict::Take { all_below: true }
        );
        assert!(matches!(
            selection.decide(b"logbooks/a.txt", false, 2, true),
            Verdict::Take { .. }
        ));
    }

    #[test]
    fn a_bad_pattern_is_shown_with_its_place() {
        for (pattern, column) in [("logs/[0-9.csv", 6), ("lens.{svg,png", 6), ("lamp[9-0]", 5)] {
            let rules = Rules { exclude: vec![pattern.into()], ..Rules::default() };
            let message = Selection::new(&rules).unwrap_err().to_string();
            let caret = message.lines().last().unwrap();
            assert_eq!(caret.find('^'), Some(4 + column - 1), "{message}");
        }
        for pattern in ["", "  ", "#x", "/a/../b", "./a"] {
            let rules = Rules { only: vec![pattern.into()], ..Rules::default() };
            assert!(Selection::new(&rules).is_err(), "{pattern:?}");
        }
    }

    #[test]
    fn a_pattern_that_met_nothing_is_named() {
        let selection = selection(&["*.tmp", "*.csv"], &[]);
        assert!(!taken(&selection, "a.csv", false));
        assert_eq!(selection.idle_patterns(), [("--exclude", "*.tmp")]);
    }
}
