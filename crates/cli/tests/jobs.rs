//! Guarantee: a job does what its command line does; jobs run in their order, also after a failed one; the table
//! and the exit code are right; and an error in a job file is reported with its line.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use crate::common::{NOBODY, Ran, Room};
use serde_json::Value;
use utter_echo_lab::{differences, snapshot};

const FILE: &str = r#"
[variables]
archive = "lantern/${place}"
place = "archive"

[defaults]
exclude = "*.tmp"
limit = 5

[job.papers]
description = "The keepers' papers"
command = "mirror"
source = "saltmere"
destination = "${archive}"
tags = ["night"]
then = ["proof"]

[job.proof]
command = "verify"
source = "saltmere"
destination = "${archive}"

[job.lost]
command = "copy"
source = "${place}"
destination = "lantern/lost"
tags = ["night"]

[job.shop]
command = "copy"
enabled = false
tags = ["night"]
source = "saltmere"
destination = "lantern/shop"

[job.both]
command = "copy"
pairs = [
    { source = "saltmere/logbooks", destination = "lantern/logbooks" },
    { source = "saltmere/lens.svg", destination = "lantern/drawings/" },
]
"#;

fn room() -> Room {
    let room = Room::new()
        .with("saltmere/logbooks/1931.csv", "lit at dusk")
        .with("saltmere/lens.svg", "<svg/>")
        .with("saltmere/draft.tmp", "not yet");
    room.write("utter.toml", FILE);
    room
}

fn rows(ran: &Ran) -> Vec<Vec<&str>> {
    let table = ran.out.lines().skip_while(|line| !line.trim_start().starts_with("entries "));
    table
        .skip(1)
        .map(|line| line.split("  ").map(str::trim).filter(|c| !c.is_empty()).collect())
        .collect()
}

#[test]
fn jobs_run_in_their_order_and_a_table_shows_the_result_of_each() {
    let room = room();
    let dry = room.run("run --dry-run --jobs utter.toml papers");
    assert!(dry.out.contains("add      lens.svg"), "{dry:?}");
    assert!(!room.path("lantern").exists(), "{dry:?}");
    let night = room.run("run --tag night --jobs utter.toml");
    // The one without a source fails, and the others run all the same.
    assert_eq!(night.code, 2, "{night:?}");
    assert!(
        night.err.contains("source '") && night.err.contains("/archive' does not exist"),
        "{night:?}"
    );
    let told: Vec<_> = rows(&night).iter().map(|row| row[..2].join(": ")).collect();
    let expected = ["papers: succeeded", "proof: succeeded", "lost: invalid", "shop: not enabled"];
    assert_eq!(told, expected, "{night:?}");
    assert_eq!(rows(&night)[0][2..4], ["4", "17 B"]);
    assert_eq!(room.list("lantern/archive"), ["lens.svg", "logbooks/", "logbooks/1931.csv"]);
    assert!(!room.path("lantern/shop").exists());
    // Where the output goes makes no difference.
    let mut command = room.command("run --tag night --jobs utter.toml");
    command.stdout(fs::File::create("/dev/full").unwrap());
    assert_eq!(command.output().unwrap().status.code(), Some(2));
    let mut command = room.command("run --jobs utter.toml papers");
    command.stdout(fs::File::create("/dev/full").unwrap());
    assert_eq!(command.output().unwrap().status.code(), Some(0));
    // The verification finds differences: that is the worst outcome, and nothing runs after it.
    room.write("lantern/archive/lens.svg", "<SVG/>!");
    let proof = room.run("run --jobs utter.toml proof both");
    assert_eq!(proof.code, 1, "{proof:?}");
    assert_eq!(rows(&proof)[0][1], "differences found");
    assert_eq!(rows(&proof)[1][..3], ["both", "succeeded", "3"]);
    assert_eq!(room.read("lantern/drawings/lens.svg"), "<svg/>");
}

#[test]
fn a_job_does_what_its_printed_command_does() {
    let (one, other) = (room(), room());
    assert_eq!(one.run("run --jobs utter.toml papers both").code, 0);
    for name in ["papers", "both"] {
        let shown = other.run(&format!("jobs show {name} --jobs utter.toml"));
        assert_eq!(shown.code, 0, "{shown:?}");
        for line in shown.out.lines() {
            let words = line.strip_prefix("utter ").unwrap().replace('\'', "");
            assert_eq!(other.run(&words).code, 0, "{line}");
        }
    }
    // What only leads there has the time when it was made.
    for made in ["archive", "logbooks"] {
        let sides = [&one, &other].map(|room| snapshot(&room.path("lantern").join(made)));
        assert_eq!(differences(&sides[0], &sides[1]), "", "{made}");
    }
    assert_eq!(one.list("lantern"), other.list("lantern"));
}

