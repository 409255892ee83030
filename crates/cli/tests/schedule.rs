//! Guarantee: installed timers start jobs when `utter schedule` says, as systemd itself reads them, exactly as if
//! started by hand; and nothing of others is touched.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;

use crate::common::{Ran, Room, ran};
use serde_json::Value;

const FILE: &str = r#"
[job.papers]
description = "100 % of the \"papers\""
command = "copy"
source = "saltmere"
destination = "lantern"
at = "weekdays 18:00"

[job."odd % $name, \"so\""]
command = "copy"
source = "saltmere"
destination = "odd"
at = "hourly"

[job.by-hand]
command = "copy"
source = "saltmere"
destination = "hand"
"#;

fn room() -> Room {
    Room::new()
        .with("odd $x % folder/saltmere/lens.svg", "<svg/>")
        .with("odd $x % folder/utter.toml", FILE)
}

/// Runs `utter schedule` in a zone.
fn schedule(room: &Room, zone: &str, words: &[&str]) -> Ran {
    let mut command = room.command("schedule");
    command.arg("--jobs").arg(room.path("odd $x % folder/utter.toml")).args(words);
    ran(&command.env("TZ", zone).output().unwrap())
}

fn has_systemd() -> bool {
    let is_there = Command::new("systemd-analyze").arg("--version").output().is_ok();
    assert!(is_there || std::env::var("UTTER_LAB").as_deref() != Ok("required"), "no systemd");
    is_there
}

#[test]
fn systemd_starts_jobs_at_the_given_times() {
    if !has_systemd() {
        return;
    }
    let room = room();
    for at in [
        "daily 02:30",
        "weekdays 18:00",
        "weekends 09:05",
        "mondays,thursdays 06:00",
        "hourly",
        "every 15 minutes",
        "every 6 hours",
        "monthly 1 03:00",
    ] {
        for zone in ["UTC", "Europe/Berlin", "America/New_York", "Asia/Kolkata"] {
            let shown = schedule(&room, zone, &["--at", at, "--format", "json", "papers"]);
            assert_eq!(shown.code, 0, "{shown:?}");
            let lines = shown.out.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
            let job = lines.into_iter().find(|line| line["kind"] == "scheduled").unwrap();
            assert_eq!(job["at"], at);
            let timer = job["files"][1]["text"].as_str().unwrap();
            let calendar = timer.lines().filter_map(|line| line.strip_prefix("OnCalendar="));
            let mut next: Vec<String> = Vec::new();
            for line in calendar {
                let mut analyze = Command::new("systemd-analyze");
                analyze
                    .args(["calendar", "--iterations=3", line])
                    .env("TZ", zone)
                    .env("LC_ALL", "C");
                let told = String::from_utf8(analyze.output().unwrap().stdout).unwrap();
                // Of a day, its name, the date, the time and the zone.
                let zoned = told.lines().filter_map(|line| line.trim().strip_prefix("(in UTC): "));
                let mut times: Vec<String> = zoned.map(utc).collect();
                if zone == "UTC" {
                    let local = told.lines().filter_map(|line| {
                        let line = line.trim();
                        line.strip_prefix("Next elapse: ")
                            .or_else(|| Some(line.strip_prefix("Iter")?.split_once(": ")?.1))
                    });
                    times = local.map(utc).collect();
                }
                next.extend(times);
            }
            next.sort();
            next.truncate(3);
            let said: Vec<&str> =
                job["next"].as_array().unwrap().iter().map(|time| time.as_str().unwrap()).collect();
            assert_eq!(said, next, "{at} in {zone}");
        }
    }
}

/// Of `Mon 2026-11-30 02:30:00 UTC`.
fn utc(told: &str) -> String {
    let words: Vec<&str> = told.split_whitespace().collect();
    format!("{}T{}Z", words[1], words[2])
}

