//! Guarantee: the exit code and the messages report whatever fails around a run, and what a run wrote can be relied
//! on.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::fs;
use std::path::Path;
use std::process::Command;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::{Room, ran};
use utter_echo_lab::{DriveKind, MountedDrive};

#[test]
fn commands_run_before_and_after_a_run_and_are_given_its_exit_code() {
    let room = Room::new().with("source/log", "lit").with("bin/", "");
    room.write("bin/before", "#!/bin/sh\ntest ! -e echo && touch frozen");
    room.write("bin/after", "#!/bin/sh\necho $UTTER_EXIT_CODE >> ended");
    let run = |before: &str, after: &str, source: &str| {
        let mut command = room.command("copy");
        command.args(["--run-before", before, "--run-after", after, source, "echo"]);
        ran(&command.output().unwrap())
    };
    let (before, after) = ("sh bin/before", "sh bin/after");
    let first = run(before, after, "source");
    assert_eq!(first.code, 0, "{first:?}");
    assert!(room.path("frozen").exists());
    assert_eq!(room.read("echo/log"), "lit");
    // It fails now that the copy exists; so nothing is touched, and the end is reported all the same.
    room.write("source/log", "dark, and longer");
    let second = run(before, after, "source");
    assert_eq!(second.code, 4, "{second:?}");
    assert!(second.err.contains("--run-before 'sh bin/before' failed"), "{second:?}");
    assert!(second.err.contains("nothing was touched"), "{second:?}");
    assert_eq!(room.read("echo/log"), "lit");
    assert_eq!(run("true", after, "nowhere").code, 2);
    assert_eq!(room.read("ended"), "0\n4\n2\n");
    let third = run("true", "exit 7", "source");
    assert_eq!(third.code, 3, "{third:?}");
    assert!(third.err.contains("--run-after 'exit 7' failed: exit status: 7"), "{third:?}");
    assert_eq!(room.read("echo/log"), "dark, and longer");
    let dry = ran(&room
        .command("copy -n --run-before")
        .args(["touch dry", "source", "echo"])
        .output()
        .unwrap());
    assert!(dry.code == 0 && !room.path("dry").exists(), "{dry:?}");
}

#[test]
fn written_files_are_read_back_and_different_ones_are_reported() {
    let room = Room::new().with("source/a.log", "lit").with("source/deep/lens.svg", "<svg/>");
    fs::write(room.path("source/season.wav"), vec![7; 4 << 20]).unwrap();
    let mut run = room.command("copy --read-back --rate 1M --workers 1 source echo");
    let run = run.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    // While the long file is copied, one that was written already changes, and keeps its time.
    let early = room.path("echo/a.log");
    let begun = Instant::now();
    while !early.exists() {
        assert!(begun.elapsed() < Duration::from_secs(60), "nothing was copied");
        std::thread::sleep(Duration::from_millis(2));
    }
    let modified = early.metadata().unwrap().modified().unwrap();
    fs::write(&early, "LIT").unwrap();
    fs::File::options().write(true).open(&early).unwrap().set_modified(modified).unwrap();
    let run = ran(&run.wait_with_output().unwrap());
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.err.contains("a.log") && !run.err.contains("lens.svg"), "{run:?}");
    // Its time was cleared, so the next run writes it again.
    let again = room.run("copy --read-back source echo");
    assert_eq!((again.code, &*room.read("echo/a.log")), (0, "lit"), "{again:?}");
}

