//! Guarantee: every option of the command line does what its help says; a defined option that is not tried here
//! fails the test.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::time::SystemTime;

use crate::common::{Room, set_time};

/// What a command must result in.
enum Then {
    /// The exit code, and a text on stdout.
    Out(i32, &'static str),
    /// The exit code, and a text on stderr.
    Err(i32, &'static str),
    /// It succeeds, this path exists, and that one does not.
    There(&'static str, &'static str),
}

use Then::{Err, Out, There};

const TRIED: &[(&str, Then)] = &[
    ("copy --inside saltmere new", There("new/saltmere/lens.svg", "new/lens.svg")),
    ("copy --exclude *.csv saltmere new", There("new/lens.svg", "new/tide.csv")),
    ("copy --rules night.rules saltmere new", There("new/tide.csv", "new/lens.svg")),
    ("copy --only *.csv saltmere new", There("new/logbooks/1931.csv", "new/lens.svg")),
    ("copy --ignore-case --exclude TIDE.* saltmere new", There("new/lens.svg", "new/tide.csv")),
    ("copy --size 1K.. saltmere new", There("new/long.wav", "new/lens.svg")),
    ("copy --age ..5d saltmere new", There("new/today.csv", "new/tide.csv")),
    ("copy --dated ..2001-12-31 saltmere new", There("new/tide.csv", "new/today.csv")),
    ("copy --kind folder saltmere new", There("new/logbooks/", "new/lens.svg")),
    ("copy --folders-only saltmere new", There("new/empty/", "new/lens.svg")),
    ("copy --hidden no saltmere new", There("new/lens.svg", "new/.prices")),
    ("copy --skip-litter saltmere new", There("new/lens.svg", "new/Thumbs.db")),
    ("copy --skip-caches saltmere new", There("new/lens.svg", "new/cache/")),
    ("copy --depth 1 saltmere new", There("new/logbooks/", "new/logbooks/1931.csv")),
    ("copy --no-empty-folders saltmere new", There("new/logbooks/", "new/empty/")),
    ("copy --same-drive saltmere new", There("new/lens.svg", "")),
    ("mirror --cross-drives saltmere keeper", There("keeper/lens.svg", "keeper/old.csv")),
    ("mirror --drop-unselected --exclude /lens.svg saltmere keeper", There("", "keeper/lens.svg")),
    ("verify --by presence saltmere same", Out(0, "nothing else was compared")),
    ("copy --dry-run --all-attributes saltmere same", Out(0, "tide.csv · extended attributes")),
    ("verify --time-slack 1h saltmere late", Out(0, "Identical")),
    ("copy --leave-newer saltmere keeper", Out(0, "Left alone: 1 file newer")),
    ("mirror --steps add saltmere keeper", There("keeper/tide.csv", "")),
    ("copy --dry-run --carry content saltmere rights", Out(0, "Nothing to do")),
    ("copy --carry-strictly saltmere new", There("new/lens.svg", "")),
    ("copy --dry-run saltmere new", Out(0, "Dry run: nothing was touched.")),
    ("copy --ask saltmere new", Err(2, "--ask needs a terminal")),
    ("mirror --yes saltmere keeper", There("keeper/tide.csv", "keeper/old.csv")),
    ("copy --require-drive nowhere saltmere new", Err(4, "the guard 'drive'")),
    ("mirror --set-aside aside saltmere keeper", Out(0, "Undo this run: utter undo aside/")),
    (
        "mirror --set-aside aside --set-aside-keep 1 saltmere keeper",
        There("aside/", "aside/2020-01-31T00-00-00Z/"),
    ),
    ("mirror --waive empty-source,removals empty keeper", There("", "keeper/old.csv")),
    ("copy -n --save-plan plan saltmere new", There("plan", "new/")),
    ("mirror --removal-limit 0 saltmere keeper", Err(4, "the guard 'removals'")),
    ("mirror --remove-first saltmere keeper", There("keeper/tide.csv", "keeper/old.csv")),
    ("execute --all-or-nothing overtaken.plan", Err(4, "--all-or-nothing was given")),
    ("copy --workers 3 saltmere new", There("new/lens.svg", "")),
    ("copy --retries 0 --retry-wait 5ms saltmere new", There("new/lens.svg", "")),
    ("copy --gentle saltmere new", There("new/lens.svg", "")),
    ("copy --cache drop saltmere new", There("new/long.wav", "")),
    ("copy --flush each saltmere new", There("new/lens.svg", "")),
    ("copy --rate 1M saltmere new", There("new/long.wav", "")),
    ("copy --read-back saltmere new", There("new/long.wav", "")),
    ("copy --run-before false saltmere new", Err(4, "--run-before 'false' failed")),
    ("copy --run-after ./after saltmere new", There("code-0", "")),
    ("copy --wait-for-drive 10m saltmere new", There("new/lens.svg", "")),
    ("verify --sample 100% --carry content saltmere same", Out(0, "all of them")),
    ("verify --from-drive --carry content saltmere same", Out(0, "agree in every byte")),
    ("verify --ignore-extra --by size saltmere more", Out(0, "Not counted: 1 entry")),
    ("verify --limit 1 saltmere keeper", Out(1, "more\n")),
    ("verify --suggest saltmere keeper", Out(1, "To make them identical: utter mirror ")),
    ("copy --format json saltmere new", Out(0, "{\"kind\":\"head\"")),
    ("copy --progress lines --flush end saltmere new", Err(0, "flushing to the drive")),
    ("copy --log night.log saltmere new", There("night.log", "")),
    ("copy --log logs/{date}.log --log-keep 1 saltmere new", There("logs/", "logs/2020-01-31.log")),
    ("copy --quiet saltmere new", Out(0, "")),
    ("copy --color always saltmere new", Out(0, "\u{1b}[1mCopied")),
    ("copy --verbose saltmere new", Out(0, "add      lens.svg")),
    ("move --leave-folders saltmere new", There("saltmere/logbooks/", "saltmere/tide.csv")),
    ("move --on-conflict newer saltmere keeper", Err(3, "choose with --on-conflict")),
    ("undo --discard-older 30d --yes", Out(0, "1 run, 4.0 KiB in all")),
    ("undo --discard nowhere", Err(2, "is not the folder of a set-aside run")),
    ("undo --show nowhere", Err(2, "nowhere")),
    ("undo --only *.csv nowhere", Err(2, "nowhere")),
    ("jobs --jobs utter.toml", Out(0, "night.rules")),
    ("run --jobs utter.toml --all", There("new/tide.csv", "new/lens.svg")),
    ("run --jobs utter.toml --tag night", There("new/tide.csv", "newer/")),
    ("run --jobs utter.toml --queue --within 00:00..23:59 papers", There("new/tide.csv", "newer/")),
    ("copy --within 00:00..23:59 saltmere new", There("new/lens.svg", "")),
    ("copy --no-record saltmere new", There("new/lens.svg", "")),
    ("copy --on-problem ./after nowhere new", Err(2, "nowhere")),
    ("copy --expect-entries 99 saltmere new", Err(4, "and at least 99 were expected")),
    ("copy --hook-limit 1m --on-success true saltmere new", There("new/lens.svg", "")),
    ("copy --on-success ./after saltmere new", There("code-0", "")),
    ("copy --metrics {job}.prom saltmere new", There("copy.prom", "")),
    ("copy --mount saltmere label=nowhere-at-all/new", Err(7, "cannot mount LABEL=nowhere-at-all")),
    ("history --last", Out(0, "Last run: 1, copy to ")),
    ("history --job papers --limit 2", Out(0, "no recorded run matches")),
    ("history --outcome not-ok --since 7d", Out(0, "no recorded run matches")),
    ("history --destination older", Out(0, "succeeded")),
    ("history --destination old", Out(0, "no recorded run matches")),
    ("history --path older/long.wav", Out(0, "add ")),
    ("history 1 --find replace --page 1", Out(0, "replace  lens.svg")),
    ("history 1 --find wav", Out(0, "add      long.wav")),
    ("schedule --jobs utter.toml --at hourly papers", Out(0, "OnCalendar=*-*-* 00/1:00:00")),
    ("schedule --jobs utter.toml --at hourly --cron papers", Out(0, "0 * * * * ")),
    (
        "schedule --jobs utter.toml --at hourly --install --into units papers",
        There("units/utter-papers.timer", ""),
    ),
    ("schedule --jobs utter.toml --remove --into units papers", Err(2, "nothing is scheduled")),
    ("help json --schema", Out(0, "\"$schema\"")),
    ("help man --out man1", There("man1/utter-copy.1", "")),
];

const JOBS: &str = r#"
[defaults]
rules = "night.rules"
[job.papers]
command = "copy"
source = "saltmere"
destination = "new"
tags = ["night"]
[job.others]
command = "copy"
source = "saltmere"
destination = "newer"
"#;

fn room() -> Room {
    let room = Room::new().with("night.rules", "# drawings\n*.svg\n").with("after", "#!/bin/sh\n");
    room.write("after", "#!/bin/sh\n: > code-$UTTER_EXIT_CODE\n");
    fs::set_permissions(room.path("after"), fs::Permissions::from_mode(0o755)).unwrap();
    let copies = ["saltmere", "same", "late", "rights", "more"];
    for tree in copies {
        room.write(&format!("{tree}/lens.svg"), "<svg/>");
        room.write(&format!("{tree}/tide.csv"), "1,2,3");
        room.write(&format!("{tree}/logbooks/1931.csv"), "lit");
        room.write(&format!("{tree}/long.wav"), &"~".repeat(2000));
        room.write(&format!("{tree}/.prices"), "3");
        room.write(&format!("{tree}/empty/"), "");
        room.write(&format!("{tree}/Thumbs.db"), "litter");
        room.write(
            &format!("{tree}/cache/CACHEDIR.TAG"),
            "Signature: 8a477f597d28d172789f06886806bc55\n",
        );
        room.write(&format!("{tree}/today.csv"), "new");
        let today = fs::File::open(room.path(&format!("{tree}/today.csv"))).unwrap();
        let now = SystemTime::now();
        today.set_modified(now - std::time::Duration::from_secs(3600)).unwrap();
        for folder in ["logbooks", "empty", "cache", ""] {
            set_time(&room.path(&format!("{tree}/{folder}")), 1_000_000_000);
        }
    }
    let today = fs::metadata(room.path("saltmere/today.csv")).unwrap().modified().unwrap();
    for tree in &copies[1..] {
        fs::File::open(room.path(&format!("{tree}/today.csv")))
            .unwrap()
            .set_modified(today)
            .unwrap();
    }
    set_time(&room.path("late/tide.csv"), 1_000_001_000);
    fs::set_permissions(room.path("rights/tide.csv"), fs::Permissions::from_mode(0o600)).unwrap();
    room.write("more/extra.csv", "extra");
    set_time(&room.path("more"), 1_000_000_000);
    // Long after the source was last changed, somebody gave the copy an attribute.
    std::thread::sleep(std::time::Duration::from_millis(20));
    xattr::set(room.path("same/tide.csv"), "user.keeper", b"three").unwrap();
    room.write("keeper/lens.svg", "<svg></svg>");
    room.write("keeper/old.csv", "old");
    set_time(&room.path("keeper/lens.svg"), 1_500_000_000);
    room.write("empty/", "");
    room.write("utter.toml", JOBS);
    room.write("logs/2020-01-31.log", "of long ago");
    // A run of long ago.
    room.write("older/lens.svg", "<svg></svg>");
    assert_eq!(room.run("copy --set-aside aside --quiet saltmere older").code, 0);
    for name in room.list("aside").into_iter().filter(|name| !name.contains("Z/l")) {
        let old = if name.ends_with('/') { "" } else { ".notes" };
        let old = format!("aside/2020-01-31T00-00-00Z{old}");
        fs::rename(room.path("aside").join(name.trim_end_matches('/')), room.path(&old)).unwrap();
    }
    let plan = "copy -n --save-plan overtaken.plan saltmere keeper --quiet";
    assert_eq!(room.run(plan).code, 0);
    room.write("keeper/lens.svg", "written since");
    set_time(&room.path("keeper/lens.svg"), 1_500_000_000);
    room
}

#[test]
fn every_option_does_what_it_says() {
    for (line, then) in TRIED {
        let room = room();
        let ran = room.run(line);
        let is_there = |path: &str| room.path(path).symlink_metadata().is_ok();
        match then {
            Out(code, text) => {
                assert_eq!(ran.code, *code, "{line}: {ran:?}");
                let says =
                    if text.is_empty() { ran.out.is_empty() } else { ran.out.contains(text) };
                assert!(says, "{line}: {ran:?}");
            }
            Err(code, text) => {
                assert_eq!(ran.code, *code, "{line}: {ran:?}");
                assert!(ran.err.contains(text), "{line}: {ran:?}");
            }
            There(path, other) => {
                assert_eq!(ran.code, 0, "{line}: {ran:?}");
                assert!(path.is_empty() || is_there(path), "{line} lacks {path}: {ran:?}");
                assert!(other.is_empty() || !is_there(other), "{line} has {other}: {ran:?}");
            }
        }
    }
}

#[test]
fn no_option_is_left_untried() {
    let room = Room::new();
    let commands = room.run("--help").out;
    let commands = commands.lines().skip_while(|line| !line.starts_with("Commands:")).skip(1);
    let commands: Vec<_> = commands.map_while(|line| line.split_whitespace().next()).collect();
    assert!(commands.len() >= 10, "{commands:?}");
    let mut options = BTreeSet::new();
    for command in commands {
        let help = room.run(&format!("help {command}"));
        assert_eq!(help.code, 0, "{command}: {help:?}");
        let starts = help.out.lines().map(|line| {
            line.trim_start()
                .trim_start_matches("-n, ")
                .trim_start_matches("-q, ")
                .trim_start_matches("-v, ")
        });
        let names = starts.filter_map(|line| line.strip_prefix("--"));
        options.extend(names.map(|name| {
            let is_end = |c: char| !c.is_ascii_lowercase() && c != '-';
            name.split(is_end).next().unwrap().to_owned()
        }));
    }
    assert!(options.len() > 50, "{options:?}");
    let tried = |option: &String| {
        TRIED.iter().any(|(line, _)| line.split(' ').any(|word| word == format!("--{option}")))
    };
    let untried: Vec<_> = options.iter().filter(|option| !tried(option)).collect();
    assert!(untried.is_empty(), "rows in TRIED are missing: {untried:?}");
}
