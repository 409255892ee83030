//! Guarantee: whatever jobs a file holds, `run --all` starts each once and only when it may; every failure is reported
//! once, to its hook, its record and the table, and nothing that failed is called succeeded.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::BTreeMap;
use std::fmt::Write as _;

use fastrand::Rng;
use serde_json::Value;

use crate::common::Room;

/// What becomes of a job that is started, and whether its hook and its record tell of it.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Fate {
    Succeeds,
    /// Its source does not exist.
    Fails,
    /// Of its two pairs one has no source.
    HalfFails,
    DriveIsMissing,
    /// It cannot be read.
    Broken,
    NotEnabled,
    NotDue,
    /// It changes nothing, so nothing follows it.
    Dry,
}

const FATES: [Fate; 8] = [
    Fate::Succeeds,
    Fate::Fails,
    Fate::HalfFails,
    Fate::DriveIsMissing,
    Fate::Broken,
    Fate::NotEnabled,
    Fate::NotDue,
    Fate::Dry,
];

impl Fate {
    /// The outcome, and how often a hook is called.
    fn outcome(self) -> (&'static str, usize) {
        match self {
            Self::Succeeds => ("succeeded", 1),
            Self::Fails | Self::HalfFails | Self::Broken => ("invalid", 1),
            Self::DriveIsMissing => ("drive-missing", 1),
            Self::NotEnabled => ("not-enabled", 0),
            Self::NotDue => ("not-due", 0),
            Self::Dry => ("succeeded", 0),
        }
    }

    fn settings(self, name: &str) -> String {
        let one = |source: &str, destination: &str| {
            format!("source = \"{source}\"\ndestination = \"{destination}\"\n")
        };
        let well = one("saltmere", &format!("echo/{name}"));
        match self {
            Self::Succeeds => well,
            Self::Fails => one("nowhere", &format!("echo/{name}")),
            Self::HalfFails => format!(
                "pairs = [{{ source = \"saltmere\", destination = \"echo/{name}/a\" }}, {{ source = \"nowhere\", destination = \"echo/{name}/b\" }}]\n"
            ),
            Self::DriveIsMissing => one("saltmere", "label=nowhere-at-all/x"),
            Self::Broken => format!("{well}retries = \"often\"\n"),
            Self::NotEnabled => format!("{well}enabled = false\n"),
            // A minute that was a while ago.
            Self::NotDue => format!("{well}within = \"{}\"\n", hours_without_now()),
            Self::Dry => format!("{well}dry-run = true\n"),
        }
    }
}

fn hours_without_now() -> String {
    let now = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let at =
        |hours: i64| (&now + jiff::SignedDuration::from_hours(hours)).strftime("%H:%M").to_string();
    format!("{}..{}", at(6), at(12))
}

#[test]
fn each_job_is_started_once_when_it_may_and_reported_once() {
    let cases = std::env::var("UTTER_CASES").map_or(12, |cases| cases.parse().unwrap());
    for seed in 0..cases {
        let mut rng = Rng::with_seed(seed);
        let fates: Vec<Fate> = (0..rng.usize(1..9)).map(|_| rng.choice(FATES).unwrap()).collect();
        let name = |at: usize| format!("lamp{at}");
        // Only to later ones, since circles are refused.
        let then: Vec<Vec<usize>> = (0..fates.len())
            .map(|at| (at + 1..fates.len()).filter(|_| rng.u8(0..5) == 0).collect())
            .collect();
        let room = Room::new().with("saltmere/log", "lit");
        let hook =
            |option: &str| format!("{option} = \"echo $UTTER_JOB $UTTER_OUTCOME >> told\"\n");
        let mut file = format!("[defaults]\n{}{}", hook("on-problem"), hook("on-success"));
        for (at, fate) in fates.iter().enumerate() {
            let next: Vec<String> =
                then[at].iter().map(|next| format!("\"{}\"", name(*next))).collect();
            let settings = fate.settings(&name(at));
            let then = next.join(", ");
            write!(file, "[job.{}]\ncommand = \"copy\"\nthen = [{then}]\n{settings}", name(at))
                .unwrap();
        }
        room.write("utter.toml", &file);

        // Who starts whom, told apart from how the program finds out.
        let leads = |at: usize| fates[at] != Fate::Broken;
        let follows = |at: usize| (0..at).any(|other| leads(other) && then[other].contains(&at));
        let mut expected: BTreeMap<String, (&str, usize)> = BTreeMap::new();
        let mut starts: Vec<bool> = (0..fates.len()).map(|at| !follows(at)).collect();
        for (at, fate) in fates.iter().enumerate() {
            let outcome = if starts[at] { fate.outcome() } else { ("not-reached", 0) };
            expected.insert(name(at), outcome);
            if starts[at] && *fate == Fate::Succeeds {
                then[at].iter().for_each(|next| starts[*next] = true);
            }
        }

        let ran = room.run("run --all --jobs utter.toml --format json");
        let lines = ran.out.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
        let results: Vec<Value> = lines.filter(|line| line["kind"] == "job-result").collect();
        assert_eq!(results.len(), fates.len(), "seed {seed}: {file}\n{ran:?}");
        for result in &results {
            let wanted = expected[result["name"].as_str().unwrap()].0;
            assert_eq!(result["outcome"], wanted, "seed {seed}: {file}\n{ran:?}");
        }
        let told = std::fs::read_to_string(room.path("told")).unwrap_or_default();
        let recorded = room.run("history --format json --limit 1000").out;
        for (at, fate) in fates.iter().enumerate() {
            let (outcome, times) = expected[&name(at)];
            let heard =
                told.lines().filter(|line| **line == format!("{} {outcome}", name(at))).count();
            assert_eq!(heard, times, "seed {seed}: {} in {told}\n{file}\n{ran:?}", name(at));
            let of_job = format!("\"job\":{{\"name\":\"{}\"", name(at));
            let records = recorded.lines().filter(|line| line.contains(&of_job)).count();
            let commands = if *fate == Fate::HalfFails { 2 * times } else { times };
            assert_eq!(records, commands, "seed {seed}: {}\n{file}\n{recorded}", name(at));
        }
        assert_eq!(told.lines().count(), expected.values().map(|(_, times)| times).sum::<usize>());
        let worst = expected.values().any(|(outcome, _)| *outcome == "invalid");
        let missing = expected.values().any(|(outcome, _)| *outcome == "drive-missing");
        let code = if worst {
            2
        } else if missing {
            7
        } else {
            0
        };
        assert_eq!(ran.code, code, "seed {seed}: {file}\n{ran:?}");
    }
}

