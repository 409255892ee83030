//! Guarantee: a run reports what it did, in text, in JSON and by its exit code.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::{NOBODY, Room, ran};
use serde_json::Value;
use utter_echo_lab::{Gardener, differences, snapshot};

fn json(text: &str) -> Vec<Value> {
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

/// The steps among JSON lines, without what became of them.
fn steps(lines: &[Value]) -> Vec<Value> {
    let steps = lines.iter().filter(|line| line["kind"] == "step").cloned();
    steps
        .map(|mut step| {
            step.as_object_mut().unwrap().remove("outcome");
            step
        })
        .collect()
}

#[test]
fn a_dry_run_lists_exactly_what_the_run_then_does_and_touches_nothing() {
    for seed in 0..12 {
        let room = Room::new().with("source/", "").with("echo/", "");
        Gardener::new(seed).grow(&room.path("source"), 50);
        Gardener::new(seed + 500).grow(&room.path("echo"), 30);
        let line = "mirror source echo --by content --removal-limit 100% --format json";
        let before = (snapshot(&room.path("source")), snapshot(&room.path("echo")));
        let dry = room.run(&format!("{line} --dry-run"));
        let after = (snapshot(&room.path("source")), snapshot(&room.path("echo")));
        assert_eq!(before, after, "seed {seed}: the dry run touched something");
        let wet = room.run(line);
        assert_eq!((dry.code, wet.code), (0, 0), "seed {seed}: {wet:?}");
        let (dry, wet) = (json(&dry.out), json(&wet.out));
        assert!(steps(&dry).len() > 5);
        assert_eq!(steps(&dry), steps(&wet), "seed {seed}");
        assert!(wet.iter().filter(|l| l["kind"] == "step").all(|l| l["outcome"] == "done"));
        // The listing against what really happened, read without our own code.
        let now = snapshot(&room.path("echo"));
        let mut told: BTreeMap<Vec<u8>, &str> = BTreeMap::new();
        for step in wet.iter().filter(|line| line["kind"] == "step") {
            told.insert(path_of(step), step["verb"].as_str().unwrap());
        }
        for path in before.1.keys().chain(now.keys()) {
            let expected = match (before.1.get(path), now.get(path)) {
                (Some(_), None) => vec!["remove"],
                (None, Some(_)) => vec!["add"],
                (old, new) if old == new => continue,
                // What is now another name of a file shows it only in its group.
                _ => vec!["replace", "adjust"],
            };
            let same_group = before.1.get(path).is_some_and(|f| f.same_as.is_some());
            let verb = told.get(path).copied().unwrap_or("none");
            assert!(
                expected.contains(&verb) || (same_group && verb == "none"),
                "seed {seed}: {:?} is told as {verb}, and was {expected:?}",
                String::from_utf8_lossy(path)
            );
        }
    }
}

fn path_of(line: &Value) -> Vec<u8> {
    use base64::Engine as _;
    match line.get("path_base64") {
        Some(exact) => {
            base64::engine::general_purpose::STANDARD.decode(exact.as_str().unwrap()).unwrap()
        }
        None => line["path"].as_str().unwrap().as_bytes().to_vec(),
    }
}

#[test]
fn text_output_is_as_documented() {
    let room = Room::new()
        .with("saltmere/tides.csv", "high\nlow\n")
        .with("saltmere/flash.sh", "#!/bin/sh\n")
        .with("saltmere/logbook/1923.txt", "fog\n")
        .with("echo/tides.csv", "high\n")
        .with("echo/flash.sh", "#!/bin/sh\n")
        .with("echo/logbook/", "")
        .with("echo/old/list.csv", "x");
    fs::set_permissions(room.path("saltmere/flash.sh"), fs::Permissions::from_mode(0o755)).unwrap();
    for folder in ["saltmere/logbook", "saltmere", "echo/logbook", "echo/old", "echo"] {
        crate::common::set_time(&room.path(folder), 1_000_000_000);
    }
    insta::assert_snapshot!(room.run("mirror saltmere echo --dry-run").out, @r"
    adjust   flash.sh · mode 644 → 755
    add      logbook/1923.txt · 4 B · new
    remove   old · not in the source
    remove   old/list.csv · 1 B · not in the source
    replace  tides.csv · 9 B · 4 B longer, same time

    Plan to mirror saltmere → echo
    add 1 (4 B) · replace 1 (9 B) · adjust 1 · remove 2 (1 B); 2 unchanged
    Dry run: nothing was touched.
    ");
    let verify = room.run("verify saltmere echo");
    assert_eq!(verify.code, 1);
    insta::assert_snapshot!(verify.out, @r"
    Only in the source: 1 entry
    missing    logbook/1923.txt · only in the source

    Only in the destination: 2 entries
    extra      old · only in the destination
    extra      old/list.csv · only in the destination

    Different: 1 entry
    differs    tides.csv · 4 B longer, same time

    Different in attributes only: 1 entry
    attributes flash.sh · mode 644 → 755

                   source  destination
    folders             2            3
    files               3            3
    links               0            0
    other entries       0            0
    bytes              23           16

    Different: 1 missing, 2 extra, 1 different, 1 in attributes only.
    ");
    let run = room.run("mirror --yes saltmere echo");
    let lines: Vec<_> = run.out.lines().collect();
    assert!(lines[0].starts_with("Mirrored saltmere → echo in "), "{run:?}");
    assert_eq!(
        lines[1..6],
        [
            "  added      1 entry, 4 B",
            "  replaced   1 entry, 9 B",
            "  adjusted   1 entry",
            "  removed    2 entries, 1 B",
            "  unchanged  2 entries, 0 B"
        ]
    );
    assert!(lines[6] == "  wrote      13 B", "{run:?}");
    assert_eq!((run.err.as_str(), lines.len()), ("", 7));
    let again = room.run("mirror saltmere echo --quiet");
    assert_eq!((again.code, again.out.as_str(), again.err.as_str()), (0, "", ""));
}

#[test]
fn a_tree_has_one_size_everywhere() {
    let room =
        Room::new().with("saltmere/logbook/1923.txt", "fog\n").with("saltmere/flash.sh", "on");
    fs::hard_link(room.path("saltmere/flash.sh"), room.path("saltmere/logbook/a.sh")).unwrap();
    let sizes = |call: &str, key: &[&str]| -> Vec<(u64, u64)> {
        let totals = json(&room.run(&format!("{call} --format json")).out).pop().unwrap();
        let count = |key: &&str| {
            let count = &totals.pointer(key).unwrap();
            let number = |name: &str| count[name].as_u64().unwrap_or_default();
            let by_kind = number("folders") + number("files") + number("links") + number("others");
            (by_kind + number("entries"), number("bytes"))
        };
        key.iter().map(count).collect()
    };
    let (source, there) = ("/plan/source", "/plan/destination");
    let one = |calls: &[(&str, &[&str])]| {
        for (call, keys) in calls {
            assert!(sizes(call, keys).iter().all(|size| *size == (5, 8)), "{call} {keys:?}");
        }
    };
    one(&[
        ("explain saltmere", &["/selection/taken"]),
        ("copy saltmere echo -n", &["/plan/add", source]),
        ("copy saltmere echo", &["/plan/add", source, "/run_totals/done/add"]),
        ("copy saltmere echo", &["/plan/unchanged", source, there]),
        ("verify saltmere echo", &["/plan/unchanged", source, there]),
    ]);
    let past = json(&room.run("history --format json").out);
    let copy = past.iter().rfind(|line| line["command"] == "copy").unwrap();
    let done = &copy["closed"]["done"];
    assert_eq!((&done["entries"], &done["bytes"]), (&5.into(), &8.into()), "{copy}");
}

#[test]
fn every_json_line_has_its_documented_fields() {
    let room = Room::new().with("source/a.txt", "a").with("echo/b.txt", "b");
    for (line, kinds) in [
        ("mirror source echo -n", vec!["head", "step", "totals"]),
        (
            "verify source echo",
            vec!["head", "found", "difference", "found", "difference", "totals"],
        ),
        ("copy source echo -n --exclude z", vec!["head", "note", "step", "rule", "totals"]),
        ("mirror source echo --exclude zzz", vec!["head", "note", "step", "totals"]),
        ("mirror source echo --removal-limit 0", vec!["head", "totals"]),
    ] {
        let ran = room.run(&format!("{line} --format json"));
        let lines = json(&ran.out);
        let mut seen: Vec<_> =
            lines.iter().map(|l| l["kind"].as_str().unwrap().to_owned()).collect();
        seen.dedup();
        assert_eq!(seen, kinds, "{line}");
        let head = &lines[0];
        assert_eq!(
            (&head["version"], &head["destination"]),
            (&Value::from(3), &Value::from("echo"))
        );
        let plan = &lines.last().unwrap()["plan"];
        for side in ["source", "destination"] {
            assert!(plan[side]["files"].is_u64() && plan[side]["bytes"].is_u64());
        }
        assert!(plan["remove"]["entries"].is_u64());
    }
    room.write("echo/c.txt", "c");
    let refused = json(&room.run("mirror source echo --removal-limit 0 --format json").out);
    let problem = &refused[refused.len() - 2];
    assert_eq!(
        (&problem["kind"], &problem["guard"]),
        (&Value::from("problem"), &Value::from("removals"))
    );
}

#[test]
fn names_that_could_play_tricks_are_spelled_out_in_text_and_exact_in_json() {
    let room = Room::new().with("source/", "");
    let names: [&[u8]; 4] = [b"a\nb", b"\x1b[2Jgone", b"not-\xff-utf8", &[b'n'; 255]];
    for name in names {
        fs::write(room.path("source").join(std::ffi::OsStr::from_bytes(name)), "x").unwrap();
    }
    let text = room.run("copy source echo -n --color always").out;
    for piece in ["a\\nb ", "\\u{1b}[2Jgone", "not-\\xff-utf8"] {
        assert!(text.contains(piece), "{piece} in {text:?}");
    }
    assert!(!text.contains("\x1b[2J"));
    let lines = json(&room.run("copy source echo --format json").out);
    let mut paths: Vec<_> = lines.iter().filter(|l| l["kind"] == "step").map(path_of).collect();
    paths.sort();
    let mut expected = vec![b"".to_vec()];
    expected.extend(names.map(<[u8]>::to_vec));
    expected.sort();
    assert_eq!(paths, expected);
    assert_eq!(differences(&snapshot(&room.path("source")), &snapshot(&room.path("echo"))), "");
}

#[test]
fn paths_longer_than_one_call_accepts_are_copied() {
    let room = Room::new().with("source/", "").with("echo/", "");
    // Thirty folders with names of 200 bytes: 6000 bytes in all, made from the inside.
    let script = r"cd source && n=$(printf 'k%.0s' $(seq 200)); for i in $(seq 30); do mkdir $n && cd $n || exit 1; done; echo deep > light";
    let made = std::process::Command::new("bash")
        .args(["-c", script])
        .current_dir(room.path("."))
        .status();
    assert!(made.unwrap().success());
    assert_eq!(room.run("copy source echo").code, 0);
    assert_eq!(room.run("verify --by content source echo").code, 0);
    assert_eq!(differences(&snapshot(&room.path("source")), &snapshot(&room.path("echo"))), "");
    room.write("empty/", "");
    let cleared = room.run("mirror empty echo --waive empty-source,removals");
    assert_eq!((cleared.code, room.list("echo").len()), (0, 0), "{cleared:?}");
}

#[test]
fn an_unreadable_entry_is_reported_and_protects_its_counterpart() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("this test needs root to become somebody without rights");
    }
    let room = Room::new();
    for name in
        ["source/open.txt", "source/closed.txt", "source/vault/gold.txt", "source/sub/a.txt"]
    {
        room.write(name, "new");
    }
    for name in ["echo/vault/gold.txt", "echo/vault/kept.txt", "echo/extra.txt"] {
        room.write(name, "old");
    }
    let everything = [
        "",
        "source",
        "source/sub",
        "source/vault",
        "echo",
        "echo/vault",
        "source/open.txt",
        "source/sub/a.txt",
        "echo/vault/gold.txt",
        "echo/vault/kept.txt",
        "echo/extra.txt",
    ];
    for name in everything {
        std::os::unix::fs::chown(room.path(name), Some(NOBODY), Some(NOBODY)).unwrap();
    }
    for closed in ["source/vault", "source/closed.txt"] {
        std::os::unix::fs::chown(room.path(closed), Some(0), Some(0)).unwrap();
        fs::set_permissions(room.path(closed), fs::Permissions::from_mode(0o700)).unwrap();
    }
    let run = room.opened_to_nobody();
    let first = run("mirror --yes source echo");
    assert_eq!(first.code, 3, "{first:?}");
    assert!(first.err.contains("vault: cannot list in the source: permission denied"), "{first:?}");
    assert!(first.err.contains("closed.txt: cannot read: permission denied"), "{first:?}");
    assert_eq!(first.err.lines().count(), 2, "{first:?}");
    let expected = ["open.txt", "sub/", "sub/a.txt", "vault/", "vault/gold.txt", "vault/kept.txt"];
    assert_eq!(room.list("echo"), expected);
    assert_eq!(room.read("echo/vault/gold.txt"), "old");
    // Somebody else's file is carried without its owner, which is said and not tried for ever.
    fs::set_permissions(room.path("source/closed.txt"), fs::Permissions::from_mode(0o644)).unwrap();
    fs::set_permissions(room.path("source/vault"), fs::Permissions::from_mode(0o755)).unwrap();
    let second = run("mirror source echo");
    assert_eq!(second.code, 0, "{second:?}");
    assert!(second.out.contains("owners are not copied"), "{second:?}");
    let third = run("mirror source echo");
    assert!(third.out.contains("Nothing to do"), "{third:?}");
    // A folder that even its owner may not write into takes changes, and stays closed.
    room.write("source/sub/b.txt", "late");
    fs::remove_file(room.path("source/sub/a.txt")).unwrap();
    for closed in ["source/sub", "echo/sub"] {
        fs::set_permissions(room.path(closed), fs::Permissions::from_mode(0o555)).unwrap();
    }
    let fourth = run("mirror source echo");
    assert_eq!(fourth.code, 0, "{fourth:?}");
    assert_eq!(room.list("echo/sub"), ["b.txt"]);
    assert_eq!(run("verify source echo --carry all,-owner").code, 0);
}

/// Gives a tree to somebody without rights.
fn give_away(root: &Path) {
    std::os::unix::fs::lchown(root, Some(NOBODY), Some(NOBODY)).unwrap();
    if root.symlink_metadata().unwrap().is_dir() {
        for entry in fs::read_dir(root).unwrap() {
            give_away(&entry.unwrap().path());
        }
    }
}

#[test]
fn an_unprivileged_run_copies_all_that_its_user_can_set() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("this test needs root to become somebody without rights");
    }
    let room = Room::new().with("source/", "").with("echo/", "");
    let run = room.opened_to_nobody();
    let source = room.path("source");
    give_away(&room.path("echo"));
    let mut gardener = Gardener::unprivileged(1888);
    gardener.grow(&source, 80);
    for _ in 0..4 {
        give_away(&source);
        let mirrored = run("mirror source echo --yes --waive removals");
        assert_eq!(mirrored.code, 0, "{mirrored:?}");
        let differences = differences(&snapshot(&source), &snapshot(&room.path("echo")));
        assert!(differences.is_empty(), "{differences}");
        let again = run("mirror source echo");
        assert!(again.out.contains("Nothing to do"), "{again:?}");
        gardener.change(&source, 25);
    }
    give_away(&source);
    run("mirror source echo --yes");
    // What only root may set is reported once, and is no difference.
    room.write("source/ledger", "of somebody else");
    let null = source.join("null");
    rustix::fs::mknodat(
        rustix::fs::CWD,
        &null,
        rustix::fs::FileType::CharacterDevice,
        rustix::fs::Mode::RUSR,
        rustix::fs::makedev(1, 3),
    )
    .unwrap();
    let mirrored = run("mirror source echo");
    assert_eq!(mirrored.code, 0, "{mirrored:?}");
    assert!(mirrored.out.contains("owners are not copied"), "{mirrored:?}");
    assert!(mirrored.out.contains("may not create them: 1 device"), "{mirrored:?}");
    assert!(run("mirror source echo").out.contains("Nothing to do"));
    let strict = run("mirror source echo --carry-strictly");
    assert_eq!(strict.code, 3, "{strict:?}");
    assert!(
        strict.err.contains("null: cannot write: the destination's drive cannot store an entry")
    );
    assert!(strict.err.contains(".: cannot copy: owner"), "{strict:?}");
}

