//! Guarantee: `execute` does what the saved dry run showed, except stale steps; and a plan that was changed does
//! nothing.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;

use crate::common::Room;

fn saltmere() -> Room {
    let room = Room::new()
        .with("saltmere/logbooks/1931.csv", "calm")
        .with("saltmere/lens.svg", "<svg/>")
        .with("saltmere/tide.csv", "1,2,3")
        .with("keeper/lens.svg", "<svg></svg>")
        .with("keeper/old.txt", "old");
    let saved = room.run("mirror --dry-run --save-plan monday.plan saltmere keeper");
    assert_eq!(saved.code, 0, "{saved:?}");
    assert!(
        saved.out.contains("note: the plan is saved; carry it out with: utter execute monday.plan")
    );
    assert_eq!(room.list("keeper"), ["lens.svg", "old.txt"]);
    room
}

#[test]
fn a_saved_plan_is_shown_and_executed() {
    let room = saltmere();
    // Later entries are no part of it, and the places are those of the saved plan.
    room.write("saltmere/late.txt", "late");
    fs::create_dir(room.path("elsewhere")).unwrap();
    let mut command = room.command("execute --dry-run ../monday.plan");
    let shown = crate::common::ran(&command.current_dir(room.path("elsewhere")).output().unwrap());
    assert_eq!(shown.code, 0, "{shown:?}");
    for line in ["add      tide.csv", "replace  lens.svg", "remove   old.txt"] {
        assert!(shown.out.contains(line), "{line} is missing: {shown:?}");
    }
    assert!(!shown.out.contains("late.txt"));
    let applied = room.run("execute --yes monday.plan");
    assert_eq!(applied.code, 0, "{applied:?}");
    assert_eq!(room.list("keeper"), ["lens.svg", "logbooks/", "logbooks/1931.csv", "tide.csv"]);
    assert_eq!(room.read("keeper/lens.svg"), "<svg/>");
    // It was for what is no longer there.
    assert_eq!(room.run("execute monday.plan --all-or-nothing").code, 4);
}

#[test]
fn a_stale_step_is_refused_and_the_rest_is_done_or_nothing() {
    let room = saltmere();
    room.write("keeper/old.txt", "not so old after all");
    room.write("saltmere/tide.csv", "4,5,6 and more");
    let shown = room.run("execute --dry-run monday.plan");
    assert_eq!(shown.code, 3, "{shown:?}");
    let nothing = room.run("execute --all-or-nothing monday.plan");
    assert_eq!(nothing.code, 4, "{nothing:?}");
    for (name, side) in [("old.txt", "the destination"), ("tide.csv", "the source")] {
        let told = |ran: &crate::common::Ran| {
            ran.err.lines().any(|line| line.contains(name) && line.contains(side))
        };
        assert!(told(&shown) && told(&nothing), "{name}: {nothing:?}");
    }
    assert_eq!(room.list("keeper"), ["lens.svg", "old.txt"]);
    let applied = room.run("execute --yes monday.plan");
    assert_eq!(applied.code, 3, "{applied:?}");
    assert_eq!(applied.err.lines().count(), 2, "{applied:?}");
    let expected = ["lens.svg", "logbooks/", "logbooks/1931.csv", "old.txt"];
    assert_eq!(room.list("keeper"), expected);
    assert_eq!(room.read("keeper/old.txt"), "not so old after all");
    assert_eq!(room.read("keeper/lens.svg"), "<svg/>");
}

#[test]
fn a_bad_plan_or_a_bad_place_for_one_is_refused_and_nothing_is_touched() {
    let room = saltmere();
    let again = room.run("mirror --save-plan monday.plan saltmere keeper");
    assert_eq!(again.code, 2, "{again:?}");
    assert!(again.err.contains("'monday.plan' already exists"), "{again:?}");
    let text = room.read("monday.plan");
    fs::write(room.path("edited"), text.replace("tide.csv", "tidy.csv")).unwrap();
    fs::write(room.path("older"), text.replace("\"version\":4", "\"version\":3")).unwrap();
    fs::write(room.path("short"), &text[..text.len() / 2]).unwrap();
    for (call, word) in [
        ("execute edited", "was changed after it was written"),
        ("execute older", "has version 3"),
        ("execute short", "line"),
        ("execute saltmere/lens.svg", "line 1 is not a line of a plan"),
        ("execute nowhere", "cannot open the plan"),
    ] {
        let refused = room.run(call);
        assert_eq!(refused.code, 2, "{call}: {refused:?}");
        assert!(refused.err.contains(word), "{call}: {refused:?}");
    }
    fs::rename(room.path("keeper"), room.path("away")).unwrap();
    let unfit = room.run("execute monday.plan");
    assert_eq!(unfit.code, 4, "{unfit:?}");
    assert!(!room.path("keeper").exists());
    assert_eq!(room.list("away"), ["lens.svg", "old.txt"]);
}