#[test]
fn a_hook_that_does_not_end_is_stopped_and_a_job_that_hangs_is_reported() {
    let room = Room::new().with("saltmere/log", "lit");
    let file = "[job.papers]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"echo\"\non-success = \"sleep 600\"\nhook-limit = \"200ms\"\n";
    room.write("utter.toml", file);
    let ran = room.run("run --jobs utter.toml papers");
    assert!(ran.code == 0 && ran.err.contains("'sleep 600' was stopped after"), "{ran:?}");
    // Another process has its lock.
    let hung = "[job.papers]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"echo\"\nrun-before = \"touch begun; while [ -e begun ]; do sleep 0.01; done\"\non-problem = \"echo $UTTER_OUTCOME >> told\"\n";
    room.write("utter.toml", hung);
    let mut first = room.command("run --jobs utter.toml papers").spawn().unwrap();
    while !room.path("begun").exists() {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    let second = room.run("run --jobs utter.toml papers");
    std::fs::remove_file(room.path("begun")).unwrap();
    assert!(first.wait().unwrap().success());
    assert!(second.code == 4 && second.err.contains("is being run by process"), "{second:?}");
    assert_eq!(room.read("told"), "refused\n");
}

#[test]
fn a_source_that_is_missing_or_empty_is_named_and_the_others_arrive() {
    let room = Room::new().with("log", "lit").with("tide.csv", "1,2").with("empty/", "");
    let ran = room.run("copy log nowhere tide.csv echo");
    let named = "nowhere: cannot read the attributes in the source: this source does not exist";
    assert!(ran.code == 3 && ran.err.contains(named), "{ran:?}");
    assert_eq!(room.list("echo"), ["log", "tide.csv"]);
    assert_eq!(room.run("copy nowhere neither echo").code, 2);
    // A saved plan is for those that were found, each under its own name, even if that is one.
    assert_eq!(room.run("copy --dry-run --save-plan one.plan nowhere log saved").code, 3);
    assert_eq!(room.run("execute one.plan").code, 3);
    assert_eq!(room.list("saved"), ["log"]);
    // Who types a move may have meant another folder; a job has been tried.
    assert_eq!(room.run("move log nowhere tide.csv away").code, 2);
    assert!(room.path("log").exists());
    room.write("utter.toml", "[job.tidy]\ncommand = \"move\"\nsource = [\"log\", \"nowhere\", \"tide.csv\"]\ndestination = \"away\"\n");
    assert_eq!(room.run("run --jobs utter.toml tidy").code, 3);
    assert!(!room.path("log").exists() && room.path("away/tide.csv").exists());
    // A drive that is not mounted looks like an empty folder.
    for command in ["copy", "verify"] {
        let ran = room.run(&format!("{command} empty there"));
        assert!(ran.code == 0 && ran.out.contains("the source empty is empty"), "{ran:?}");
    }
}

#[test]
fn a_job_that_cannot_be_read_is_listed_by_status() {
    let room = Room::new();
    room.write("utter.toml", "[job.papers]\ncommand = \"copy\"\nretries = \"often\"\n");
    let shown = room.run("status --jobs utter.toml");
    assert!(shown.code == 3 && shown.out.contains("papers  invalid"), "{shown:?}");
    let table = room.run("status --format csv --jobs utter.toml");
    assert!(table.out.contains("\npapers,true,false,invalid,"), "{table:?}");
    let unnamed =
        room.command("jobs --jobs utter.toml add").args(["", "--", "copy", "a", "b"]).output();
    assert_eq!(unnamed.unwrap().status.code(), Some(2));
    let added = room.run("jobs --format json --jobs new.toml add shop -- copy saltmere echo");
    assert!(
        added.code == 0 && added.out.contains("\"kind\":\"job\",\"name\":\"shop\""),
        "{added:?}"
    );
}

#[test]
fn records_are_kept_by_the_rule_of_the_job_file_that_they_came_from() {
    let room = Room::new().with("saltmere/log", "lit");
    let job = "[job.papers]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"echo\"\n";
    room.write("long.toml", job);
    room.write("short.toml", &format!("[records]\nkeep = \"1ms\"\nat-most = \"1B\"\n{job}"));
    let listed = || {
        let runs = room.run("history --format json --limit 1000").out;
        let of =
            |file: &str| runs.lines().filter(|line| line.contains(&format!("/{file}\""))).count();
        (of("long.toml"), of("short.toml"))
    };
    for _ in 0..4 {
        assert_eq!(room.run("run --jobs long.toml papers").code, 0);
    }
    for _ in 0..6 {
        assert_eq!(room.run("run --jobs short.toml papers").code, 0);
    }
    assert_eq!(room.run("copy saltmere by-hand").code, 0);
    let (long, short) = listed();
    assert!(long == 4 && short < 6, "{long} and {short}");
}