#[test]
fn the_pool_reports_what_runs() {
    let room = room();
    let ran = room.run("run --format json --jobs utter.toml papers");
    let lines: Vec<Value> =
        ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let kinds: Vec<_> = lines.iter().map(|line| line["kind"].as_str().unwrap()).collect();
    let all = |kind: &str| kinds.iter().filter(|other| **other == kind).count();
    // The run's own, and one for each call.
    assert_eq!(
        [all("head"), all("job"), all("job-result"), all("totals")],
        [3, 2, 2, 3],
        "{kinds:?}"
    );
    let papers = lines.iter().find(|line| line["kind"] == "job-result").unwrap();
    assert_eq!((&papers["outcome"], &papers["exit_code"]), (&"succeeded".into(), &0.into()));
    assert_eq!(papers["done"], serde_json::json!({ "entries": 4, "bytes": 17 }));
}

#[test]
fn a_file_is_checked_as_a_whole_before_anything_runs() {
    let room = room();
    let checked = room.run("jobs check --jobs utter.toml");
    assert_eq!(checked.code, 2, "{checked:?}");
    assert!(checked.err.contains("job 'lost': source "), "{checked:?}");
    // What another job is to make need not be there.
    assert_eq!(checked.err.lines().filter(|line| line.starts_with("utter: ")).count(), 1);
    let well = room.run("jobs check --jobs utter.toml papers proof shop both");
    assert_eq!((well.code, &*well.out), (0, "Checked 4 jobs: no errors.\n"), "{well:?}");
    assert!(!room.path("lantern").exists());
    // A drive that is not mounted is missed, unless it is mounted for the run.
    for (mount, code) in [("", 2), ("mount = true\n", 0)] {
        let usb = "[job.usb]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"label=nowhere-at-all/x\"\n";
        room.write("usb.toml", &format!("{usb}{mount}"));
        let checked = room.run("jobs check --jobs usb.toml");
        assert_eq!(checked.code, code, "{checked:?}");
        assert_eq!(checked.err.matches("no mounted drive").count(), usize::from(code > 0));
    }
    let listed = room.run("jobs --jobs utter.toml");
    assert_eq!(listed.code, 0, "{listed:?}");
    assert!(listed.out.contains("The keepers' papers\n  utter mirror --exclude='*.tmp' -- /"));
    assert!(listed.out.contains("  not enabled\n"), "{listed:?}");
}

#[test]
fn a_tested_command_becomes_a_job_and_the_rest_of_the_file_stays() {
    let room = room();
    let mode = |mode| fs::Permissions::from_mode(mode);
    let noted = format!("# What the keepers asked for.\n{FILE}\n# The end.\n");
    room.write("utter.toml", &noted);
    fs::set_permissions(room.path("utter.toml"), mode(0o640)).unwrap();
    let line = "mirror --dry-run --exclude *.tmp --exclude ${draft} --yes saltmere lantern/new";
    let added = room.run(&format!("jobs add --jobs utter.toml new -- {line}"));
    assert_eq!((added.code, &*added.err), (0, ""), "{added:?}");
    let now = room.read("utter.toml");
    assert!(now.starts_with(noted.strip_suffix("\n# The end.\n").unwrap()), "{now}");
    assert!(now.ends_with("# The end.\n"), "{now}");
    assert_eq!(fs::metadata(room.path("utter.toml")).unwrap().permissions().mode() & 0o777, 0o640);
    assert_eq!(room.run("run --jobs utter.toml new").code, 0);
    assert_eq!(room.list("lantern/new"), ["lens.svg", "logbooks/", "logbooks/1931.csv"]);
    for (line, told) in [
        ("new -- copy saltmere x", "has a job 'new' already"),
        ("other -- miror saltmere x", "did you mean 'mirror'?"),
        ("other -- drives", "the command of a job is copy, mirror, move or verify"),
        ("other -- copy saltmere", "nothing was added"),
    ] {
        let refused = room.run(&format!("jobs add --jobs utter.toml {line}"));
        assert!(refused.code == 2 && refused.err.contains(told), "{line}: {refused:?}");
        assert_eq!(room.read("utter.toml"), now, "{line}");
    }
    // Without a file one is made, which nobody else can read.
    assert_eq!(room.run("jobs add --jobs made/utter.toml a -- copy saltmere x").code, 0);
    assert_eq!(
        fs::metadata(room.path("made/utter.toml")).unwrap().permissions().mode() & 0o777,
        0o600
    );
    assert_eq!(room.run("jobs check --jobs made/utter.toml").code, 0);
}

#[test]
fn variables_and_placeholders_are_filled_in_once() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>");
    let file = r#"
[variables]
place = "lantern/{job}"

[job.papers]
command = "copy"
source = "saltmere"
destination = "${place}"
exclude = ["$${job}", "{a,b}", "{job}"]
log = "{job}.log"
"#;
    room.write("utter.toml", file);
    let shown = room.run("jobs show --jobs utter.toml papers");
    assert_eq!(shown.code, 0, "{shown:?}");
    let words = [
        "--exclude='${job}'",
        "--exclude='{a,b}'",
        "--exclude=papers",
        "/lantern/papers",
        "/{job}.log",
    ];
    for word in words {
        assert!(shown.out.contains(word), "{word} is not in {shown:?}");
    }
}

