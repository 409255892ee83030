//! Guarantee: a log holds what the screen shows, and why a run could not begin. Runs append to it, it is found by
//! its name, only other logs of its kind are ever removed for it, and no failure of the log changes a run.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use crate::common::Room;

/// The lines of a log without their times, which are checked.
fn told(room: &Room, log: &str) -> Vec<String> {
    let text = room.read(log);
    let lines = text.lines().map(|line| {
        let (time, told) = line.split_at("2026-01-31 23:59:59  ".len());
        let form = |(at, c): (usize, char)| match at {
            4 | 7 => c == '-',
            13 | 16 => c == ':',
            10 | 19 | 20 => c == ' ',
            _ => c.is_ascii_digit(),
        };
        assert!(time.char_indices().all(form), "{line}");
        told.to_owned()
    });
    lines.collect()
}

#[test]
fn a_log_holds_what_the_screen_shows() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("saltmere/tide.csv", "1,2");
    fs::create_dir_all(room.path("keeper/tide.csv/in the way")).unwrap();
    let ran = room.run("copy --verbose --color always --log logs/night.log saltmere keeper");
    assert_eq!(ran.code, 3, "{ran:?}");
    let log = told(&room, "logs/night.log");
    assert_eq!(log[0], "--- utter copy saltmere → keeper");
    let plain = |text: &str| anstream::adapter::strip_str(text).to_string();
    // Each in its own order, whatever the order between them is.
    let lines: Vec<_> = log[1..].iter().map(String::as_str).collect();
    let (wrong, well): (Vec<&str>, Vec<&str>) =
        lines.into_iter().partition(|line| line.starts_with("tide.csv: "));
    assert_eq!(plain(&ran.out).lines().collect::<Vec<_>>(), well);
    assert_eq!(wrong.len(), 1, "{log:?}");
    assert_eq!(plain(&ran.err), format!("utter: {}\n", wrong[0]));
    let mode = fs::metadata(room.path("logs/night.log")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    // The next run is added, with everything though the screen is told nothing.
    let quiet = room.run("verify --quiet --log logs/night.log saltmere keeper");
    assert_eq!((quiet.code, &*quiet.out), (1, ""), "{quiet:?}");
    let more = told(&room, "logs/night.log");
    assert_eq!(more[..log.len()], log);
    assert_eq!(more[log.len()], "--- utter verify saltmere → keeper");
    assert!(more.last().unwrap().starts_with("Different: "), "{more:?}");
}

#[test]
fn a_log_says_why_nothing_was_done() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>");
    for line in ["copy", "mirror", "verify"] {
        let ran = room.run(&format!("{line} --log {{job}}.log nowhere keeper"));
        assert_eq!(ran.code, 2, "{ran:?}");
        let log = told(&room, &format!("{line}.log"));
        assert!(log[1].starts_with("source 'nowhere' does not exist"), "{log:?}");
    }
    // A log that cannot be made stops nothing.
    for (log, why) in [
        ("saltmere", "note: the log 'saltmere' cannot be written: Is a directory"),
        ("label=nowhere/log", "note: the log cannot be written: no mounted drive has the label"),
    ] {
        let ran = room.run(&format!("copy --log {log} saltmere keeper"));
        assert!(ran.code == 0 && ran.out.contains(why), "{ran:?}");
        fs::remove_dir_all(room.path("keeper")).unwrap();
    }
    // A mirror would take it away.
    room.write("keeper/", "");
    std::os::unix::fs::symlink("keeper", room.path("link")).unwrap();
    for log in ["keeper/logs/{date}.log", "link/night.log"] {
        let ran = room.run(&format!("mirror --log {log} saltmere keeper"));
        assert!(ran.code == 2 && ran.err.contains("is in the destination"), "{ran:?}");
        assert!(room.list("keeper").is_empty());
    }
    assert_eq!(room.run("copy --log keeper/night.log saltmere keeper").code, 0);
}

#[test]
fn a_log_that_cannot_be_written_changes_nothing() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>");
    let ran = room.run("copy --log /dev/full saltmere keeper");
    assert_eq!(
        (ran.code, ran.err.matches("the rest of the log could not be written").count()),
        (0, 1),
        "{ran:?}"
    );
    assert_eq!(room.list("keeper"), ["lens.svg"]);
}

#[test]
fn only_old_logs_are_removed() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>");
    let others = ["papers-2020-01-31.log.old", "shop-2020-01-31.log", "papers-2020.log", "notes"];
    let old = ["papers-2019-12-31.log", "papers-2020-01-31.log", "papers-2020-02-01.log"];
    for name in old.iter().chain(&others) {
        room.write(&format!("logs/{name}"), "of long ago");
    }
    let job = "[job.papers]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"keeper\"\n";
    let logs = "log = \"logs/{job}-{date}.log\"\n";
    let runs = |keep: &str| {
        room.write("utter.toml", &format!("{job}{logs}log-keep = \"{keep}\""));
        assert_eq!(room.run("run --jobs utter.toml papers").code, 0);
        room.list("logs")
    };
    assert_eq!(runs("9").len(), 8);
    let kept = runs("2");
    assert_eq!(kept.len(), 6, "{kept:?}");
    assert!(kept.contains(&old[2].to_owned()) && !kept.contains(&old[1].to_owned()), "{kept:?}");
    let kept = runs("30d");
    assert_eq!(kept.len(), 5, "{kept:?}");
    assert!(others.iter().all(|other| kept.contains(&(*other).to_owned())), "{kept:?}");
    let refused = room.run("copy --log plain.log --log-keep 3 saltmere keeper");
    assert!(refused.code == 2 && refused.err.contains("{date} in the name"), "{refused:?}");
}
