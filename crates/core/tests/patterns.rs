//! Guarantee: patterns mean what the help says. A matcher of the test's own, written from those rules
//! alone, agrees about every path of random trees under random rules; and a table holds the cases that
//! people get wrong.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;

use crate::common::Trees;
use proptest::prelude::*;
use utter_echo_core::explain::{self, Participation};
use utter_echo_core::os::Linux;
use utter_echo_core::select::{PatternRules, Rules, Selection};

/// True if a pattern without slashes fits a name.
fn fits_name(pattern: &[u8], name: &[u8]) -> bool {
    match pattern.split_first() {
        None => name.is_empty(),
        Some((b'*', rest)) => (0..=name.len()).any(|at| fits_name(rest, &name[at..])),
        Some((b'?', rest)) => !name.is_empty() && fits_name(rest, &name[1..]),
        Some((b'[', rest)) => {
            let end = rest.iter().skip(1).position(|b| *b == b']').unwrap() + 1;
            let (class, rest) = (&rest[..end], &rest[end + 1..]);
            let (negated, class) = match class.split_first() {
                Some((b'!', class)) => (true, class),
                _ => (false, class),
            };
            let within = |b: u8| match class {
                [from, b'-', to] => (*from..=*to).contains(&b),
                set => set.contains(&b),
            };
            name.first().is_some_and(|b| within(*b) != negated) && fits_name(rest, &name[1..])
        }
        Some((b'\\', rest)) => name.first() == rest.first() && fits_name(&rest[1..], &name[1..]),
        Some((b, rest)) => name.first() == Some(b) && fits_name(rest, &name[1..]),
    }
}

/// True if an anchored pattern fits a path; both are given by their parts.
fn fits_parts(pattern: &[&[u8]], path: &[&[u8]]) -> bool {
    match (pattern.split_first(), path.split_first()) {
        (None, None) => true,
        // At the end it matches the content of a folder, so at least one name.
        (Some((&b"**", [])), _) => !path.is_empty(),
        (Some((&b"**", rest)), _) => (0..=path.len()).any(|at| fits_parts(rest, &path[at..])),
        (Some((first, rest)), Some((name, path))) => {
            fits_name(first, name) && fits_parts(rest, path)
        }
        _ => false,
    }
}

fn fits(pattern: &str, path: &str, folder: bool) -> bool {
    let (pattern, folders_only) = match pattern.strip_suffix('/') {
        Some(pattern) => (pattern, true),
        None => (pattern, false),
    };
    if folders_only && !folder {
        return false;
    }
    let tied = pattern.contains('/');
    let parts: Vec<&[u8]> = pattern.trim_start_matches('/').split('/').map(str::as_bytes).collect();
    let path: Vec<&[u8]> = path.split('/').map(str::as_bytes).collect();
    if tied { fits_parts(&parts, &path) } else { fits_name(parts[0], path[path.len() - 1]) }
}

/// The decision about a path, by the rules of the help.
fn is_taken(rules: &Rules, path: &str, folder: bool) -> bool {
    let names: Vec<&str> = path.split('/').collect();
    let mut taken_by_only = rules.patterns.only.is_empty();
    for depth in 1..=names.len() {
        let (prefix, folder) = (names[..depth].join("/"), folder || depth < names.len());
        let last =
            rules.patterns.exclude.iter().rev().find(|pattern| {
                fits(pattern.strip_prefix('!').unwrap_or(pattern), &prefix, folder)
            });
        if last.is_some_and(|pattern| !pattern.starts_with('!')) {
            return false;
        }
        taken_by_only |= rules.patterns.only.iter().any(|pattern| fits(pattern, &prefix, folder));
    }
    taken_by_only
}

fn segment() -> impl Strategy<Value = String> {
    let pieces = prop_oneof![
        4 => Just("a"), 3 => Just("b"), 2 => Just("."), 2 => Just("*"), 1 => Just("?"),
        1 => Just("[a-b]"), 1 => Just("[!a]"), 1 => Just("[*-a]"), 1 => Just("\\*"),
    ];
    // What is nothing but stars means something of its own.
    prop::collection::vec(pieces, 1..4)
        .prop_map(|pieces| pieces.concat())
        .prop_filter("it stands for itself", |s| !s.contains("**") && s != "." && s != "..")
}

fn pattern() -> impl Strategy<Value = String> {
    let segments =
        prop::collection::vec(prop_oneof![5 => segment(), 1 => Just("**".to_owned())], 1..4);
    (any::<bool>(), segments, any::<bool>()).prop_filter_map(
        "it names something",
        |(top, parts, folder)| {
            let body = parts.join("/");
            let two = body.contains("**/**") || body == "**";
            let text =
                format!("{}{body}{}", if top { "/" } else { "" }, if folder { "/" } else { "" });
            (!two && !text.starts_with("/**")).then_some(text)
        },
    )
}

