//! Guarantee: every run leaves a record of what it reported; a killed run is shown as cut short, with what it had
//! done; no failure of a record changes a run; and every change to a path is found again.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::{Ran, Room};
use serde_json::Value;

const RECORDS: &str = "state/utter-echo/records";

fn lines(ran: &Ran) -> Vec<Value> {
    ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

/// All records, the newest first.
fn history(room: &Room, options: &str) -> Vec<Value> {
    let ran = room.run(&format!("history --format json {options}"));
    assert_eq!(ran.code, 0, "{ran:?}");
    lines(&ran).into_iter().filter(|line| line["kind"] == "past-run").collect()
}

fn saltmere() -> Room {
    Room::new()
        .with("saltmere/lens.svg", "<svg/>")
        .with("saltmere/logbooks/1931.csv", "lit at dusk, out at dawn")
        .with("saltmere/logbooks/1932.csv", "lit at dusk")
        .with("keeper/lens.svg/in the way", "a folder")
        .with("keeper/old/ledger.csv", "old")
}

/// A bar tells of how many entries it has scanned some: those that the run before left.
/// Kinds, fields and words, and what version 2 had for them.
const VERSION_2: [(&str, &str); 15] = [
    ("\"version\":3", "\"version\":2"),
    ("\"kind\":\"run-started\"", "\"kind\":\"began\""),
    ("\"kind\":\"run-ended\"", "\"kind\":\"closed\""),
    ("\"kind\":\"note\",\"code\"", "\"kind\":\"note\",\"about\""),
    ("\"verb\":\"remove\",\"side\":\"source\"", "\"verb\":\"vacate\""),
    ("\"left_in_destination\"", "\"kept\""),
    ("\"run_totals\"", "\"run\""),
    ("\"left_newer\"", "\"spared_newer\""),
    ("\"left_source\"", "\"vacate\""),
    ("\"journal_only\"", "\"notes_only\""),
    ("\"result\"", "\"says\""),
    ("\"job_file\"", "\"jobs\""),
    ("\"exit_code\"", "\"code\""),
    ("\"succeeded\"", "\"well\""),
    ("\"invalid\"", "\"wrong\""),
];

#[test]
fn records_of_version_2_are_read_like_those_of_today() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("saltmere/fog.wav", "~~~");
    let room = room.with("outbox/order.csv", "3 kites").with("keeper/extra.csv", "x").with(
        "utter.toml",
        "[job.papers]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"a/b\"\n\
         [job.lost]\ncommand = \"copy\"\nsource = \"nowhere\"\ndestination = \"lost\"\n",
    );
    room.run("mirror --set-aside aside --exclude fog.* --yes saltmere keeper");
    room.run("move --steps all,-rename outbox archive");
    room.run("verify --exclude fog.* saltmere keeper");
    room.run("run --all --jobs utter.toml");
    let calls = ["history", "history 1", "history 2", "history 3", "history 4", "history 5"];
    let calls = calls.into_iter().chain([
        "history --outcome not-ok",
        "history --job papers",
        "history --path archive/order.csv",
        "history --path keeper/lens.svg",
    ]);
    let calls = calls.map(|call| format!("{call} --format json"));
    // As JSON it tells of the space on the drive, which changes.
    let calls: Vec<_> = calls.chain(["status --jobs utter.toml --format csv".into()]).collect();
    let all = || -> Vec<_> { calls.iter().map(|call| room.run(call).out).collect() };
    let today: Vec<String> = all();
    let mut seen = String::new();
    let mut translated = |text: &str| {
        seen.push_str(text);
        VERSION_2.iter().fold(text.to_owned(), |text, (new, old)| text.replace(new, old))
    };
    for name in room.list(RECORDS).iter().filter(|name| name.contains(".jsonl")) {
        let path = room.path(RECORDS).join(name);
        let text = zstd::decode_all(&*fs::read(&path).unwrap()).unwrap();
        let text = translated(&String::from_utf8(text).unwrap());
        fs::write(&path, zstd::encode_all(text.as_bytes(), 0).unwrap()).unwrap();
    }
    let index = room.path(RECORDS).join("index");
    fs::write(&index, translated(&fs::read_to_string(&index).unwrap())).unwrap();
    for (new, _) in VERSION_2 {
        assert!(seen.contains(new), "no record has {new}");
    }
    // The head is printed as it was written.
    let again =
        all().iter().map(|out| out.replace("\"version\":2", "\"version\":3")).collect::<Vec<_>>();
    for (call, (today, again)) in calls.iter().zip(today.iter().zip(&again)) {
        assert_eq!(today, again, "{call}");
    }
}