#[test]
fn a_destination_on_another_drive_than_was_named_is_refused() {
    let room = Room::new().with("source/log", "lit");
    let run = room.run("copy --require-drive keeper-a source echo");
    assert_eq!(run.code, 4, "{run:?}");
    assert!(run.err.contains("the guard 'drive'") && run.err.contains("'keeper-a'"), "{run:?}");
    assert!(run.err.contains("--waive drive") && !room.path("echo").exists(), "{run:?}");
    assert_eq!(room.run("copy --require-drive keeper-a --waive drive source echo").code, 0);
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts drives");
    }
    let made = MountedDrive::make(DriveKind::Ext4, &room.path("lab"));
    let Ok(drive) = made.inspect_err(|reason| utter_echo_lab::left_out(reason)) else { return };
    let listed = room.run(&format!("drives --format json {}", drive.folder().display()));
    let line: serde_json::Value = serde_json::from_str(listed.out.lines().nth(1).unwrap()).unwrap();
    let uuid = line["uuid"].as_str().unwrap();
    let to = drive.folder().join("echo");
    let run = room.run(&format!("copy --require-drive {uuid} source {}", to.display()));
    assert_eq!(run.code, 0, "{run:?}");
    // By its name the drive is found wherever it is mounted; the letters may be of either case.
    // The output calls it as it was typed.
    let typed = format!("uuid={}/new/deep", uuid.to_uppercase());
    let run = room.run(&format!("copy source {typed}"));
    assert!(run.code == 0 && run.out.contains(&format!("Copied source → {typed} in")), "{run:?}");
    let last = room.run("history --last --format json").out;
    let real = format!("\"path\":\"{}\"", drive.folder().join("new/deep").display());
    assert!(last.contains(&real), "{last}");
    let refused = room.run(&format!("copy --inside --require-drive other source {typed}"));
    assert!(refused.err.contains(&format!("'{typed}/source' is not on the drive")), "{refused:?}");
    assert_eq!(fs::read_to_string(drive.folder().join("new/deep/log")).unwrap(), "lit");
    assert_eq!(room.run(&format!("verify source uuid={uuid}/new/deep")).code, 0);
    let missing = room.run("copy source label=nowhere/x");
    assert_eq!(missing.code, 7, "{missing:?}");
    assert!(missing.err.contains("no mounted drive has the label 'nowhere'"), "{missing:?}");
    let there = format!("uuid={uuid} is at {}", drive.folder().display());
    assert!(missing.err.contains(&there), "{missing:?}");
    room.write(
        "utter.toml",
        &format!(
            "[job.a]\ncommand = \"copy\"\nsource = \"source\"\ndestination = \"uuid={uuid}/job\"\nat = \"when mounted\"\n"
        ),
    );
    let scheduled = room.run("schedule --jobs utter.toml a");
    assert_eq!(scheduled.code, 0, "{scheduled:?}");
    let mounted = scheduled.out.lines().find_map(|line| line.strip_prefix("WantedBy="));
    assert!(mounted.is_some_and(|unit| unit.ends_with("drive.mount")), "{scheduled:?}");
    assert!(!scheduled.out.contains(".timer"), "{scheduled:?}");
    assert_eq!(room.run("run --jobs utter.toml a").code, 0);
    assert!(drive.folder().join("job/log").exists());
    // A folder that is really called so.
    assert_eq!(room.run("copy source ./label=nowhere").code, 0);
    assert_eq!(room.read("label=nowhere/log"), "lit");
    drop(drive);
    assert_eq!(room.run("jobs --jobs utter.toml").code, 0);
    let gone = room.run("run --jobs utter.toml a");
    assert!(gone.code == 7 && gone.err.contains("no mounted drive has the UUID"), "{gone:?}");
    // The folder is there without its drive.
    let run = room.run(&format!("copy --require-drive {uuid} source {}", to.display()));
    assert_eq!(run.code, 4, "{run:?}");
    assert!(!to.exists());
}

#[test]
fn a_drive_that_disappears_ends_the_run_with_one_message() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts drives");
    }
    let room = Room::new();
    let made = MountedDrive::make(DriveKind::ExFat, &room.path("lab"));
    let Ok(drive) = made.inspect_err(|reason| utter_echo_lab::left_out(reason)) else { return };
    for i in 0..300 {
        room.write(&format!("source/{i}/leaf.csv"), &"lit".repeat(3000));
    }
    let to = drive.folder().join("echo");
    let line = format!("copy --rate 500K --retries 0 source {}", to.display());
    let mut command = room.command(&line);
    let run = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let begun = Instant::now();
    while fs::read_dir(&to).map_or(0, Iterator::count) < 20 {
        assert!(begun.elapsed() < Duration::from_secs(60), "nothing was copied");
        std::thread::sleep(Duration::from_millis(5));
    }
    assert!(drive.pull());
    let ended = ran(&run.wait_with_output().unwrap());
    assert_eq!(ended.code, 5, "{ended:?}");
    assert!(ended.out.contains("Ended early"), "{ended:?}");
    // One for each worker at most, not one for each of the files that were left, and the flush.
    assert!(ended.err.lines().count() <= 8, "{ended:?}");
}

