//! Guarantee: all that people read keeps to one style: a message begins in lower case, ends without a full stop,
//! and says what to do next on lines of its own. The test also writes it all to one file, to be read from top to
//! bottom.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a test stops there, or says where the file is"
)]

use std::fs;
use std::path::{Path, PathBuf};

use crate::common::Room;

/// The string literals of a source file, without those of its tests.
fn literals(source: &str) -> Vec<String> {
    let source = source.split("#[cfg(test)]").next().unwrap();
    let (mut found, mut rest) = (Vec::new(), source);
    while let Some(at) = rest.find(['"', '/', '\'']) {
        let here = &rest[at..];
        let skipped = if here.starts_with("//") {
            here.find('\n').unwrap_or(here.len())
        } else if here.starts_with("'\"'") || here.starts_with("'\\\"") {
            3
        } else if let Some(text) = here.strip_prefix('"') {
            let mut escaped = false;
            let is_end = |c: char| {
                let end = c == '"' && !escaped;
                escaped = c == '\\' && !escaped;
                end
            };
            let length = text.find(is_end).unwrap_or(text.len());
            found.push(text[..length].to_owned());
            length + 2
        } else {
            1
        };
        rest = &rest[at + skipped..];
    }
    found
}

fn sources(folder: &Path, into: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, into);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            into.push(path);
        }
    }
}

#[test]
fn all_that_people_read_is_in_one_file_and_in_one_style() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut files = Vec::new();
    for part in ["cli/src", "core/src"] {
        sources(&crates.join(part), &mut files);
    }
    files.sort();
    let (mut page, mut messages) = (Vec::new(), 0);
    for file in files.iter().filter(|file| !file.ends_with("saltmere.rs")) {
        let source = fs::read_to_string(file).unwrap();
        let prose = literals(&source).into_iter().filter(|text| text.split(' ').count() > 2);
        let prose: Vec<_> = prose.collect();
        if !prose.is_empty() {
            page.push(format!("\n== {}", file.strip_prefix(crates).unwrap().display()));
        }
        for text in prose {
            let is_message = source.contains(&format!("#[error(\"{text}\""))
                || source.contains(&format!("#[error(\n        \"{text}\""));
            if is_message {
                messages += 1;
                let small = !text.starts_with(|c: char| c.is_uppercase() && c.is_alphabetic());
                assert!(small && !text.ends_with('.'), "{}: {text}", file.display());
            }
            page.push(text.replace("\\n", "\n"));
        }
    }
    assert!(messages > 30, "{messages}");
    let room = Room::new();
    let commands = [
        "copy",
        "mirror",
        "move",
        "verify",
        "explain",
        "execute",
        "undo",
        "drives",
        "demo",
        "completions",
        "help",
    ];
    let topics = ["selection", "safety", "drives", "exit-codes", "json", "examples"];
    page.push(room.run("--help").out);
    for topic in commands.iter().chain(&topics) {
        let help = room.run(&format!("help {topic}"));
        assert_eq!(help.code, 0, "{topic}");
        page.push(format!("\n== utter help {topic}\n{}", help.out));
    }
    let file = Path::new(env!("CARGO_TARGET_TMPDIR")).join("language.txt");
    fs::write(&file, page.join("\n")).unwrap();
    println!("all that people read: {}", file.display());
}