#[test]
fn the_next_run_scans_what_a_run_leaves() {
    let room = Room::new()
        .with("saltmere/lens.svg", "<svg/>")
        .with("saltmere/logbooks/1931.csv", "lit at dusk, out at dawn")
        .with("keeper/ledger.csv", "old");
    let looked_at = |room: &Room, sides: &str| {
        assert_eq!(room.run(&format!("verify --by content {sides}")).code, 1);
        history(room, "--limit 1")[0]["closed"]["left"].clone()
    };
    for (line, sides) in [
        ("copy saltmere keeper", "saltmere keeper"),
        ("mirror --yes --steps all,-add saltmere keeper", "saltmere keeper"),
        ("move --leave-folders saltmere keeper", "saltmere keeper"),
    ] {
        room.write(&format!("saltmere/{}.csv", line.len()), "new");
        assert_eq!(room.run(line).code, 0, "{line}");
        let left = history(&room, "--limit 1")[0]["closed"]["left"].clone();
        room.write("saltmere/mars.csv", "1");
        let looked_at = looked_at(&room, sides);
        let entries = |of: &Value| of["entries"].as_u64().unwrap();
        // One file was added meanwhile.
        assert_eq!(entries(&left) + 1, entries(&looked_at), "{line}");
        fs::remove_file(room.path("saltmere/mars.csv")).unwrap();
        assert_eq!(left["bytes"], 0, "{line}");
    }
}

#[test]
fn a_record_holds_what_the_run_reported() {
    let room = saltmere();
    let mut number = 0;
    for line in [
        "copy saltmere keeper",
        "mirror --yes --waive removals,nesting --set-aside aside saltmere keeper",
        "mirror --yes saltmere keeper",
        "verify --exclude *.svg saltmere keeper",
        "verify saltmere aside",
        "copy --dry-run --save-plan plan saltmere fourth",
        "execute plan",
        "mirror --removal-limit 0 empty keeper",
        "mirror --removal-limit 0 saltmere/logbooks keeper",
        "move saltmere/logbooks third",
        "copy nowhere fifth",
    ] {
        room.write("empty/", "");
        let ran = room.run(&format!("{line} --format json"));
        let told = lines(&ran);
        if line.contains("--dry-run") {
            continue;
        }
        number += 1;
        let recorded = &history(&room, "")[0];
        assert_eq!(
            (&recorded["run"], &recorded["closed"]["exit_code"]),
            (&number.into(), &ran.code.into()),
            "{line}"
        );
        let again = lines(&room.run(&format!("history {number} --format json")));
        assert_eq!(again[1], *recorded, "{line}");
        // Its own head and totals, and the first and last line of the record, stand around what was told.
        let inner = again[2..again.len() - 1].iter();
        let inner =
            inner.filter(|line| line["kind"] != "run-started" && line["kind"] != "run-ended");
        let text = |lines: &mut dyn Iterator<Item = &Value>| -> Vec<String> {
            let mut all: Vec<String> = lines.map(ToString::to_string).collect();
            all.sort();
            all
        };
        assert_eq!(text(&mut inner.into_iter()), text(&mut told.iter()), "{line}");
    }
    let undone = room.list("state/utter-echo/moves").into_iter().find(|name| name.ends_with("Z/"));
    let undone = format!("state/utter-echo/moves/{}", undone.unwrap());
    assert_eq!(room.run(&format!("undo {undone}")).code, 0);
    assert_eq!(history(&room, "--limit 1")[0]["command"], "undo");
    let listed: Vec<_> = history(&room, "").iter().map(|run| run["outcome"].clone()).collect();
    let expected = [
        "succeeded",
        "invalid",
        "succeeded",
        "refused",
        "refused",
        "succeeded",
        "different",
        "succeeded",
        "succeeded",
        "succeeded",
        "problems",
    ];
    assert_eq!(listed, expected);
    // As text, the verdict and the totals are those of the run.
    let shown = room.run("history 4");
    assert!(shown.out.contains("\nIdentical: "), "{shown:?}");
    let shown = room.run("history 1");
    assert!(shown.out.contains("problem  lens.svg: "), "{shown:?}");
    assert!(shown.out.contains("\nPartly done: saltmere → keeper in "), "{shown:?}");
    assert_eq!(shown.err, "");
    let missing = room.run("history 99");
    assert_eq!(missing.code, 2, "{missing:?}");
}