#[test]
fn drives_are_listed_with_what_they_can_store() {
    let room = Room::new();
    let text = room.run("drives");
    assert_eq!(text.code, 0, "{text:?}");
    let root = text.out.split("\n\n").find(|part| part.starts_with("/\n")).unwrap();
    for word in ["type ", "space ", "stores ", "times "] {
        assert!(root.contains(word), "{word} is missing:\n{root}");
    }
    let one = room.run("drives .");
    assert_eq!(one.out.matches("  space ").count(), 1, "{one:?}");
    let nowhere = room.run("drives nowhere");
    assert_eq!(nowhere.code, 2, "{nowhere:?}");
    assert!(nowhere.err.contains("'nowhere' cannot be opened: no such file or directory"));
    let listed = room.run("drives --format json");
    let drives = json(&listed.out);
    let kinds: Vec<_> = drives.iter().map(|drive| drive["kind"].as_str().unwrap()).collect();
    assert_eq!((kinds[0], kinds[1], kinds[kinds.len() - 1]), ("head", "drive", "totals"));
    let root = drives.iter().find(|drive| drive["mounted_at"] == "/").unwrap();
    assert!(root["bytes"].as_u64().unwrap() >= root["bytes_free"].as_u64().unwrap());
    assert!(root["holds"].is_null() || root["holds"]["time_resolution_nanoseconds"].is_u64());
}

