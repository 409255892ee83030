//! Guarantee: what options and rules files select is what is copied; `explain` shows the rule; and a rule that
//! selects nothing or cannot be read is reported with its line, and nothing is touched.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;

use crate::common::{Room, set_time};

/// Files of 2026-01-15, but for those of tide-tables, which are of 2026-03-20.
fn saltmere() -> Room {
    let room = Room::new()
        .with("saltmere/logbooks/1931.csv", "calm")
        .with("saltmere/logbooks/1931.txt", "fog")
        .with("saltmere/tide-tables/march.csv", "high, low")
        .with("saltmere/tide-tables/MARCH.CSV", "high, low")
        .with("saltmere/archive/march.csv", "old")
        .with("saltmere/.prices/stock.csv", "1")
        .with("saltmere/cache/CACHEDIR.TAG", "Signature: 8a477f597d28d172789f06886806bc55\n")
        .with("saltmere/cache/thumb.png", "x")
        .with("saltmere/Thumbs.db", "x")
        .with("saltmere/empty/", "");
    room.write("saltmere/fog-signals/long.wav", &"w".repeat(5000));
    std::os::unix::fs::symlink("1931.csv", room.path("saltmere/logbooks/latest")).unwrap();
    for path in room.list("saltmere").iter().filter(|path| !path.ends_with('/')) {
        if path != "logbooks/latest" {
            let march = path.starts_with("tide-tables");
            let time = if march { 1_773_964_800 } else { 1_768_435_200 };
            set_time(&room.path("saltmere").join(path), time);
        }
    }
    room
}

/// What is taken by a copy with these options, but for folders.
fn taken(options: &str) -> Vec<String> {
    let room = saltmere();
    let copied = room.run(&format!("copy {options} saltmere keeper"));
    assert_eq!(copied.code, 0, "{options}: {copied:?}");
    if !room.path("keeper").exists() {
        return Vec::new();
    }
    let mut found = room.list("keeper");
    // A folder counts only where nothing is in it.
    let all = found.clone();
    found.retain(|path| {
        !path.ends_with('/') || !all.iter().any(|other| other != path && other.starts_with(path))
    });
    found
}

#[test]
fn tasks_in_words_are_done() {
    let all = taken("");
    let without = |words: &[&str]| -> Vec<String> {
        all.iter().filter(|path| !words.iter().any(|w| path.contains(w))).cloned().collect()
    };
    // Only the CSV files newer than February, without the archive.
    let march = taken("--only *.csv --dated 2026-03-01.. --exclude /archive/");
    assert_eq!(march, ["tide-tables/march.csv"]);
    assert_eq!(taken("--only *.csv --ignore-case --dated 2026-03-01..").len(), 2);
    assert!(taken("--dated ..2026-01-14").is_empty());
    assert_eq!(taken("--skip-litter --skip-caches"), without(&["Thumbs.db", "cache/"]));
    assert_eq!(taken("--hidden no"), without(&[".prices"]));
    assert_eq!(taken("--size 1000..10K"), ["fog-signals/long.wav"]);
    assert_eq!(taken("--size ..1000"), without(&["long.wav", "empty/"]));
    assert_eq!(taken("--kind symlink"), ["logbooks/latest"]);
    assert_eq!(taken("--age ..1d"), ["logbooks/latest"]);
    assert_eq!(taken("--only tide-tables/ --exclude *.CSV"), ["tide-tables/march.csv"]);
    let folders = taken("--folders-only");
    assert!(folders.iter().all(|path| path.ends_with('/')) && folders.len() == 7, "{folders:?}");
    assert_eq!(taken("--depth 1 --kind file"), ["Thumbs.db"]);
}