#[test]
fn the_history_of_a_path_is_found_by_any_of_its_names() {
    let room = saltmere();
    let told = |path: &str| -> Vec<String> {
        let ran = room.run(&format!("history --format json --path {path}"));
        let happened = lines(&ran).into_iter().filter(|line| line["kind"] == "path-history");
        let word = |line: &Value, field: &str| line[field].as_str().unwrap_or_default().to_owned();
        happened.map(|line| format!("{} {}", line["run"], word(&line, "what"))).collect()
    };
    fs::remove_dir_all(room.path("keeper")).unwrap();
    assert_eq!(room.run("copy saltmere keeper").code, 0);
    fs::rename(room.path("saltmere/logbooks/1931.csv"), room.path("saltmere/first.csv")).unwrap();
    assert_eq!(room.run("mirror --yes saltmere keeper").code, 0);
    assert_eq!(room.run("copy --inside saltmere archive").code, 0);
    assert_eq!(room.run("move keeper/logbooks attic").code, 0);
    assert_eq!(told("keeper/logbooks/1931.csv"), ["4 rename", "2 rename", "1 add"]);
    assert_eq!(told("keeper/first.csv"), ["2 rename"]);
    // Nothing happened to what was read.
    assert_eq!(told("saltmere/first.csv"), Vec::<String>::new());
    assert_eq!(told("archive/saltmere/first.csv"), ["3 add"]);
    // It went with its folder, in one step.
    assert_eq!(told("attic/1932.csv"), ["4 rename"]);
    assert_eq!(told("nowhere"), Vec::<String>::new());
    // Whichever way leads there.
    std::os::unix::fs::symlink("archive", room.path("link")).unwrap();
    assert_eq!(room.run("copy empty link/more").code, 2);
    assert_eq!(room.run("copy saltmere link/more").code, 0);
    for path in ["link/more/first.csv", "archive/more/first.csv", "attic/../link/more/first.csv"] {
        assert_eq!(told(path), ["6 add"], "{path}");
    }
    let csv = room.run("history --format csv --path keeper/first.csv");
    assert!(
        csv.out.starts_with("run,began,job,command,what,path,was,reason,outcome\n2,"),
        "{csv:?}"
    );
}