#[test]
fn a_rate_is_never_passed_by_more_than_five_percent() {
    // One large file and many small ones; two seconds' worth.
    let room = Room::new().with("source/large.wav", &"x".repeat(3_000_000));
    for i in 0..250 {
        room.write(&format!("source/pages/{i}.txt"), &"y".repeat(4000));
    }
    for (workers, rate) in [(1, 2_000_000.0), (4, 1_000_000.0)] {
        let line =
            format!("copy source echo-{workers} --rate {rate} --workers {workers} --format json");
        let lines = json(&room.run(&line).out);
        let run = &lines.last().unwrap()["run_totals"];
        let (bytes, seconds) =
            (run["bytes_written"].as_f64().unwrap(), run["seconds"].as_f64().unwrap());
        let share = bytes / seconds / rate;
        // How far below it stays is up to the machine.
        assert!(share <= 1.05, "{workers} workers: {share} of the rate");
    }
}

#[test]
fn ctrl_c_stops_cleanly_and_the_same_command_continues() {
    let room = Room::new().with("source/first.txt", "1").with("echo/", "");
    let large = fs::File::create(room.path("source/tone.wav")).unwrap();
    large.set_len(1 << 30).unwrap();
    let line = "copy source echo --carry all,-holes --flush none --workers 1";
    let child = room
        .command_that_hears(line)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let begun = Instant::now();
    while room.list("echo").is_empty() {
        assert!(begun.elapsed() < Duration::from_secs(60), "nothing was copied");
        std::thread::sleep(Duration::from_millis(1));
    }
    let kill = std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status();
    assert!(kill.unwrap().success());
    let stopped = ran(&child.wait_with_output().unwrap());
    assert_eq!(stopped.code, 130, "{stopped:?}");
    assert!(stopped.out.contains("Stopped. Finished files are intact"), "{stopped:?}");
    // A part of the large file is kept, under no name of its own, for the next run to go on with.
    let whole: Vec<_> =
        room.list("echo").into_iter().filter(|name| !name.starts_with(".utter-")).collect();
    assert_eq!(whole, ["first.txt"], "{stopped:?}");
    large.set_len(1 << 20).unwrap();
    assert_eq!(room.run(line).code, 0);
    assert_eq!(room.list("echo"), ["first.txt", "tone.wav"]);
}

