//! What is selected, in a few lines that share nothing with the program.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::{BTreeMap, BTreeSet};

use crate::snapshot::{Facts, Snapshot};
use crate::world::{Options, Pattern};

/// The kind of a folder.
pub const FOLDER: u32 = 0o04;

/// The kind of an entry, as in `st_mode`.
pub fn kind(facts: &Facts) -> u32 {
    facts.mode >> 12
}

/// The decision of the rules about an entry by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Word {
    Take { all_below: bool },
    IfNeeded { all_below: bool },
    Leave,
}

fn matches(pattern: Pattern, path: &str, is_folder: bool) -> bool {
    let name = path.rsplit('/').next().unwrap();
    match pattern {
        Pattern::Named(wanted) | Pattern::NotNamed(wanted) => name == wanted,
        Pattern::FolderNamed(wanted) => is_folder && name == wanted,
        Pattern::AtTheTop(wanted) => path == wanted,
        Pattern::Csv => name.strip_suffix(".csv").is_some(),
    }
}

fn by_name(options: &Options, path: &str, facts: &Facts, all_below: bool) -> Word {
    let is_folder = kind(facts) == FOLDER;
    let depth = path.split('/').count();
    let name = path.rsplit('/').next().unwrap();
    if options.depth.is_some_and(|most| depth > most as usize)
        || options.no_hidden && name.starts_with('.')
    {
        return Word::Leave;
    }
    let last = options.exclude.iter().rev().find(|pattern| matches(**pattern, path, is_folder));
    if last.is_some_and(|pattern| !matches!(pattern, Pattern::NotNamed(_))) {
        return Word::Leave;
    }
    let [files, folders, links, specials] = options.kinds;
    let wanted = match kind(facts) {
        FOLDER => true,
        0o10 => files,
        0o12 => links,
        _ => specials,
    };
    if !wanted {
        return Word::Leave;
    }
    let chosen = options.only.iter().any(|pattern| matches(*pattern, path, is_folder));
    let below = all_below || chosen;
    if !below {
        return if is_folder { Word::IfNeeded { all_below: false } } else { Word::Leave };
    }
    if is_folder && (options.no_empty_folders || !folders || options.large) {
        return Word::IfNeeded { all_below: true };
    }
    Word::Take { all_below: true }
}

fn by_nature(options: &Options, facts: &Facts) -> bool {
    kind(facts) == FOLDER || !options.large || facts.size >= 5
}

fn children<'t>(tree: &'t Snapshot, path: &str) -> BTreeMap<String, &'t Facts> {
    let below = |other: &Vec<u8>| {
        let other = std::str::from_utf8(other).unwrap();
        let rest =
            if path.is_empty() { other } else { other.strip_prefix(path)?.strip_prefix('/')? };
        (!rest.is_empty() && !rest.contains('/')).then(|| other.to_owned())
    };
    tree.iter().filter_map(|(path, facts)| Some((below(path)?, facts))).collect()
}

/// The selected entries of a source, and those left alone in a destination.
#[derive(Debug, Default)]
pub struct Selected {
    /// Paths of the source that are selected.
    pub source: BTreeSet<String>,
    /// Paths of the destination that must not change.
    pub left_alone: BTreeSet<String>,
}

/// Decides about every path of both trees.
///
/// # Panics
/// If a path is not UTF-8.
pub fn select(options: &Options, source: &Snapshot, destination: &Snapshot) -> Selected {
    let mut selected = Selected::default();
    let all_below = options.only.is_empty();
    take(options, source, "", all_below, &mut selected.source);
    leave(options, (source, destination), "", all_below, &mut selected);
    selected
}

/// True if an entry below this path is selected.
fn take(
    options: &Options,
    source: &Snapshot,
    path: &str,
    all_below: bool,
    into: &mut BTreeSet<String>,
) -> bool {
    let mut any = false;
    for (path, facts) in children(source, path) {
        let word = by_name(options, &path, facts, all_below);
        if word == Word::Leave || !by_nature(options, facts) {
            continue;
        }
        let is_folder = kind(facts) == FOLDER;
        let taken = match word {
            Word::Take { all_below } => {
                if is_folder {
                    take(options, source, &path, all_below, into);
                }
                true
            }
            Word::IfNeeded { all_below } => take(options, source, &path, all_below, into),
            Word::Leave => false,
        };
        if taken {
            into.insert(path);
        }
        any |= taken;
    }
    any
}

fn leave(
    options: &Options,
    trees: (&Snapshot, &Snapshot),
    path: &str,
    all_below: bool,
    into: &mut Selected,
) {
    let (source, destination) = trees;
    for (path, facts) in children(destination, path) {
        let word = by_name(options, &path, facts, all_below);
        let here = source.get(path.as_bytes());
        let in_source = here.is_some();
        let is_folder = kind(facts) == FOLDER;
        let both_folders = is_folder && here.is_some_and(|here| kind(here) == FOLDER);
        let alone = match (in_source, into.source.contains(&path)) {
            (true, true) => word == Word::Leave,
            // A folder that is not needed is left alone, and its entries that the source lacks may be removed.
            (true, false) if both_folders => {
                let here = by_name(options, &path, here.unwrap(), all_below);
                if here != Word::Leave && word != Word::Leave {
                    into.left_alone.insert(path.clone());
                    false
                } else {
                    true
                }
            }
            (true, false) => true,
            (false, _) => word == Word::Leave || !by_nature(options, facts),
        };
        if alone {
            let below = format!("{path}/");
            let inside = destination.keys().filter(|other| other.starts_with(below.as_bytes()));
            let inside = inside.map(|other| String::from_utf8(other.clone()).unwrap());
            into.left_alone.extend(inside);
            into.left_alone.insert(path);
        } else if let (true, Word::Take { all_below } | Word::IfNeeded { all_below }) =
            (is_folder, word)
        {
            leave(options, trees, &path, all_below, into);
        }
    }
}

/// Folders, files, symbolic links, others and bytes of these paths and of the root.
pub fn tally(paths: &BTreeSet<String>, tree: &Snapshot) -> [u64; 5] {
    let mut tally = [1, 0, 0, 0, 0];
    for facts in paths.iter().map(|path| &tree[path.as_bytes()]) {
        match kind(facts) {
            FOLDER => tally[0] += 1,
            0o10 => {
                tally[1] += 1;
                tally[4] += facts.size;
            }
            0o12 => tally[2] += 1,
            _ => tally[3] += 1,
        }
    }
    tally
}