#[test]
fn a_killed_run_is_cut_short_and_its_record_holds_what_it_had_done() {
    let room = Room::new();
    for at in 0..60 {
        room.write(&format!("saltmere/{at:02}.wav"), &"~".repeat(40_000));
    }
    let mut command = room.command("copy --rate 400000 --flush none saltmere keeper");
    let mut child = command.stdout(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    let written = || fs::read_dir(room.path("keeper")).map_or(0, Iterator::count);
    while written() < 20 && begun.elapsed() < Duration::from_secs(60) {
        std::thread::sleep(Duration::from_millis(20));
    }
    assert_eq!(history(&room, "--outcome running").len(), 1);
    child.kill().unwrap();
    child.wait().unwrap();
    let run = &history(&room, "")[0];
    assert_eq!((&run["outcome"], &run["closed"]), (&"cut-short".into(), &Value::Null));
    let there: BTreeSet<String> = room.list("keeper").into_iter().collect();
    let told = lines(&room.run("history 1 --format json"));
    let told: BTreeSet<String> = told
        .iter()
        .filter(|line| line["kind"] == "step" && line["outcome"] == "done")
        .filter_map(|line| line["path"].as_str().filter(|path| !path.is_empty()).map(str::to_owned))
        .collect();
    // What it did last may not have been written down.
    assert!(told.is_subset(&there), "{told:?} {there:?}");
    assert!(told.len() >= 5, "{told:?}");
    assert_eq!(room.run("copy saltmere keeper").code, 0);
    assert_eq!(history(&room, "")[0]["outcome"], "succeeded");
}

#[test]
fn lost_records_do_not_change_a_run() {
    type Spoil = fn(&Room);
    let spoils: [(&str, Spoil); 6] = [
        ("no place for them", |room| {
            fs::remove_dir_all(room.path("state")).unwrap();
            fs::write(room.path("state"), "a file").unwrap();
        }),
        ("an index that cannot be written", |room| {
            let index = room.path(RECORDS).join("index");
            fs::remove_file(&index).unwrap();
            fs::create_dir(index).unwrap();
        }),
        ("no index", |room| fs::remove_file(room.path(RECORDS).join("index")).unwrap()),
        ("a damaged index", |room| {
            let index = room.path(RECORDS).join("index");
            let text = fs::read_to_string(&index).unwrap();
            fs::write(index, format!("no JSON\n{}", &text[..text.len() - 9])).unwrap();
        }),
        ("records cut short", |room| {
            for record in fs::read_dir(room.path(RECORDS)).unwrap() {
                let path = record.unwrap().path();
                if path.extension().is_some_and(|extension| extension == "zst") {
                    let length = fs::metadata(&path).unwrap().len();
                    fs::File::options()
                        .write(true)
                        .open(path)
                        .unwrap()
                        .set_len(length / 2)
                        .unwrap();
                }
            }
        }),
        ("records that are no records", |room| {
            fs::write(room.path(RECORDS).join("00000007-x.jsonl.zst"), "none").unwrap();
        }),
    ];
    for (what, spoil) in spoils {
        let room = saltmere();
        assert_eq!(room.run("copy saltmere keeper").code, 3);
        spoil(&room);
        let ran = room.run("copy saltmere new");
        assert_eq!(ran.code, 0, "{what}: {ran:?}");
        let has_note = ran.out.matches("the record of this run is incomplete").count();
        let is_lost = ["no place for them", "an index that cannot be written"].contains(&what);
        assert_eq!(has_note, usize::from(is_lost), "{what}: {ran:?}");
        let listed = room.run("history --format json");
        if !is_lost {
            assert_eq!(listed.code, 0, "{what}: {listed:?}");
            let listed = history(&room, "");
            assert_eq!(listed[0]["outcome"], "succeeded", "{what}: {listed:?}");
            let shown = room.run(&format!("history {}", listed.last().unwrap()["run"]));
            assert_eq!(shown.code, 0, "{what}: {shown:?}");
        }
        let found = room.run("history --path keeper/logbooks/1931.csv");
        assert!(found.code == 0 || is_lost, "{what}: {found:?}");
    }
}

#[test]
fn simultaneous_runs_have_different_numbers_and_private_records() {
    let room = saltmere();
    let children: Vec<_> = (0..8)
        .map(|at| {
            let mut command = room.command(&format!("copy saltmere new{at}"));
            command.stdout(Stdio::null()).spawn().unwrap()
        })
        .collect();
    for mut child in children {
        assert!(child.wait().unwrap().success());
    }
    let numbers: BTreeSet<u64> = history(&room, "--outcome succeeded")
        .iter()
        .map(|run| run["run"].as_u64().unwrap())
        .collect();
    assert_eq!(numbers, (1..=8).collect());
    let mode = |path: PathBuf| fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode(room.path(RECORDS)), 0o700);
    for record in room.list(RECORDS) {
        assert_eq!(mode(room.path(RECORDS).join(&record)), 0o600, "{record}");
    }
    if utter_echo_lab::is_root() {
        let job = "[records]\ngroup = \"daemon\"\n[job.a]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"a\"\n";
        room.write("utter.toml", job);
        assert_eq!(room.run("run --jobs utter.toml a").code, 0);
        assert_eq!(mode(room.path(RECORDS)), 0o750);
        let record =
            room.list(RECORDS).into_iter().find(|name| name.starts_with("00000009")).unwrap();
        assert_eq!(mode(room.path(RECORDS).join(record)), 0o640);
        room.write("utter.toml", &job.replace("daemon", "nobodys"));
        let wrong = room.run("run --jobs utter.toml a");
        assert!(wrong.err.contains("there is no group 'nobodys'"), "{wrong:?}");
    }
    let before = history(&room, "").len();
    let unrecorded = room.run("copy --no-record saltmere other");
    assert_eq!((unrecorded.code, history(&room, "").len()), (0, before));
}

#[test]
fn steps_of_a_run_are_shown_page_by_page_and_all_of_them_to_programs() {
    let room = Room::new();
    for at in 0..250 {
        room.write(&format!("saltmere/{at:03}.csv"), "lit");
    }
    assert_eq!(room.run("copy saltmere keeper").code, 0);
    let steps = |options: &str| {
        let shown = room.run(&format!("history 1 {options}"));
        assert_eq!(shown.code, 0, "{shown:?}");
        shown.out.lines().filter(|line| line.contains(".csv")).count()
    };
    let pages = ["", "--page 2", "--page 3", "--page 4", "--find 01", "--find remove"].map(steps);
    // The folder itself is a step, too; "01" is in 001, 010 to 019, 101 and 201.
    assert!(pages[0] + pages[1] + pages[2] == 250 && pages[2] < 60, "{pages:?}");
    assert_eq!(pages[3..], [0, 13, 0]);
    assert_eq!(
        [steps("--format json"), steps("--format csv"), steps("--format csv --page 4")],
        [250, 250, 0]
    );
    assert!(room.run("history 1").out.contains("steps 1 to 100 of 251; --page 2 shows the next"));
}