#[test]
fn rules_come_from_files_and_the_last_that_matches_decides() {
    let room = saltmere();
    room.write("night.rules", "# not every night\n*.csv\n\n!march.csv\n/archive/\n*.nothing\n");
    let shown = room.run("copy -n --rules night.rules --exclude *.wav saltmere keeper");
    assert_eq!(shown.code, 0);
    for line in [
        "Left out by night.rules:2 '*.csv': 2 entries of the source.",
        "Left out by night.rules:5 '/archive/': 1 entry of the source.",
        "Left out by --exclude '*.wav': 1 entry of the source.",
        "note: night.rules:6 '*.nothing' matched nothing",
    ] {
        assert!(shown.out.lines().any(|told| told == line), "{line}: {shown:?}");
    }
    let explained = room.run(
        "explain --rules night.rules saltmere tide-tables/march.csv archive/march.csv logbooks/ new.csv",
    );
    let said: Vec<_> = explained.out.lines().map(str::trim_end).collect();
    assert_eq!(said[0], "taken           tide-tables/march.csv · by night.rules:4 '!march.csv'");
    assert_eq!(
        said[1],
        "left out        archive/march.csv · by night.rules:5 '/archive/', which decides about archive/"
    );
    assert_eq!(said[2], "taken           logbooks · no rule leaves it out");
    assert!(said[4].starts_with("left out        new.csv · by night.rules:2 '*.csv'; no such"));
    let survey = room.run("explain --rules night.rules saltmere");
    for line in [
        "2          5 B  left out by night.rules:2 '*.csv'",
        "2          3 B  left out by night.rules:5 '/archive/'",
        "note: night.rules:6 '*.nothing' matched nothing",
    ] {
        assert!(survey.out.contains(line), "{line}: {survey:?}");
    }
    let json = room.run("explain --rules night.rules --format json saltmere logbooks/1931.csv");
    let line: serde_json::Value = serde_json::from_str(json.out.lines().nth(1).unwrap()).unwrap();
    assert_eq!(
        (&line["decision"], &line["rule"]),
        (&"left-out".into(), &"night.rules:2 '*.csv'".into())
    );
}

#[test]
fn excluded_entries_are_removed_only_if_requested() {
    let room = saltmere();
    assert_eq!(room.run("mirror saltmere keeper").code, 0);
    let all = room.list("keeper");
    let kept = room.run("mirror --only *.csv saltmere keeper");
    assert_eq!((kept.code, room.list("keeper")), (0, all));
    let shown =
        room.run("mirror -n --only *.csv --drop-unselected --waive removals saltmere keeper");
    assert!(
        shown.out.contains("remove   Thumbs.db · 1 B · left out by the selection"),
        "{shown:?}"
    );
    // What is removed is not left.
    assert!(!shown.out.contains("left in the destination"), "{shown:?}");
    let dropped =
        room.run("mirror --only *.csv --drop-unselected --waive removals saltmere keeper");
    assert_eq!(dropped.code, 0, "{dropped:?}");
    let files = room.list("keeper");
    let expected = [
        ".prices/",
        ".prices/stock.csv",
        "archive/",
        "archive/march.csv",
        "logbooks/",
        "logbooks/1931.csv",
        "tide-tables/",
        "tide-tables/march.csv",
    ];
    assert_eq!(files, expected);
    let again = room.run("mirror -n --only *.csv --drop-unselected saltmere keeper");
    assert!(again.out.contains("Nothing to do"), "{again:?}");
}

