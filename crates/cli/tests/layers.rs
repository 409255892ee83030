//! Guarantee: the program is built in layers. The table of `docs/architecture.md` lists them from the bottom
//! up: a file imports only files of its own layer or of one above it in the table, and no imports form a
//! circle. What holds in the code that runs is checked; tests may use all of it.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use proc_macro2::{Delimiter, TokenStream, TokenTree};

/// A module: the folder of its crate, then the names that lead to it.
type Module = Vec<String>;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).unwrap().to_path_buf()
}

/// The source files of all crates, by the module that each is.
fn modules() -> BTreeMap<Module, PathBuf> {
    let mut found = BTreeMap::new();
    let mut folders = vec![root().join("crates")];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let relative = path.strip_prefix(root().join("crates")).unwrap().with_extension("");
            let mut names: Module =
                relative.iter().map(|name| name.to_str().unwrap().to_owned()).collect();
            if path.is_dir() && names.get(1).is_none_or(|name| name == "src") {
                folders.push(path);
            } else if path.extension().is_some_and(|kind| kind == "rs")
                && names.get(1).is_some_and(|name| name == "src")
                && names.last().is_some_and(|name| name != "tests")
            {
                names.remove(1);
                names.pop_if(|name| ["mod", "lib", "main"].contains(&name.as_str()));
                found.insert(names, path);
            }
        }
    }
    found
}

/// Every path that the tokens name, with the groups of `use` spelt out; what is only for tests is left out.
fn paths(tokens: TokenStream, begun: &[String], found: &mut Vec<Vec<String>>) {
    let mut path = begun.to_vec();
    let mut end = |path: &mut Vec<String>| {
        let ended = std::mem::replace(path, begun.to_vec());
        if ended.len() > begun.len() {
            found.push(ended);
        }
    };
    let mut tokens = tokens.into_iter().peekable();
    let (mut is_test, mut below) = (false, Vec::new());
    while let Some(token) = tokens.next() {
        if is_test {
            // Up to the end of the item.
            let is_body =
                matches!(&token, TokenTree::Group(g) if g.delimiter() == Delimiter::Brace);
            is_test = !is_body && token.to_string() != ";";
            continue;
        }
        match token {
            TokenTree::Group(group) => {
                if group.stream().to_string() == "cfg (test)" {
                    is_test = true;
                    continue;
                }
                // `path::{…}` goes on below; any other group begins anew.
                let goes_on = path.last().is_some_and(String::is_empty);
                let begins = if goes_on { &path[..path.len() - 1] } else { &[] };
                // Who may see something is no import.
                if path.last().is_none_or(|name| name != "pub") {
                    below.push((group.stream(), begins.to_vec()));
                }
                if goes_on {
                    path = begun.to_vec();
                }
                end(&mut path);
            }
            TokenTree::Ident(name) => {
                if !path.last().is_none_or(String::is_empty) && path.len() != begun.len() {
                    end(&mut path);
                }
                path.pop_if(|last| last.is_empty());
                path.push(name.to_string());
            }
            TokenTree::Punct(mark) if mark.as_char() == ':' => {
                let is_colon = |next: &TokenTree| next.to_string() == ":";
                if tokens.next_if(is_colon).is_some() {
                    path.push(String::new());
                } else {
                    end(&mut path);
                }
            }
            _ => end(&mut path),
        }
    }
    end(&mut path);
    for (tokens, begun) in below {
        paths(tokens, &begun, found);
    }
}

/// The file that a path leads into, as seen from a module: the one of its longest part that is a module.
fn target(path: &[String], from: &Module, all: &BTreeMap<Module, PathBuf>) -> Option<Module> {
    let first = path.first()?;
    let (mut at, rest) = match first.as_str() {
        "crate" => (from[..1].to_vec(), &path[1..]),
        "self" => (from.clone(), &path[1..]),
        "super" => {
            let up = path.iter().take_while(|name| *name == "super").count();
            (from[..from.len().checked_sub(up)?.max(1)].to_vec(), &path[up..])
        }
        name if name.starts_with("utter_echo_") => {
            (vec![name.trim_start_matches("utter_echo_").to_owned()], &path[1..])
        }
        name if all.contains_key(&[&from[..], &[name.to_owned()]].concat()) => (from.clone(), path),
        _ => return None,
    };
    for name in rest {
        at.push(name.clone());
        if !all.contains_key(&at) {
            at.pop();
            break;
        }
    }
    all.contains_key(&at).then_some(at)
}