#[test]
fn what_is_installed_is_sound_and_runs_the_job() {
    let room = room();
    let odd = "odd % $name, \"so\"";
    let ran = schedule(&room, "UTC", &["--install", "--into", "units", "papers", odd]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(
        ran.out.ends_with("Written, but not installed: the system does not start them yet.\n"),
        "{ran:?}"
    );
    let units = room.list("units");
    assert_eq!(units.len(), 4, "{units:?}");
    if has_systemd() {
        let mut verify = Command::new("systemd-analyze");
        verify.arg("verify").args(units.iter().map(|unit| room.path("units").join(unit)));
        let verified = crate::common::ran(&verify.output().unwrap());
        assert_eq!((verified.code, &*verified.err), (0, ""), "{verified:?}");
    }
    for (unit, destination) in
        units.iter().filter(|unit| unit.contains(".service")).zip(["odd", "lantern"])
    {
        let text = room.read(&format!("units/{unit}"));
        let value =
            |key: &str| text.lines().find_map(|line| line.strip_prefix(key)).map(words_of_unit);
        let command = value("ExecStart=").unwrap();
        let mut run = Command::new(&command[0]);
        // Nothing of what is around this test but what the unit says.
        run.args(&command[1..])
            .env_clear()
            .current_dir("/")
            .env("PATH", std::env::var("PATH").unwrap());
        for variable in value("Environment=").unwrap() {
            let (name, value) = variable.split_once('=').unwrap();
            run.env(name, value);
        }
        let ran = crate::common::ran(&run.output().unwrap());
        assert_eq!(ran.code, 0, "{unit}: {ran:?}");
        assert_eq!(room.list(&format!("odd $x % folder/{destination}")), ["lens.svg"]);
    }
    let job = room.run("history --last");
    assert!(job.out.contains("(copy)"), "{job:?}");
    // Again is no second one, and it goes as a whole.
    assert_eq!(schedule(&room, "UTC", &["--install", "--into", "units", "papers"]).code, 0);
    assert_eq!(room.list("units").len(), 4);
    assert_eq!(schedule(&room, "UTC", &["--remove", "--into", "units", "papers", odd]).code, 0);
    assert_eq!(room.list("units"), Vec::<String>::new());
}

/// The words of a line as systemd reads them: all of ours stand in quotes.
fn words_of_unit(line: &str) -> Vec<String> {
    let (mut words, mut word, mut chars) = (Vec::new(), None::<String>, line.chars().peekable());
    while let Some(c) = chars.next() {
        match (c, &mut word) {
            ('"', None) => word = Some(String::new()),
            ('"', Some(_)) => words.extend(word.take()),
            ('\\', Some(word)) => word.push(chars.next().unwrap()),
            ('%' | '$', Some(word)) => {
                assert_eq!(chars.next(), Some(c), "{line}");
                word.push(c);
            }
            (c, Some(word)) => word.push(c),
            (c, None) => assert_eq!(c, ' ', "{line}"),
        }
    }
    words
}

#[test]
fn nothing_of_others_is_touched() {
    let room = room();
    room.write("units/utter-papers.timer", "[Timer]\nOnCalendar=daily\n");
    for how in ["--install", "--remove"] {
        let ran = schedule(&room, "UTC", &[how, "--into", "units", "papers"]);
        assert_eq!(ran.code, 2, "{ran:?}");
        assert!(ran.err.contains("'utter schedule' did not write it"), "{ran:?}");
        assert_eq!(room.list("units"), ["utter-papers.timer"]);
    }
    // A crontab of two other jobs, as the program of that name keeps it.
    room.write(
        "bin/crontab",
        "#!/bin/sh\nif [ \"$1\" = -l ]; then cat table; else cat > new && mv new table; fi\n",
    );
    fs::set_permissions(room.path("bin/crontab"), fs::Permissions::from_mode(0o755)).unwrap();
    let others = "# m h dom mon dow\n0 5 * * * tar\n30 1 * * 1 df\n";
    room.write("table", others);
    let cron = |words: &[&str]| {
        let path = format!("{}:{}", room.path("bin").display(), std::env::var("PATH").unwrap());
        let mut command = room.command("schedule --cron");
        command.arg("--jobs").arg(room.path("odd $x % folder/utter.toml")).args(words);
        ran(&command.env("PATH", path).output().unwrap())
    };
    for _ in 0..2 {
        assert_eq!(cron(&["--install", "papers"]).code, 0);
        let table = room.read("table");
        let lines: Vec<&str> = table.strip_prefix(others).unwrap().lines().collect();
        assert_eq!(lines.len(), 2, "{table}");
        assert!(lines[1].starts_with("0 18 * * 1,2,3,4,5 "), "{table}");
        // Cron takes the backslash away, and then a shell reads it.
        let line = lines[1].splitn(6, ' ').last().unwrap().replace("\\%", "%");
        let run = Command::new("sh").args(["-c", &line]).current_dir("/").output().unwrap();
        assert!(run.status.success(), "{line}: {run:?}");
    }
    assert!(room.path("odd $x % folder/lantern/lens.svg").exists());
    assert_eq!(cron(&["--remove", "papers"]).code, 0);
    assert_eq!(room.read("table"), others);
}

#[test]
fn what_cannot_be_scheduled_is_reported_with_what_to_do() {
    let room = room();
    for (words, word) in [
        (&["by-hand"][..], "has no start time"),
        (&["paper"], "did you mean 'papers'"),
        (&["--at", "sometimes", "papers"], "it is one of 'daily 02:30'"),
        (&["--at", "monthly 31 02:30", "papers"], "a day that not every month has"),
        (&["--at", "when mounted", "papers"], "always mounted"),
        (&["--at", "when mounted", "--cron", "papers"], "cron cannot"),
        (&["--into", "units", "papers"], "needs --install or --remove"),
        (&["--install", "--remove", "papers"], "cannot be used with"),
        (&["--remove", "--into", "units", "papers"], "nothing is scheduled for this job"),
        (&[], "the job is missing"),
    ] {
        let ran = schedule(&room, "UTC", words);
        assert_eq!(ran.code, 2, "{words:?}: {ran:?}");
        assert!(ran.err.contains(word), "{words:?}: {ran:?}");
    }
    // The clock shows this time twice, or not at all.
    let told = schedule(&room, "Europe/Berlin", &["--at", "sundays 02:30", "papers"]);
    assert!(told.out.contains("the clock skips this time"), "{told:?}");
    assert!(told.out.contains("the clock shows 02:30 twice"), "{told:?}");
}