#[test]
fn what_counts_as_changed_can_be_narrowed() {
    let room = Room::new()
        .with("source/newer.txt", "new text")
        .with("source/older.txt", "old text")
        .with("source/missing.txt", "m")
        .with("echo/newer.txt", "old")
        .with("echo/older.txt", "worked on")
        .with("echo/extra.txt", "e");
    for (name, here, there) in
        [("newer.txt", 2_000_000, 1_000_000), ("older.txt", 1_000_000, 2_000_000)]
    {
        set_time(&room.path("source").join(name), here);
        set_time(&room.path("echo").join(name), there);
    }
    let filled = room.run("mirror --steps add source echo");
    assert!(
        filled.out.contains("Left alone, because of --steps, --carry or another name of the same file: 3 differences."),
        "{filled:?}"
    );
    assert_eq!(room.list("echo"), ["extra.txt", "missing.txt", "newer.txt", "older.txt"]);
    assert_eq!(room.read("echo/newer.txt"), "old");
    let kept = room.run("mirror --leave-newer --steps replace,adjust source echo");
    assert!(kept.out.contains("Left alone: 1 file newer than in the source."), "{kept:?}");
    assert_eq!(
        (room.read("echo/newer.txt"), room.read("echo/older.txt")),
        ("new text".into(), "worked on".into())
    );
    // Somebody's clock runs ahead.
    let ahead = std::time::SystemTime::now() + std::time::Duration::from_secs(7260);
    fs::File::open(room.path("echo/older.txt")).unwrap().set_modified(ahead).unwrap();
    let told = room.run("copy -n source echo");
    assert!(told.out.contains("the times of 1 file in the destination are up to 2 h"), "{told:?}");
}

#[test]
fn wrong_selections_are_reported_with_their_place() {
    let room = saltmere();
    room.write("bad.rules", "*.wav\n\nlogs/[0-9\n");
    fs::write(room.path("bytes.rules"), b"caf\xe9\n").unwrap();
    let own = room.path("saltmere").display().to_string();
    for (call, code, word) in [
        ("copy --rules bad.rules saltmere keeper", 2, "bad.rules:3 'logs/[0-9': '[' is not closed"),
        ("copy --rules bad.rules saltmere keeper", 2, "(column 6)"),
        ("copy --rules bytes.rules saltmere keeper", 2, "cannot read the rules 'bytes.rules'"),
        ("copy --rules nowhere saltmere keeper", 2, "cannot read the rules 'nowhere'"),
        ("copy --exclude /logs/../x saltmere keeper", 2, "no path contains '.' or '..'"),
        ("copy --exclude /usr/lib saltmere keeper", 2, "is a path from the top of the system"),
        (&format!("copy --exclude {own}/logbooks saltmere keeper"), 2, "that is '/logbooks'"),
        ("copy --exclude logs//x saltmere keeper", 2, "no path contains '//'"),
        ("copy --exclude ! saltmere keeper", 2, "does not name anything"),
        ("copy --size 9999999T.. saltmere keeper", 2, "a number of bytes"),
        ("copy --size 1M saltmere keeper", 2, "'1M..' means at least that"),
        ("copy --size 2M..1M saltmere keeper", 2, "must not be greater"),
        ("copy --age 99999999w.. saltmere keeper", 2, "a length of time"),
        ("copy --dated 2026-02-30.. saltmere keeper", 2, "is not a date like"),
        ("copy --kind disk saltmere keeper", 2, "'disk' is not a kind"),
        ("copy --steps erase saltmere keeper", 2, "'erase' is not a kind of step"),
        ("copy --drop-unselected saltmere keeper", 2, "it is an option of 'utter mirror'"),
        ("explain saltmere ../keeper", 2, "is not in 'saltmere'"),
        ("explain nowhere", 2, "is not an existing folder"),
    ] {
        let refused = room.run(call);
        assert_eq!(refused.code, code, "{call}: {refused:?}");
        assert!(refused.err.contains(word), "{call}: {refused:?}");
        assert!(!room.path("keeper").exists(), "{call}");
    }
}

#[test]
fn a_tree_of_more_levels_than_handles_is_explained() {
    let room = Room::new().with(&"a/".repeat(200), "");
    let mut shell = std::process::Command::new("sh");
    let line = format!("ulimit -n 48; exec {} explain a", crate::common::UTTER);
    shell.args(["-c", &line]).current_dir(room.path(""));
    let explained = crate::common::ran(&shell.output().unwrap());
    assert_eq!(explained.code, 0, "{explained:?}");
    assert!(explained.out.contains("200"), "{explained:?}");
}