#[test]
fn a_run_continues_once_its_drive_is_back() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts drives");
    }
    let room = Room::new();
    let made = MountedDrive::make(DriveKind::Ext4, &room.path("lab"));
    let Ok(drive) = made.inspect_err(|reason| utter_echo_lab::left_out(reason)) else { return };
    for i in 0..300 {
        room.write(&format!("source/{i}/leaf.csv"), &"lit".repeat(3000));
    }
    let to = drive.folder().join("echo");
    for (patience, code) in [("300ms", 5), ("50s", 130), ("60s", 0)] {
        let rest = format!("--format json source {}", to.display());
        let line = format!("copy --rate 500K --retries 0 --wait-for-drive {patience} {rest}");
        let mut command = room.command_that_hears(&line);
        // Not into a pipe that nobody reads, which would hold it up.
        let told = fs::File::create(room.path("told")).unwrap();
        let run = command.stdout(told).stderr(Stdio::piped()).spawn().unwrap();
        let begun = Instant::now();
        let before = fs::read_dir(&to).map_or(0, Iterator::count);
        while fs::read_dir(&to).map_or(0, Iterator::count) < before + 20 {
            assert!(begun.elapsed() < Duration::from_secs(60), "nothing was copied");
            std::thread::sleep(Duration::from_millis(5));
        }
        drive.shut_down().unwrap();
        if code == 0 {
            // Until it is waited for, it is still held.
            while drive.mount_again().is_err() {
                assert!(begun.elapsed() < Duration::from_secs(60), "the drive is not let go");
                std::thread::sleep(Duration::from_millis(50));
            }
        }
        if code == 130 {
            // In the middle of the waiting, or just before.
            std::thread::sleep(Duration::from_millis(500));
            let mut kill = Command::new("kill");
            assert!(kill.args(["-INT", &run.id().to_string()]).status().unwrap().success());
        }
        let ended = ran(&run.wait_with_output().unwrap());
        let ended = crate::common::Ran { out: room.read("told"), ..ended };
        assert_eq!(ended.code, code, "{ended:?}");
        assert!(ended.out.contains("waiting up to"), "{ended:?}");
        assert!(!ended.out.contains("nothing was touched"), "{ended:?}");
        // What was done before and after the wait is reported once.
        let totals: Vec<serde_json::Value> = ended
            .out
            .lines()
            .map(|line| serde_json::from_str(line).unwrap())
            .filter(|line: &serde_json::Value| line["kind"] == "totals")
            .collect();
        let done = |verb: &str| totals[0]["run_totals"]["done"][verb]["entries"].as_u64().unwrap();
        assert_eq!(totals.len(), 1, "{ended:?}");
        assert!(done("add") >= if code == 0 { 500 - 2 * before as u64 } else { 10 }, "{totals:?}");
        if code != 0 {
            drive.mount_again().unwrap();
        }
    }
    assert_eq!(room.list("source").len(), fs::read_dir(&to).unwrap().count() * 2);
    assert_eq!(room.run(&format!("verify --by content source {}", to.display())).code, 0);
}

#[test]
fn a_size_is_not_trusted_over_the_content() {
    // The kernel makes up what these hold when they are read, and gives them sizes of no meaning.
    let (empty, longer) = (Path::new("/proc/version"), Path::new("/sys/kernel/cpu_byteorder"));
    let room = Room::new();
    let content = fs::read(empty).unwrap();
    assert!(empty.metadata().unwrap().len() == 0 && !content.is_empty());
    let copied = room.run("copy --read-back /proc/version made-up");
    assert_eq!(copied.code, 0, "{copied:?}");
    assert_eq!(fs::read(room.path("made-up")).unwrap(), content);
    let Ok(is) = fs::read(longer) else { return utter_echo_lab::left_out("no /sys to read") };
    assert!(longer.metadata().unwrap().len() > is.len() as u64);
    let refused = room.run("copy /sys/kernel/cpu_byteorder order");
    assert_eq!(refused.code, 3, "{refused:?}");
    assert!(refused.err.contains("size is given as 4096 bytes, but it ended after"), "{refused:?}");
    assert!(!room.path("order").exists());
}

#[test]
fn a_limit_on_the_size_of_files_fails_only_the_larger_ones() {
    let room = Room::new().with("source/a.log", "lit").with("source/z.log", "dark");
    fs::write(room.path("source/season.wav"), vec![7; 1 << 20]).unwrap();
    let utter = room.command("").get_program().to_owned();
    let mut limited = Command::new("sh");
    limited.args(["-c", "ulimit -f 200; exec \"$0\" copy source echo"]).arg(utter);
    limited.current_dir(room.path("")).env("XDG_STATE_HOME", room.path("state"));
    let run = ran(&limited.output().unwrap());
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.err.contains("season.wav"), "{run:?}");
    assert_eq!(room.list("echo"), ["a.log", "z.log"]);
}
