//! Guarantee: `utter status` says that all is well only if it is, and every configured hook is called, also for
//! runs that failed before they began.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{Room, ran};
use serde_json::Value;

const FILE: &str = r#"
[job.papers]
command = "copy"
source = "saltmere"
destination = "lantern/papers"
at = "daily 02:30"

[job.both]
command = "copy"
pairs = [
  { source = "saltmere", destination = "lantern/one" },
  { source = "shop", destination = "lantern/two" },
]

[job.proof]
command = "verify"
source = "saltmere"
destination = "lantern/papers"

[job.old]
command = "copy"
source = "saltmere"
destination = "lantern/old"
enabled = false
"#;

fn room() -> Room {
    Room::new().with("saltmere/lens.svg", "<svg/>").with("utter.toml", FILE)
}

/// The exit code, and the state of each job.
fn status(room: &Room, jobs: &str) -> (i32, Vec<Value>) {
    let ran = room.run(&format!("status --jobs utter.toml --format json {jobs}"));
    let lines = ran.out.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
    (ran.code, lines.filter(|line| line["kind"] == "job-status").collect())
}

fn run(room: &Room, jobs: &str) -> i32 {
    room.run(&format!("run --jobs utter.toml {jobs}")).code
}

#[test]
fn a_status_of_ok_is_true() {
    let room = room();
    let outcome = |job: &str| {
        let (code, jobs) = status(&room, job);
        let said = (jobs[0]["ok"].as_bool().unwrap(), jobs[0]["outcome"].as_str().unwrap());
        assert_eq!(code, if said.0 { 0 } else { 3 }, "{jobs:?}");
        (said.0, said.1.to_owned())
    };
    let is = |job: &str, well: bool, word: &str| {
        assert_eq!(outcome(job), (well, word.to_owned()), "{job}");
    };
    is("papers", false, "never-run");
    is("old", true, "never-run");
    assert_eq!(run(&room, "papers proof"), 0);
    is("papers", true, "succeeded");
    is("proof", true, "succeeded");
    assert_eq!(status(&room, "papers proof old").0, 0);
    // Another file's job of the same name is another job, and a link to this one is this one.
    room.write("others.toml", FILE);
    std::os::unix::fs::symlink("utter.toml", room.path("link.toml")).unwrap();
    assert_eq!(room.run("status --jobs others.toml papers").code, 3);
    assert_eq!(room.run("status --jobs link.toml papers").code, 0);
    // Only one of its two calls can be made.
    assert_eq!(run(&room, "both"), 2);
    is("both", false, "invalid");
    assert_eq!(status(&room, "").0, 3);
    room.write("shop/stock.csv", "3 lamps");
    assert_eq!(run(&room, "both"), 0);
    is("both", true, "succeeded");
    room.write("saltmere/new.csv", "new");
    assert_eq!(run(&room, "proof"), 1);
    is("proof", false, "different");
    // A dry run is no run, also of what only compares.
    assert_eq!(room.run("run --dry-run --jobs utter.toml papers").code, 0);
    assert_eq!(room.run("run --dry-run --jobs utter.toml proof").code, 1);
    assert_eq!(room.run("history --format json").out.matches("\"past-run\"").count(), 7);
    fs::remove_dir_all(room.path("saltmere")).unwrap();
    is("papers", true, "succeeded");
    assert_eq!(run(&room, "papers"), 2);
    is("papers", false, "invalid");
    let shown = room.run("status --jobs utter.toml");
    assert!(shown.out.contains("Not all is well: papers, proof."), "{shown:?}");
    let unknown = room.run("status --jobs utter.toml paper");
    assert_eq!(unknown.code, 2, "{unknown:?}");
    assert!(unknown.err.contains("did you mean 'papers'"), "{unknown:?}");
}