fn imports() -> BTreeMap<Module, BTreeSet<Module>> {
    let all = modules();
    let of = |(module, file): (&Module, &PathBuf)| {
        let mut found = Vec::new();
        paths(fs::read_to_string(file).unwrap().parse().unwrap(), &[], &mut found);
        let targets = found.iter().filter_map(|path| target(path, module, &all));
        (module.clone(), targets.filter(|target| target != module).collect())
    };
    all.iter().map(of).collect()
}

/// The layers, from the bottom up: each the modules that begin with one of these.
fn layers() -> Vec<Vec<Module>> {
    let page = fs::read_to_string(root().join("docs/architecture.md")).unwrap();
    let rows = page.lines().skip_while(|line| !line.starts_with("| Layer")).skip(2);
    let rows = rows.take_while(|line| line.starts_with('|'));
    let layer = |row: &str| {
        let names = row.split('|').nth(1).unwrap().split('`').skip(1).step_by(2);
        names.map(|name| name.split('/').map(str::to_owned).collect()).collect()
    };
    rows.map(layer).collect()
}

fn told(module: &Module) -> String {
    module.join("/")
}

#[test]
fn no_imports_form_a_circle() {
    let imports = imports();
    assert!(imports.values().map(BTreeSet::len).sum::<usize>() > 500, "nothing was read");
    let mut left = imports.clone();
    // Whatever imports nothing that is left is in no circle, and neither is what nothing left imports.
    loop {
        let before = left.len();
        let names: BTreeSet<_> = left.keys().cloned().collect();
        left.retain(|_, to| to.iter().any(|to| names.contains(to)));
        let imported: BTreeSet<_> = left.values().flatten().cloned().collect();
        left.retain(|module, _| imported.contains(module));
        if left.len() == before {
            break;
        }
    }
    let shown = left.iter().map(|(module, to)| {
        let to = to.iter().filter(|to| left.contains_key(*to)).map(told);
        format!("{} -> {}", told(module), to.collect::<Vec<_>>().join(", "))
    });
    assert!(left.is_empty(), "circles:\n{}", shown.collect::<Vec<_>>().join("\n"));
}

#[test]
fn no_file_imports_from_a_layer_above_its_own() {
    let layers = layers();
    let layer_of = |module: &Module| {
        let fits = |part: &&Module| module.starts_with(part);
        let of = |(at, parts): (usize, &Vec<Module>)| {
            parts.iter().filter(fits).map(Vec::len).max().map(|length| (length, at))
        };
        layers.iter().enumerate().filter_map(of).max().map(|(_, at)| at)
    };
    let mut wrong = Vec::new();
    for (module, targets) in imports() {
        let Some(own) = layer_of(&module) else {
            wrong.push(format!("{} is in no layer", told(&module)));
            continue;
        };
        let above = targets.iter().filter(|target| layer_of(target).is_none_or(|at| at > own));
        wrong.extend(above.map(|target| format!("{} -> {}", told(&module), told(target))));
    }
    assert!(wrong.is_empty(), "upwards:\n{}", wrong.join("\n"));
}

#[test]
fn the_questions_of_the_architecture_name_existing_files() {
    let page = fs::read_to_string(root().join("docs/architecture.md")).unwrap();
    assert!(page.lines().count() <= 250, "{} lines", page.lines().count());
    let questions = page.split("\n## Where to look").nth(1).unwrap();
    let rows: Vec<_> = questions.lines().filter(|line| line.contains('?')).collect();
    assert_eq!(rows.len(), 20);
    for row in rows {
        let file = row.split('`').nth(1).unwrap_or_else(|| panic!("no file: {row}"));
        assert!(root().join(file).is_file(), "{row}");
    }
}

#[test]
fn every_way_to_import_is_seen() {
    let code =
        "use crate::{a::{self, b}, c as d}; pub(in crate::e) fn f() { super::g::h(i!(crate::j)) }
        #[cfg(test)] mod tests { use crate::k; } #[cfg(test)] use crate::l; use crate::m;";
    let mut found = Vec::new();
    paths(code.parse().unwrap(), &[], &mut found);
    let found: BTreeSet<_> =
        found.iter().filter(|path| path.len() > 1).map(|path| path.join("::")).collect();
    let expected =
        ["crate::a::b", "crate::a::self", "crate::c", "crate::j", "crate::m", "super::g::h"];
    for path in expected {
        assert!(found.contains(path), "{path} is not in {found:?}");
    }
    for path in ["crate::e", "crate::k", "crate::l"] {
        assert!(!found.contains(path), "{path}");
    }
}