fn name() -> impl Strategy<Value = String> {
    prop::collection::vec(prop_oneof![Just("a"), Just("b"), Just("c"), Just("."), Just("*")], 1..4)
        .prop_map(|pieces| pieces.concat())
        .prop_filter("such names are no names", |name| name != "." && name != "..")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn an_independent_matcher_agrees(
        exclude in prop::collection::vec((any::<bool>(), pattern()), 0..4),
        only in prop::collection::vec(pattern(), 0..3),
        paths in prop::collection::vec(prop::collection::vec(name(), 1..5), 1..12),
    ) {
        let taken_back = |(back, text): (bool, String)| if back { format!("!{text}") } else { text };
        let exclude: Vec<String> = exclude.into_iter().map(taken_back).collect();
        let rules = Rules {
patterns: PatternRules {  exclude, only,
..PatternRules::default() }, ..Rules::default() };
        let selection = Selection::new(&rules).unwrap();
        let trees = Trees::new();
        for path in paths {
            let path = path.join("/");
            for folder in [false, true] {
                let asked = if folder { format!("{path}/") } else { path.clone() };
                let told = explain::path(&Linux, &trees.source, &selection, asked.as_bytes()).unwrap();
                // A folder that is needed for what it holds is neither.
                if told.fate != Participation::IfNeeded {
                    let taken = is_taken(&rules, &path, folder);
                    prop_assert_eq!(told.fate == Participation::Taken, taken, "{} under {:?}", asked, rules);
                }
            }
        }
    }
}

#[test]
fn cases_that_people_get_wrong() {
    // Patterns of --exclude, a path, and whether it is taken; a slash at its end says it is a folder.
    let table: [(&[&str], &str, bool); 43] = [
        (&["logs"], "logs/", false),
        (&["logs"], "logs", false),
        (&["logs"], "deep/logs/1.csv", false),
        (&["logs"], "logs.csv", true),
        (&["logs/"], "logs", true),
        (&["logs/"], "logs/1.csv", false),
        (&["/logs"], "deep/logs", true),
        (&["/logs/"], "logs/deep/1.csv", false),
        (&["logs/*"], "logs/", true),
        (&["logs/*"], "logs/1.csv", false),
        (&["logs/*"], "deep/logs/1.csv", true),
        (&["logs/*.csv"], "logs/deep/1.csv", true),
        (&["logs/**"], "logs/deep/1.csv", false),
        (&["logs/**"], "logs/", true),
        (&["**/logs"], "deep/er/logs/", false),
        (&["**/logs"], "logs/", false),
        (&["a/**/b"], "a/b", false),
        (&["a/**/b"], "a/x/y/b", false),
        (&["a/**/b"], "x/a/b", true),
        (&["*"], "anything/at/all", false),
        (&["*", "!*.csv"], "tide.csv", true),
        (&["*", "!*.csv"], "deep/tide.csv", false),
        (&["*", "!*/", "!*.csv"], "deep/tide.csv", true),
        (&["*", "!*/", "!*.csv"], "deep/tide.wav", false),
        (&["*.csv", "!tide.csv"], "tide.csv", true),
        (&["!tide.csv", "*.csv"], "tide.csv", false),
        (&["/deep/", "!/deep/tide.csv"], "deep/tide.csv", false),
        (&["/deep/*", "!/deep/tide.csv"], "deep/tide.csv", true),
        (&["*.CSV"], "tide.csv", true),
        (&["tide.{csv,wav}"], "tide.wav", false),
        (&["tide.{csv,wav}"], "tide.txt", true),
        (&["lamp[0-9]"], "lamp7", false),
        (&["lamp[!0-9]"], "lamp7", true),
        (&["\\!important"], "!important", false),
        (&["\\#1"], "#1", false),
        (&[".*"], ".prices", false),
        (&[".*"], "shop.prices", true),
        // One byte, as everywhere in this syntax.
        (&["?"], "é", true),
        (&["two words"], "two words", false),
        (&["*.tar.*"], "logs.tar.gz", false),
        // A class is one character of a name.
        (&["logs[!a]x"], "logs/x", true),
        (&["logs[.-0]x"], "logs/x", true),
        (&["logs[.-0]x"], "logs0x", false),
    ];
    let trees = Trees::new();
    fs::create_dir(trees.source.join("empty")).unwrap();
    for (patterns, path, taken) in table {
        let exclude = patterns.iter().map(|p| (*p).to_owned()).collect();
        let selection = Selection::new(&Rules {
            patterns: PatternRules { exclude, ..PatternRules::default() },
            ..Rules::default()
        })
        .unwrap();
        let told = explain::path(&Linux, &trees.source, &selection, path.as_bytes()).unwrap();
        assert_eq!(told.fate == Participation::Taken, taken, "{patterns:?} on {path}: {told:?}");
    }
}