#[test]
fn a_start_that_was_missed_is_overdue() {
    let room = room();
    assert_eq!(run(&room, "papers"), 0);
    assert_eq!(status(&room, "papers").0, 0);
    // As if that had been two days ago.
    let index = room.path("state/utter-echo/records/index");
    let text = fs::read_to_string(&index).unwrap();
    let began = status(&room, "papers").1[0]["last"].as_str().unwrap().to_owned();
    fs::write(&index, text.replace(&began, "2020-01-31T02:30:00Z")).unwrap();
    let (code, jobs) = status(&room, "papers");
    assert_eq!((code, &jobs[0]["outcome"]), (3, &"succeeded".into()), "{jobs:?}");
    assert!(jobs[0]["overdue_since"].as_str().unwrap().ends_with("02:30:00Z"), "{jobs:?}");
    let shown = room.run("status --jobs utter.toml papers");
    assert!(shown.out.contains("overdue since "), "{shown:?}");
}

#[test]
fn a_killed_job_is_never_ok() {
    let room = room();
    for at in 0..50 {
        room.write(&format!("saltmere/{at}.wav"), &"~".repeat(1000));
    }
    let file = FILE.replace("at = \"daily", "rate = 20000\nflush = \"none\"\nat = \"daily");
    room.write("utter.toml", &file);
    let has_begun = || fs::read_dir(room.path("lantern/papers")).is_ok_and(|all| all.count() > 1);
    // At last, once it is known to have begun.
    for wait in [0, 5, 20, 100, u64::MAX] {
        let mut command = room.command("run --jobs utter.toml papers");
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_millis(wait.min(60_000))
            && !(wait > 1000 && has_begun())
        {
            std::thread::sleep(Duration::from_millis(1));
        }
        child.kill().unwrap();
        child.wait().unwrap();
        let (code, jobs) = status(&room, "papers");
        assert_eq!(code, 3, "after {wait} ms: {jobs:?}");
    }
    assert_eq!(status(&room, "papers").1[0]["outcome"], "cut-short");
}

#[test]
fn a_job_that_is_stopped_between_two_commands_did_not_succeed() {
    let room = room().with("shop/stock.csv", "3 lamps");
    let file = FILE.replace("pairs = [", "run-after = \"kill -TERM $PPID\"\npairs = [");
    room.write("utter.toml", &file);
    let ran = ran(&room.command_that_hears("run --jobs utter.toml both").output().unwrap());
    assert_eq!(ran.code, 143, "{ran:?}");
    assert!(ran.out.contains("both  stopped"), "{ran:?}");
    assert!(room.path("lantern/one").exists() && !room.path("lantern/two").exists());
    let (code, jobs) = status(&room, "both");
    assert_eq!((code, &jobs[0]["outcome"]), (3, &"stopped".into()), "{jobs:?}");
}

#[test]
fn one_job_runs_once_at_a_time() {
    let room = room();
    room.write(
        "utter.toml",
        &FILE.replace(
            "at = \"daily",
            "run-before = \": > begun; while [ ! -e go ]; do sleep 0.05; done\"\nat = \"daily",
        ),
    );
    let mut command = room.command("run --jobs utter.toml papers");
    let first = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let begun = Instant::now();
    while !room.path("begun").exists() && begun.elapsed() < Duration::from_secs(60) {
        std::thread::sleep(Duration::from_millis(10));
    }
    let second = room.run("run --jobs utter.toml papers");
    assert_eq!(second.code, 4, "{second:?}");
    let by = format!("job 'papers' is being run by process {}", first.id());
    assert!(second.err.contains(&by), "{second:?}");
    // Neither well nor not, as long as it goes on.
    assert_eq!(status(&room, "papers").0, 3);
    let mut queued = room.command("run --queue --jobs utter.toml papers");
    let queued = queued.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    fs::write(room.path("go"), "").unwrap();
    for child in [first, queued] {
        let ran = ran(&child.wait_with_output().unwrap());
        assert_eq!(ran.code, 0, "{ran:?}");
    }
    assert_eq!(status(&room, "papers").0, 0);
    let list = room.run("history --format json --job papers");
    // The start that was refused is recorded like any failure.
    assert_eq!(list.out.matches("\"past-run\"").count(), 3, "{list:?}");
}

