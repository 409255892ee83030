//! Guarantee: on a terminal a mirror asks before it removes anything, and does nothing without a
//! yes; elsewhere nothing ever waits for an answer.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use crate::common::Room;

fn room() -> Room {
    Room::new()
        .with("source/kept.txt", "kept")
        .with("echo/kept.txt", "kept")
        .with("echo/gone.txt", "x")
}

#[test]
fn a_mirror_removes_only_after_a_yes() {
    for (typed, code) in [("n\n", 4), ("\n", 4), ("maybe\n", 4), ("y\n", 0), ("YES\n", 0)] {
        let room = room();
        let asked = room.on_a_terminal("mirror source echo", typed);
        assert_eq!(asked.code, code, "{typed:?}: {asked:?}");
        assert!(asked.out.contains("Remove 1 entry from echo? [y/N, "), "{asked:?}");
        assert!(asked.out.contains("gone.txt"), "{asked:?}");
        assert_eq!(room.path("echo/gone.txt").exists(), code != 0, "{typed:?}");
    }
}

#[test]
fn there_is_no_prompt_if_nothing_is_removed_or_with_yes() {
    let room = room();
    let yes = room.on_a_terminal("mirror --yes source echo", "");
    assert_eq!((yes.code, yes.out.contains("Go ahead")), (0, false), "{yes:?}");
    room.write("source/new.txt", "new");
    let adds = room.on_a_terminal("mirror source echo", "");
    assert_eq!((adds.code, adds.out.contains("Go ahead")), (0, false), "{adds:?}");
    room.write("source/newer.txt", "newer");
    let asks = room.on_a_terminal("copy --ask source echo", "n\n");
    assert_eq!(
        (asks.code, asks.out.contains("Make these changes in echo?")),
        (4, true),
        "{asks:?}"
    );
    assert!(!room.path("echo/newer.txt").exists());
}

#[test]
fn without_a_terminal_a_mirror_runs_within_its_guards() {
    let room = room();
    let went = room.run("mirror source echo");
    assert_eq!((went.code, room.list("echo")), (0, vec!["kept.txt".to_owned()]), "{went:?}");
}

#[test]
fn steps_can_be_listed_before_the_answer() {
    let room = room();
    for i in 0..50 {
        room.write(&format!("source/tides/{i}.csv"), "high");
    }
    room.write("source/lens.svg", "<svg/>");
    let typed = "l lens\nl add\n\nq\nl remove\nl nowhere\ny\n";
    let asked = room.on_a_terminal("mirror source echo", typed);
    assert_eq!(asked.code, 0, "{asked:?}");
    let count = |text: &str| asked.out.matches(text).count();
    assert_eq!(count("lens.svg"), 2, "once for the word and once for the kind: {asked:?}");
    // Two pages of twenty of what is added, of which the folder is one and the drawing another.
    assert_eq!(count("tides/"), 38, "{asked:?}");
    assert_eq!(count("Enter for more"), 2, "{asked:?}");
    assert_eq!(count("gone.txt"), 2, "{asked:?}");
    assert_eq!(count("No step is of that kind"), 1, "{asked:?}");
    assert!(!room.path("echo/gone.txt").exists());
}

#[test]
fn each_step_that_replaces_or_removes_is_asked_about() {
    for (typed, left) in [
        // lens.svg is replaced, old/ stays with all it holds, z.txt goes.
        ("y\nn\nyes\n", ["<svg/>", "kept", "gone"]),
        ("what?\nno\nall\n", ["<older/>", "gone", "gone"]),
        ("none\n", ["<older/>", "kept", "kept"]),
        ("y\nq\n", ["<older/>", "kept", "kept"]),
        ("a\n", ["<svg/>", "gone", "gone"]),
    ] {
        let room = Room::new()
            .with("source/lens.svg", "<svg/>")
            .with("source/new.txt", "new")
            .with("echo/lens.svg", "<older/>")
            .with("echo/old/deep/ledger.txt", "x")
            .with("echo/old/list.csv", "x")
            .with("echo/z.txt", "x");
        let asked = room.on_a_terminal("mirror --ask=each source echo", typed);
        let quits = typed.contains('q');
        assert_eq!(asked.code, if quits { 4 } else { 0 }, "{typed:?}: {asked:?}");
        let is_there = |path: &str| if room.path(path).exists() { "kept" } else { "gone" };
        let found = [&room.read("echo/lens.svg"), is_there("echo/old"), is_there("echo/z.txt")];
        assert_eq!(found, left, "{typed:?}: {asked:?}");
        assert_eq!(is_there("echo/old/deep/ledger.txt"), left[1], "{typed:?}");
        assert_eq!(room.path("echo/new.txt").exists(), !quits, "what is added is not asked about");
    }
}
