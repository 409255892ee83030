//! Guarantee: `utter move` empties one place into another without losing anything: what stays is named, what
//! goes is told, and bad places are refused before anything is touched.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

mod common;

use std::process::Stdio;
use std::time::Duration;

use common::Room;
use utter_echo_lab::{differences, snapshot};

fn attic() -> Room {
    let room = Room::new();
    for path in ["1931/tide.csv", "1931/fog/gull.wav", "1932/tide.csv", "note.txt"] {
        room.write(&format!("attic/{path}"), &format!("the {path}"));
    }
    room.write("attic/empty/", "");
    room
}

#[test]
fn everything_goes_with_the_folder_that_held_it() {
    let room = attic();
    let before = snapshot(&room.path("attic"));
    let dry = room.run("move --dry-run attic loft");
    assert_eq!(dry.code, 0, "{dry:?}");
    for line in ["add      1931/tide.csv", "vacate   1931/tide.csv", "vacate   . ", "Plan to move"]
    {
        assert!(dry.out.contains(line), "{line}: {dry:?}");
    }
    assert_eq!(snapshot(&room.path("attic")), before);
    let moved = room.run("move attic loft");
    assert_eq!(moved.code, 0, "{moved:?}");
    assert!(
        moved.out.contains("Moved attic → loft") && moved.out.contains("  vacated    9 entries"),
        "{moved:?}"
    );
    assert!(!room.path("attic").exists());
    assert_eq!(differences(&before, &snapshot(&room.path("loft"))), "");
    let again = room.run("move attic loft");
    assert!(again.code == 2 && again.err.contains("does not exist"), "{again:?}");
}

#[test]
fn what_meets_another_stays_is_listed_and_refuses_the_whole_if_wanted() {
    let room = attic().with("loft/1931/tide.csv", "another").with("loft/other.txt", "other");
    let (here, there) = (snapshot(&room.path("attic")), snapshot(&room.path("loft")));
    let refused = room.run("move --all-or-nothing attic loft");
    assert_eq!(refused.code, 4, "{refused:?}");
    assert_eq!((here, there), (snapshot(&room.path("attic")), snapshot(&room.path("loft"))));
    let moved = room.run("move attic loft");
    assert_eq!(moved.code, 3, "{moved:?}");
    assert!(
        moved.err.contains("1931/tide.csv: cannot move: another entry of this name"),
        "{moved:?}"
    );
    assert!(moved.err.contains("--on-conflict"), "{moved:?}");
    assert_eq!(room.list("attic"), ["1931/", "1931/tide.csv"]);
    assert_eq!(
        (room.read("loft/1931/tide.csv"), room.read("loft/other.txt")),
        ("another".into(), "other".into())
    );
    assert_eq!(room.run("move --on-conflict replace attic loft").code, 0);
    assert!(!room.path("attic").exists());
    assert_eq!(room.read("loft/1931/tide.csv"), "the 1931/tide.csv");
}

#[test]
fn only_what_is_wanted_goes() {
    let room = attic();
    assert_eq!(room.run("move --only *.csv attic loft").code, 0);
    assert_eq!(
        room.list("attic"),
        ["1931/", "1931/fog/", "1931/fog/gull.wav", "empty/", "note.txt"]
    );
    assert_eq!(room.list("loft"), ["1931/", "1931/tide.csv", "1932/", "1932/tide.csv"]);
    assert_eq!(room.run("move --leave-folders attic loft").code, 0);
    assert_eq!(room.list("attic"), ["1931/", "1931/fog/", "empty/"]);
    let room = attic();
    assert_eq!(room.run("move attic/note.txt loft/").code, 0);
    assert_eq!(
        (room.list("loft"), room.path("attic/note.txt").exists()),
        (vec!["note.txt".into()], false)
    );
    assert_eq!(room.run("move attic/1931 attic/1932 loft").code, 0);
    assert_eq!(room.list("attic"), ["empty/"]);
    assert!(
        room.path("loft/1931/fog/gull.wav").exists() && room.path("loft/1932/tide.csv").exists()
    );
}

#[test]
fn places_that_cannot_be_meant_are_refused() {
    for (line, code, word) in [
        ("move attic attic", 4, "overlap"),
        ("move attic attic/1931", 4, "overlap"),
        ("move attic/1931 attic", 4, "overlap"),
        ("move nowhere loft", 2, "does not exist"),
        ("move attic", 2, "the destination is missing"),
        ("move --carry content attic loft", 4, "guard 'loss'"),
        ("move --on-conflict perhaps attic loft", 2, "skip, replace, newer"),
        ("move --set-aside aside attic loft", 2, "there is no option"),
    ] {
        let room = attic();
        let before = snapshot(&room.path("attic"));
        let refused = room.run(line);
        assert_eq!(refused.code, code, "{line}: {refused:?}");
        assert!(refused.err.contains(word), "{line}: {refused:?}");
        assert_eq!(snapshot(&room.path("attic")), before, "{line}");
    }
    let room = attic();
    assert_eq!(room.run("move --carry content --waive loss attic loft").code, 0);
}

#[test]
fn the_folder_that_one_works_in_stays() {
    let room = attic();
    let mut command = room.command("move . ../loft");
    let ran = common::ran(&command.current_dir(room.path("attic")).output().unwrap());
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(room.path("attic").exists() && room.list("attic").is_empty());
    assert_eq!(room.list("loft").len(), 8);
}

#[test]
fn a_move_that_is_stopped_is_finished_by_the_same_line() {
    let room = Room::new();
    for i in 0..40 {
        room.write(&format!("attic/{i}/season.wav"), &"~".repeat(100_000));
    }
    let before = snapshot(&room.path("attic"));
    for signal in ["-KILL", "-INT", "-TERM"] {
        let mut child = room
            .command_that_hears("move --rate 3M attic loft")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(300));
        let mut kill = std::process::Command::new("kill");
        assert!(kill.args([signal, &child.id().to_string()]).status().unwrap().success());
        child.wait().unwrap();
        let both = [
            room.list("attic"),
            if room.path("loft").exists() { room.list("loft") } else { Vec::new() },
        ];
        for path in before.keys().map(|path| String::from_utf8(path.clone()).unwrap()) {
            let is_there = both.iter().flatten().any(|other| other.trim_end_matches('/') == path);
            assert!(path.is_empty() || is_there, "{signal}: {path}");
        }
    }
    assert_eq!(room.run("move attic loft").code, 0);
    assert!(!room.path("attic").exists());
    assert_eq!(differences(&before, &snapshot(&room.path("loft"))), "");
}