#[test]
fn a_conflict_of_a_file_and_a_folder_is_reported_before_anything_happens() {
    let room = Room::new()
        .with("source/a", "file now")
        .with("source/b/below.txt", "folder now")
        .with("echo/a/kept.txt", "folder here")
        .with("echo/b", "file here");
    let copy = room.run("copy source echo");
    assert_eq!(copy.code, 3, "{copy:?}");
    assert!(copy.err.contains("a: cannot write: the destination has a folder"), "{copy:?}");
    assert_eq!(room.list("echo"), ["a/", "a/kept.txt", "b/", "b/below.txt"]);
    assert_eq!(room.run("mirror source echo").code, 0);
    assert_eq!(room.list("echo"), ["a", "b/", "b/below.txt"]);
}

#[test]
fn the_demo_shows_the_whole_job() {
    let room = Room::new();
    let demo = room.run("demo given");
    assert_eq!(demo.code, 0, "{demo:?}");
    assert!(demo.out.contains("Identical:"), "{demo:?}");
    let sides =
        ["saltmere", "lantern-drive/saltmere"].map(|side| snapshot(&room.path("given").join(side)));
    assert!(sides[1].len() > 50);
    assert!(!sides[1].contains_key(&b"museum-shop/till.tmp"[..]));
    assert_eq!(room.run("demo given").code, 2);
}