#[test]
fn runs_are_chosen_by_what_they_were() {
    let room = saltmere().with(
        "utter.toml",
        "[job.papers]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"new\"\n",
    );
    room.run("copy saltmere keeper");
    room.run("run --jobs utter.toml papers");
    room.run("verify saltmere new");
    let numbers = |options: &str| -> Vec<u64> {
        history(&room, options).iter().map(|run| run["run"].as_u64().unwrap()).collect()
    };
    assert_eq!(numbers(""), [3, 2, 1]);
    assert_eq!(numbers("--job papers"), [2]);
    assert_eq!(numbers("--outcome problems"), [1]);
    assert_eq!(numbers("--outcome not-ok"), [1]);
    assert_eq!(numbers("--destination new"), [3, 2]);
    assert_eq!(numbers("--limit 2"), [3, 2]);
    assert_eq!(numbers("--since 1h"), [3, 2, 1]);
    assert_eq!(numbers("--since 2100-01-01"), Vec::<u64>::new());
    assert!(room.run("history --last").out.starts_with("Last run: 3, verify to "));
    for (wrong, word) in [
        ("history --outcome good", "an outcome is one of"),
        ("history --since yesterday", "a length of time like 3d"),
        ("history 1 --job papers", "cannot be used with"),
        ("history papers", "there is no record of a run papers"),
    ] {
        let ran = room.run(wrong);
        assert_eq!(ran.code, 2, "{ran:?}");
        assert!(ran.err.contains(word), "{ran:?}");
    }
}

#[test]
fn the_folder_of_the_records_takes_no_part_wherever_it_is() {
    let room = Room::new().with("home/letter", "dear keeper");
    let run = |line: &str| {
        let mut command = room.command(line);
        crate::common::ran(
            &command.env("XDG_STATE_HOME", room.path("home/.state")).output().unwrap(),
        )
    };
    for line in ["copy home new", "mirror --yes home new", "verify home new"] {
        let ran = run(line);
        assert_eq!(ran.code, 0, "{ran:?}");
        assert!(ran.out.contains(".state/utter-echo is left out"), "{ran:?}");
    }
    assert_eq!(room.list("new"), [".state/", "letter"]);
    // In the destination it stays, whatever the source has there.
    room.write("other-home/letter", "dear keeper");
    room.write("other-home/.state/utter-echo/old", "of another machine");
    for line in
        ["mirror --yes --waive swapped other-home home", "mirror --yes --waive swapped new home"]
    {
        let ran = run(line);
        assert_eq!(ran.code, 0, "{ran:?}");
        assert!(room.path("home/.state/utter-echo/records/index").exists(), "{line}");
        assert!(!room.path("home/.state/utter-echo/old").exists(), "{line}");
        assert_eq!(run(&line.replace("mirror --yes --waive swapped", "verify")).code, 0, "{line}");
    }
    // The folder that it is in stays with it.
    assert_eq!(run("move home other").code, 0);
    assert!(room.path("home/.state/utter-echo/records").exists());
    assert!(!room.path("home/letter").exists());
}

#[test]
fn old_records_are_removed_and_the_last_ones_of_each_job_stay() {
    let file = "[records]\nkeep = \"1h\"\n[job.papers]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"new\"\n\
                [job.lost]\ncommand = \"copy\"\nsource = \"nowhere\"\ndestination = \"lost\"\n";
    let room = saltmere().with("utter.toml", file);
    for _ in 0..3 {
        room.run("run --jobs utter.toml papers lost");
    }
    room.run("copy saltmere other");
    assert_eq!(history(&room, "").len(), 7);
    // Long ago.
    let index = room.path(RECORDS).join("index");
    let text = fs::read_to_string(&index).unwrap();
    let year = history(&room, "")[0]["began"].as_str().unwrap()[..4].to_owned();
    let old = text.replace(&format!("\"began\":\"{year}"), "\"began\":\"2020");
    fs::write(&index, old).unwrap();
    for record in room.list(RECORDS).iter().filter(|name| name.contains(".zst")) {
        let (number, time) = record.split_once('-').unwrap();
        let old = format!("{number}-2020{}", &time[4..]);
        fs::rename(room.path(RECORDS).join(record), room.path(RECORDS).join(old)).unwrap();
    }
    room.run("run --jobs utter.toml papers");
    // One run alone may have a clock that is years ahead.
    assert_eq!(history(&room, "").len(), 8);
    room.run("run --jobs utter.toml papers");
    let left: Vec<u64> =
        history(&room, "").iter().map(|run| run["run"].as_u64().unwrap()).collect();
    // The new ones, the last by hand, and the last of the other job.
    assert_eq!(left, [9, 8, 7, 6]);
    let records = room.list(RECORDS).into_iter().filter(|name| name.contains(".zst")).count();
    assert_eq!(records, 4);
}
