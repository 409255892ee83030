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

/// What stands in messages for what a run fills in, by the names in the code; several names share a sample.
const SAMPLES: [(&str, &str); 27] = [
    ("path shown folder source source_path", "saltmere"),
    ("destination_path destination place echo", "/mnt/lantern/saltmere"),
    ("0 name job tag", "papers"),
    ("1 file", "logbooks"),
    ("2 at rest word other found in", "fog-signals"),
    ("key", "exclude"),
    ("option setting", "--exclude"),
    ("error cause why error:# e advice told", "permission denied"),
    ("what text left taken holds", "gull-ness"),
    (
        "count number runs removals jobs entries files needed written run process line column now",
        "12",
    ),
    ("free limit third removals done about total", "40"),
    ("unit", "entries"),
    ("all about_so_many", ""),
    ("command line does typed", "utter mirror saltmere /mnt/lantern/saltmere"),
    ("drive wanted id", "LANTERN"),
    ("pattern ending *.tmp,*.bak", "*.wav"),
    ("time day began date span took length", "02:30"),
    ("version VERSION", "4"),
    ("guard whose verb state reason outcome kind by with", "removals"),
    ("side", "source"),
    ("are theirs", "are"),
    ("BAD BAD:# FAINT FAINT:# HEADING HEADING:# style style:# heading heading:#", ""),
    ("question", "Remove 12 entries from /mnt/lantern/saltmere?"),
    ("more became dry_run places stays", ""),
    ("FORMS example value new best see", "daily 02:30"),
    ("in_source", "in the source"),
    ("in_destination", "in the destination"),
];

/// A message with samples in the place of what a run fills in.
fn with_samples(text: &str) -> String {
    let mut filled = String::new();
    let mut rest = &*text.replace("{{", "\u{1}").replace("}}", "\u{2}");
    while let Some((before, after)) = rest.split_once('{') {
        let (name, after) = after.split_once('}').unwrap_or((after, ""));
        let name = name.split(':').next().filter(|_| !name.ends_with('#')).unwrap_or(name);
        let sample = SAMPLES.iter().find(|(names, _)| names.split(' ').any(|it| it == name));
        filled += before;
        // A value without a name is a place, if it is quoted.
        let unnamed = if before.ends_with('\'') { "logbooks" } else { "…" };
        filled += sample.map_or(unnamed, |(_, sample)| sample);
        rest = after;
    }
    (filled + rest).replace('\u{1}', "{").replace('\u{2}', "}")
}

/// Files whose literals are messages, and not help, examples, keys or records.
fn has_messages(file: &Path) -> bool {
    let name = file.to_str().unwrap();
    let others =
        ["/demo/", "/help/", "/schema", "/tests", "metrics", "/form.rs", "/exact.rs", "/mod.rs"];
    !others.iter().any(|other| name.contains(other))
}

/// The page of all messages, as a reader meets them.
fn page_of_messages(crates: &Path, files: &[PathBuf]) -> String {
    let mut page = "# Messages\n\nAll messages, notes and questions, with samples in the place of what a run fills in. \
        A test writes this page from the code:\n`UTTER_MESSAGES=write cargo test language`.\n"
        .to_owned();
    for file in files.iter().filter(|file| has_messages(file)) {
        let source = fs::read_to_string(file).unwrap();
        let is_message = |text: &String| {
            let words = text.split(' ').filter(|word| word.chars().any(char::is_alphabetic));
            let is_help = text.starts_with('\\');
            // The reason why a lint is off is no message.
            let is_reason = source.contains(&format!("reason = \"{text}\""));
            words.count() > 2 && !is_help && !is_reason
        };
        let all = literals(&source).into_iter().filter(is_message);
        let lines: Vec<String> = all
            .map(|text| {
                let joined = joined(&text);
                with_samples(&joined).replace("\\n", "\n").replace("\\\"", "\"")
            })
            .map(|text| text.trim_end().to_owned())
            .collect();
        if !lines.is_empty() {
            let name = file.strip_prefix(crates).unwrap().display();
            page = format!("{page}\n## {name}\n\n```text\n{}\n```\n", lines.join("\n"));
        }
    }
    page
}

/// A literal that goes on in further lines of the code, in one line.
fn joined(text: &str) -> String {
    let mut lines = text.split("\\\n");
    let first = lines.next().unwrap_or_default().to_owned();
    lines.fold(first, |all, line| all + line.trim_start())
}

#[test]
fn the_page_of_messages_is_that_of_the_code() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut files = Vec::new();
    for part in ["cli/src", "core/src", "model/src", "drives/src", "select/src"] {
        sources(&crates.join(part), &mut files);
    }
    files.sort();
    let page = page_of_messages(crates, &files);
    let file = crates.join("../docs/messages.md");
    if std::env::var_os("UTTER_MESSAGES").is_some() {
        fs::write(&file, &page).unwrap();
    }
    let written = fs::read_to_string(&file).unwrap_or_default();
    let changed = page.lines().zip(written.lines()).find(|(now, written)| now != written);
    assert!(page == written, "write docs/messages.md anew, as it says there: {changed:?}");
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
