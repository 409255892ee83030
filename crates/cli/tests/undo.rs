//! Guarantee: what a run set aside is told, found under the path it had, and brought back by `undo`
//! as far as nobody changed what the run left; and what is no such run is told and touches nothing.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

mod common;

use std::fs;

use common::{Ran, Room};

/// A mirror that replaced, adjusted, added and removed, and the folder of its run.
fn mirrored() -> (Room, String) {
    let room = Room::new()
        .with("saltmere/lens.svg", "<svg/>")
        .with("saltmere/tide.csv", "1,2,3")
        .with("keeper/lens.svg", "<svg></svg>")
        .with("keeper/old/ledger.txt", "old");
    let run = room.run("mirror --yes --set-aside aside saltmere keeper");
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(room.list("keeper"), ["lens.svg", "tide.csv"]);
    let told =
        run.out.lines().find_map(|line| line.strip_prefix("To take this run back: utter undo "));
    (room, told.unwrap().to_owned())
}

#[test]
fn a_run_is_shown_and_taken_back() {
    let (room, run) = mirrored();
    assert_eq!(room.list(&run), ["lens.svg", "old/", "old/ledger.txt"]);
    assert_eq!(room.read(&format!("{run}/lens.svg")), "<svg></svg>");
    let shown = room.run(&format!("undo --dry-run {run}"));
    assert_eq!(shown.code, 0, "{shown:?}");
    for line in ["replace  lens.svg", "add      old/ledger.txt", "remove   tide.csv"] {
        assert!(shown.out.contains(line), "{line} is missing: {shown:?}");
    }
    assert_eq!(room.list("keeper"), ["lens.svg", "tide.csv"]);
    let undone = room.run(&format!("undo {run}/"));
    assert_eq!(undone.code, 0, "{undone:?}");
    assert!(undone.out.starts_with("Undone "), "{undone:?}");
    assert_eq!(room.list("keeper"), ["lens.svg", "old/", "old/ledger.txt"]);
    assert_eq!(room.read("keeper/lens.svg"), "<svg></svg>");
    assert!(room.list("aside").is_empty());
    assert_eq!(room.run(&format!("undo {run}")).code, 2);
}

#[test]
fn what_changed_since_is_named_and_left_alone() {
    let (room, run) = mirrored();
    room.write("keeper/lens.svg", "<svg>mine</svg>");
    let refused = room.run(&format!("undo --all-or-nothing {run}"));
    assert_eq!(refused.code, 4, "{refused:?}");
    let undone = room.run(&format!("undo {run}"));
    assert_eq!(undone.code, 3, "{undone:?}");
    let names = |ran: &Ran| ran.err.lines().any(|line| line.contains("lens.svg: "));
    assert!(names(&refused) && names(&undone), "{undone:?}");
    assert_eq!(room.read("keeper/lens.svg"), "<svg>mine</svg>");
    assert_eq!(room.list("keeper"), ["lens.svg", "old/", "old/ledger.txt"]);
    assert_eq!(room.read(&format!("{run}/lens.svg")), "<svg></svg>");
}

#[test]
fn a_destination_that_the_run_made_goes_with_it() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>");
    let run = room.run("copy --set-aside aside --format json saltmere keeper");
    let totals: serde_json::Value = serde_json::from_str(run.out.lines().last().unwrap()).unwrap();
    let undone = room.run(&format!("undo {}", totals["run"]["set_aside"].as_str().unwrap()));
    assert_eq!(undone.code, 0, "{undone:?}");
    assert!(!room.path("keeper").exists());
}

#[test]
fn a_single_file_comes_back_beside_what_was_set_aside() {
    let room = Room::new().with("tide.csv", "1,2,3").with("keeper.csv", "old");
    let copied = room.run("copy --set-aside aside tide.csv keeper.csv");
    assert_eq!((copied.code, room.read("keeper.csv")), (0, "1,2,3".into()));
    let run = room.list("aside").into_iter().find(|name| name.ends_with("Z/")).unwrap();
    let undone = room.run(&format!("undo aside/{run}"));
    assert_eq!((undone.code, room.read("keeper.csv")), (0, "old".into()), "{undone:?}");
    assert_eq!(room.read("tide.csv"), "1,2,3");
}

#[test]
fn what_is_no_run_or_no_place_for_one_is_told_and_nothing_is_touched() {
    let (room, run) = mirrored();
    let record = room.read(&format!("{run}.record"));
    fs::create_dir(room.path("aside/edited")).unwrap();
    room.write("aside/edited.record", &record.replace("tide.csv", "tidy.csv"));
    fs::create_dir(room.path("aside/elsewhere")).unwrap();
    let line = record.lines().last().unwrap();
    let elsewhere = format!("{record}{}\n", line.replace("\"path\":\"", "\"path\":\"../"));
    room.write("aside/elsewhere.record", &elsewhere);
    for (call, code, word) in [
        ("undo nowhere", 2, "is no run that was set aside"),
        ("undo aside", 2, "it holds one run, 'aside/2"),
        ("undo keeper", 2, "name a folder that --set-aside made"),
        ("undo aside/edited", 2, "damaged"),
        ("undo aside/elsewhere", 2, "is no path below a root"),
        ("mirror --set-aside keeper/aside saltmere keeper", 4, "outside of both"),
        ("mirror --set-aside saltmere saltmere keeper", 4, "outside of both"),
        ("mirror --set-aside saltmere/lens.svg saltmere keeper", 2, "is not a folder"),
        ("mirror --set-aside-keep 3 saltmere keeper", 2, "--set-aside <FOLDER>"),
        (
            "mirror --set-aside aside --set-aside-keep 0 saltmere keeper",
            2,
            "a number of runs above 0",
        ),
    ] {
        let refused = room.run(call);
        assert_eq!(refused.code, code, "{call}: {refused:?}");
        assert!(refused.err.contains(word), "{call}: {refused:?}");
    }
    assert_eq!(room.list("keeper"), ["lens.svg", "tide.csv"]);
    assert_eq!(room.list("saltmere"), ["lens.svg", "tide.csv"]);
}