#[test]
fn every_configured_hook_is_called() {
    let room = room();
    room.write("tell", "#!/bin/sh\n{ echo \"$UTTER_JOB $UTTER_OUTCOME $UTTER_EXIT_CODE $UTTER_PROBLEMS\"; cat; } > told-$1\nexit 7\n");
    fs::set_permissions(room.path("tell"), fs::Permissions::from_mode(0o755)).unwrap();
    let told = format!(
        "[defaults]\non-problem = \"./tell bad\"\non-success = \"./tell good\"\nmetrics = \"{{job}}.prom\"\n{FILE}\
         [job.usb]\ncommand = \"copy\"\nsource = \"saltmere\"\ndestination = \"label=nowhere-at-all/x\"\n"
    );
    room.write("utter.toml", &told);
    let metric = |job: &str, name: &str| -> Option<f64> {
        let text = room.read(&format!("{job}.prom"));
        let line = text
            .lines()
            .find(|line| line.starts_with(&format!("{name}{{job=\"{job}\"")))?
            .to_owned();
        line.rsplit(' ').next().unwrap().parse().ok()
    };
    // Its exit code changes nothing.
    assert_eq!(run(&room, "papers"), 0);
    let good = room.read("told-good");
    assert!(good.starts_with("papers succeeded 0 0\n") && good.contains("\nCopied "), "{good}");
    assert!(good.contains("added      2 entries"), "{good}");
    assert_eq!(metric("papers", "utter_last_run_exit_code"), Some(0.0));
    let success = metric("papers", "utter_last_success_timestamp_seconds");
    fs::remove_dir_all(room.path("saltmere")).unwrap();
    assert_eq!(run(&room, "papers"), 2);
    let bad = room.read("told-bad");
    assert!(bad.starts_with("papers invalid 2 0\nsource '"), "{bad}");
    assert_eq!(metric("papers", "utter_last_run_exit_code"), Some(2.0));
    assert_eq!(metric("papers", "utter_last_success_timestamp_seconds"), success);
    assert_eq!(run(&room, "usb"), 7);
    let bad = room.read("told-bad");
    assert!(bad.starts_with("usb drive-missing 7 0\n") && bad.contains("nowhere-at-all"), "{bad}");
    assert_eq!(metric("usb", "utter_last_success_timestamp_seconds"), None);
    // A dry run calls no hook.
    fs::remove_file(room.path("told-bad")).unwrap();
    assert_eq!(room.run("run --dry-run --jobs utter.toml papers usb").code, 2);
    assert!(!room.path("told-bad").exists());
}

#[test]
fn nothing_begins_outside_the_hours() {
    let room = room();
    let now = room.run("jobs --jobs utter.toml --format json");
    assert_eq!(now.code, 0, "{now:?}");
    let clock = Command::new("date").args(["-u", "+%H"]).output().unwrap();
    let hour: u32 = String::from_utf8(clock.stdout).unwrap().trim().parse().unwrap();
    // Hours that have just ended, whatever the clock shows, and some that go on.
    let hours =
        |from: u32, to: u32| format!("{:02}:00..{:02}:00", (hour + from) % 24, (hour + to) % 24);
    let late = room.run(&format!("copy --within {} saltmere new", hours(2, 20)));
    assert_eq!(late.code, 5, "{late:?}");
    assert!(late.err.contains("nothing was touched"), "{late:?}");
    assert!(!room.path("new").exists());
    let well = room.run(&format!("copy --within {} saltmere new", hours(23, 3)));
    assert_eq!(well.code, 0, "{well:?}");
}

#[test]
fn under_the_journal_problems_have_their_priority() {
    let room = room();
    let journal = room.path("journal");
    let file = fs::File::create(&journal).unwrap();
    let stat = rustix::fs::fstat(&file).unwrap();
    let mut command = room.command("copy nowhere new");
    command.env("JOURNAL_STREAM", format!("{}:{}", stat.st_dev, stat.st_ino)).stderr(file);
    assert_eq!(command.output().unwrap().status.code(), Some(2));
    let told = room.read("journal");
    assert!(
        told.lines().count() >= 2 && told.lines().all(|line| line.starts_with("<3>")),
        "{told}"
    );
    // Elsewhere there are none.
    assert!(room.run("copy nowhere new").err.starts_with("utter: "));
}