/// A job file, and what is said of it with its place.
const WRONG: &[(&str, &str)] = &[
    ("x =", "utter.toml:1:4: this is not valid TOML"),
    (
        "[jobs.a]",
        "utter.toml:1:2: 'jobs' is not a part of a job file\n  [jobs.a]\n  did you mean 'job'?",
    ),
    ("job = 1", "utter.toml:1:1: 'job' must be a table"),
    ("[defaults]\nexlude = 1", "utter.toml:2:1: 'exlude' is not an option"),
    // Names of before.
    (
        "[values]\nx = 1",
        "utter.toml:1:2: 'values' is not a part of a job file\n  [values]\n  'values' is 'variables' here",
    ),
    (
        "[job.a]\ndoes = \"copy\"",
        "utter.toml:2:1: 'does' is not an option of jobs\n  does = \"copy\"\n  'does' is 'command' here",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"x\"\ndestination = \"z\"\nspare-newer = true",
        "'spare-newer' is 'leave-newer' here",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"x\"\ndestination = \"${date}\"",
        "utter.toml:4:15: there is no variable 'date'\n  destination = \"${date}\"\n  write {date}, without the $",
    ),
    ("[job.a]\nsource = \"x\"", "utter.toml:1:6: job 'a' has no command"),
    (
        "[job.a]\ncommand = \"miror\"",
        "utter.toml:2:11: 'miror' is not a command for jobs\n  command = \"miror\"\n  did you mean 'mirror'?",
    ),
    ("[job.a]\ncommand = \"copy\"", "utter.toml:1:6: job 'a' has no source"),
    (
        "[job.a]\ncommand = \"mirror\"\nsource = [\"x\", \"y\"]\ndestination = \"z\"",
        "utter.toml:3:10: mirror takes one source, but 2",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"${sauce}\"\n[variables]\nsource = \"x\"",
        "utter.toml:3:10: there is no variable 'sauce'\n  source = \"${sauce}\"\n  did you mean 'source'?",
    ),
    (
        "[variables]\na = \"${b}\"\nb = \"${a}\"\n[job.a]\ncommand = \"copy\"\nsource = \"${a}\"\ndestination = \"z\"",
        "utter.toml:2:5: the variable 'a' refers to itself",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"x\"\ndestination = \"z\"\nretries = \"many\"",
        "utter.toml:5:11: invalid value 'many'",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"x\"\ndestination = \"z\"\nyes = 1",
        "utter.toml:5:7: 'yes' is either true or false",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"x\"\ndestination = \"z\"\nretries = [1, 2]",
        "utter.toml:5:11: 'retries' takes one value, not a list",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"x\"\npairs = []",
        "utter.toml:3:1: 'source' and 'pairs' exclude each other",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"z\"\nthen = \"b\"\n[job.b]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"y\"\nthen = \"a\"",
        "in a circle: a, b, a",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"z\"\nthen = \"lamp\"",
        "utter.toml:5:1: 'then' of job 'a' names no job: 'lamp'",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"z\"\n[job.b]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"z/in\"",
        "jobs 'a' and 'b' both write to",
    ),
    (
        "[job.a]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"saltmere/in\"",
        "overlap: they are one folder",
    ),
];

#[test]
fn errors_of_job_files_are_reported_with_their_place_and_what_to_do() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>");
    for (file, told) in WRONG {
        room.write("utter.toml", file);
        let checked = room.run("jobs check --jobs utter.toml");
        assert!(checked.code == 2 && checked.err.contains(told), "{file}\n{checked:?}");
        let ran = room.run("run --all --jobs utter.toml");
        let is_of_check = told.starts_with("jobs '") || told.starts_with("overlap");
        assert!(is_of_check || ran.code == 2 && ran.err.contains(told), "{file}\n{ran:?}");
        let listed = room.list("");
        let touched = listed.iter().filter(|path| !path.starts_with("state/")).count();
        assert!(is_of_check || touched == 3, "{file}\n{listed:?}");
    }
    for (line, told) in [
        ("run --jobs utter.toml", "no job is named"),
        ("run --jobs utter.toml c", "has no job 'c'"),
        ("run --jobs nowhere.toml c", "job file 'nowhere.toml' does not exist"),
        ("run --jobs utter.toml --tag x", "no job has the tag 'x'"),
    ] {
        let ran = room.run(line);
        assert!(ran.code == 2 && ran.err.contains(told), "{line}: {ran:?}");
    }
}

#[test]
fn root_runs_no_job_file_that_others_can_change() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("this test needs root");
    }
    let room = room();
    let path = room.path("utter.toml");
    let refused = || {
        let ran = room.run("run --jobs utter.toml papers");
        ran.code == 2 && ran.err.contains("can be changed by other users")
    };
    fs::set_permissions(&path, fs::Permissions::from_mode(0o664)).unwrap();
    assert!(refused());
    fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
    std::os::unix::fs::chown(&path, Some(NOBODY), None).unwrap();
    assert!(refused());
    assert!(!room.path("lantern").exists());
}
