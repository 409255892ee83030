//! Guarantee: `utter move` empties one place into another without losing anything: what stays and what goes is
//! reported, and bad places are refused before anything is touched.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::process::Stdio;
use std::time::Duration;

use crate::common::{NOBODY, Ran, Room};
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
fn an_entry_counts_once_and_an_undo_calls_the_sides_as_the_move_did() {
    let (room, memory) = (attic(), utter_echo_lab::folder_in_memory().unwrap());
    let loft = memory.path().join("loft");
    let moved = room.run(&format!("move attic {}", loft.display()));
    if moved.out.contains("renamed") {
        return utter_echo_lab::left_out("a move between two drives");
    }
    assert!(moved.out.contains("  left the source 9 entries"), "{moved:?}");
    let last = room.run("history --last --format json").out;
    assert!(last.contains(r#""done":{"entries":9,"bytes":67}"#), "{last}");
    let run = run_to_undo(&moved.out);
    let dry = room.run(&format!("undo --dry-run {run}")).out;
    for line in [
        "add      1931/tide.csv · 17 B · new",
        "Once its copy is verified:",
        "remove   1931/tide.csv · 17 B · removed from the destination after verification",
        "remove from the destination 9 (67 B)",
    ] {
        assert!(dry.contains(line), "{line}: {dry}");
    }
    let undone = room.run(&format!("undo {run}")).out;
    assert!(undone.contains("  left the destination 9 entries, 67 B"), "{undone}");
}

#[test]
fn everything_is_moved_with_its_folder() {
    let room = attic();
    let before = snapshot(&room.path("attic"));
    let copying = "--steps all,-rename";
    let one_step = ["rename   . · moved here, with everything in it"];
    let many = [
        "add      1931/tide.csv",
        "nce its copy is verified:",
        "remove   1931/tide.csv",
        "remove   . ",
    ];
    for (option, planned, came_to) in [
        ("", &one_step[..], "  renamed    1 entry\n"),
        (copying, &many[..], "  left the source 9 entries"),
    ] {
        let dry = room.run(&format!("move --dry-run {option} attic loft"));
        assert_eq!(dry.code, 0, "{dry:?}");
        assert!(dry.out.contains("Plan to move"), "{dry:?}");
        assert!(planned.iter().all(|line| dry.out.contains(line)), "{planned:?}: {dry:?}");
        assert_eq!(snapshot(&room.path("attic")), before);
        let moved = room.run(&format!("move {option} attic loft"));
        assert_eq!(moved.code, 0, "{moved:?}");
        assert!(
            moved.out.contains("Moved attic → loft") && moved.out.contains(came_to),
            "{moved:?}"
        );
        assert!(!room.path("attic").exists());
        assert_eq!(differences(&before, &snapshot(&room.path("loft"))), "");
        let again = room.run("move attic loft");
        assert!(again.code == 2 && again.err.contains("does not exist"), "{again:?}");
        let notes = room.run(&format!("undo --show {}", run_to_undo(&moved.out)));
        assert!(
            notes.code == 0 && planned.iter().all(|line| notes.out.contains(line)),
            "{notes:?}"
        );
        let compared = notes.out.matches("its copy was compared").count();
        assert_eq!(compared, if option.is_empty() { 0 } else { 4 }, "{notes:?}");
        let undone = room.run(&format!("undo {}", run_to_undo(&moved.out)));
        assert_eq!(undone.code, 0, "{undone:?}");
        assert_eq!(differences(&before, &snapshot(&room.path("attic"))), "");
        assert!(!room.path("loft").exists());
    }
}

#[test]
fn several_sources_are_restored_to_their_places_also_if_one_is_back_already() {
    let room = attic().with("attic/1932/lens.svg", "<svg/>");
    let before = snapshot(&room.path("attic/1932"));
    let moved = room.run("move --steps all,-rename attic/1931 attic/1932 loft");
    assert_eq!(moved.code, 0, "{moved:?}");
    // The first was moved back by other means.
    fs::rename(room.path("loft/1931"), room.path("attic/1931")).unwrap();
    let undone = room.run(&format!("undo --yes {}", run_to_undo(&moved.out)));
    assert_eq!(undone.code, 0, "{undone:?}");
    assert_eq!(differences(&before, &snapshot(&room.path("attic/1932"))), "");
    assert!(room.path("attic/1931/fog/gull.wav").exists());
}

#[test]
fn single_entries_are_restored_with_the_times_of_their_folders_and_new_folders_are_removed() {
    for (line, is_new) in [
        ("move attic/note.txt attic/log loft/1940/notes/", true),
        ("move attic/1931/tide.csv attic/log loft/", false),
        ("move --steps all,-rename attic/note.txt attic/log loft/1940/notes/", true),
        ("move --on-conflict keep-both attic/note.txt loft/", false),
    ] {
        let room = attic().with("attic/log", "of the year").with("loft/note.txt", "another");
        let seen = |room: &Room| (snapshot(&room.path("attic")), snapshot(&room.path("loft")));
        let before = seen(&room);
        let moved = room.run(line);
        assert_eq!(moved.code, 0, "{line}: {moved:?}");
        let undone = room.run(&format!("undo --yes {}", run_to_undo(&moved.out)));
        assert_eq!(undone.code, 0, "{line}: {undone:?}");
        let mut after = seen(&room);
        if is_new {
            // What was made was made in this folder, which nobody named.
            let time = before.1[&[][..]].modified;
            after.1.get_mut(&[][..]).unwrap().modified = time;
        }
        assert_eq!(differences(&before.0, &after.0), "", "{line}");
        assert_eq!(differences(&before.1, &after.1), "", "{line}");
    }
}

#[test]
fn what_a_single_entry_would_displace_is_known_before_it_is_tried() {
    let room = attic().with("loft/note.txt/inside", "a folder that holds something");
    for line in ["move --on-conflict replace attic/note.txt loft", "copy attic/note.txt loft"] {
        let (dry, run) = (room.run(&format!("{line} --dry-run")), room.run(line));
        assert_eq!((dry.code, run.code), (3, 3), "{dry:?} {run:?}");
        assert_eq!(dry.err, run.err);
        assert!(room.path("attic/note.txt").exists() && room.path("loft/note.txt/inside").exists());
    }
}

#[test]
fn replaced_entries_that_are_not_kept_are_reported_by_the_move_and_its_undo() {
    let room = attic().with("loft/note.txt", "another");
    let line = "move --on-conflict replace attic loft";
    let dry = room.run(&format!("{line} --dry-run"));
    let moved = room.run(line);
    let note = "note: replaced entries are not kept (1 entry)";
    assert!(dry.err.contains(note) || dry.out.contains(note), "{dry:?}");
    assert!(!moved.out.contains("set aside"), "{moved:?}");
    let undone = room.run(&format!("undo --yes {}", run_to_undo(&moved.out)));
    let named = "note.txt: cannot put back: it was replaced or removed";
    assert!(undone.code == 3 && undone.err.contains(named), "{undone:?}");
    assert_eq!(room.read("attic/note.txt"), "the note.txt");
    assert!(!room.path("loft/note.txt").exists() && !room.path("loft/1931").exists());
}

/// The run that a move says how to undo.
fn run_to_undo(told: &str) -> &str {
    told.split_once("utter undo ").unwrap().1.lines().next().unwrap()
}

#[test]
fn a_folder_in_conflict_with_a_file_is_kept_beside_it_and_restored() {
    for options in ["", "--steps all,-rename", "--exclude *.tmp"] {
        let room = Room::new()
            .with("attic/logbooks/1931/tide.csv", "high at six")
            .with("attic/logbooks/lens.svg", "<svg/>")
            .with("attic/logbooks/half.tmp", "left out or not")
            .with("loft/logbooks", "a list of them");
        let (here, there) = (snapshot(&room.path("attic")), snapshot(&room.path("loft")));
        let moved = room.run(&format!("move {options} --on-conflict keep-both attic loft"));
        assert_eq!(moved.code, 0, "{options}: {moved:?}");
        assert_eq!(room.read("loft/logbooks"), "a list of them");
        let arrived = room.list("loft").into_iter().find(|name| name.starts_with("logbooks "));
        let arrived = arrived.unwrap();
        assert_eq!(room.read(&format!("loft/{arrived}1931/tide.csv")), "high at six", "{options}");
        assert_eq!(room.path("attic/logbooks").exists(), options.starts_with("--exclude"));
        let back = room.run(&format!("undo --yes {}", run_to_undo(&moved.out)));
        assert_eq!(back.code, 0, "{options}: {back:?}");
        for (before, path) in [(&here, "attic"), (&there, "loft")] {
            let left = differences(before, &snapshot(&room.path(path)));
            assert!(left.is_empty(), "{options}: {path}: {left}");
        }
    }
}

#[test]
fn both_are_kept_or_the_answer_counts_and_undo_restores_the_names() {
    let grown = || attic().with("loft/1931/tide.csv", "another").with("loft/note.txt", "other");
    for (line, typed, kept, replaced) in [
        ("move --on-conflict keep-both attic loft", "", 2, 0),
        ("move --on-conflict ask attic loft", "k all\n", 2, 0),
        ("move --on-conflict ask --set-aside aside attic loft", "r\n?\nk\n", 1, 1),
        ("move --on-conflict ask attic loft", "s\nk\n", 1, 0),
    ] {
        let room = grown();
        let (here, there) = (snapshot(&room.path("attic")), snapshot(&room.path("loft")));
        let moved = room.on_a_terminal(line, typed);
        let skipped = 2 - kept - replaced;
        assert_eq!(moved.code, if skipped > 0 { 3 } else { 0 }, "{line}: {moved:?}");
        assert_eq!(room.path("attic").exists(), skipped > 0, "{line}: {moved:?}");
        let loft = room.list("loft");
        let dated = |path: &&String| path.contains(" 20");
        assert_eq!(loft.iter().filter(dated).count(), kept, "{line}: {loft:?}");
        let there_now = ["loft/1931/tide.csv", "loft/note.txt"].map(|path| room.read(path));
        let others = there_now.iter().filter(|text| ["another", "other"].contains(&&***text));
        assert_eq!(others.count(), 2 - replaced, "{line}: {there_now:?}");
        let undone = room.run(&format!("undo --yes {}", run_to_undo(&moved.out)));
        assert_eq!(undone.code, 0, "{line}: {undone:?}");
        assert_eq!(differences(&here, &snapshot(&room.path("attic"))), "", "{line}");
        assert_eq!(differences(&there, &snapshot(&room.path("loft"))), "", "{line}");
    }
    let room = grown();
    let (here, there) = (snapshot(&room.path("attic")), snapshot(&room.path("loft")));
    let quit = room.on_a_terminal("move --on-conflict ask attic loft", "k\nq\n");
    assert_eq!(quit.code, 4, "{quit:?}");
    assert_eq!((here, there), (snapshot(&room.path("attic")), snapshot(&room.path("loft"))));
}

#[test]
fn a_saved_plan_is_executed_as_it_was_shown() {
    for options in ["", "--steps all,-rename", "--only *.csv", "--on-conflict keep-both"] {
        let room = attic().with("loft/1931/tide.csv", "another");
        let twin = attic().with("loft/1931/tide.csv", "another");
        for room in [&room, &twin] {
            for path in ["attic/1931/tide.csv", "loft/1931/tide.csv"] {
                crate::common::set_time(&room.path(path), 1_000_000_000);
            }
        }
        let saved = room.run(&format!("move --dry-run --save-plan plan {options} attic loft"));
        let executed = room.run("execute plan");
        let moved = twin.run(&format!("move {options} attic loft"));
        assert_eq!(executed.code, moved.code, "{options}: {executed:?} {saved:?}");
        assert_eq!(room.list("loft"), twin.list("loft"), "{options}");
        assert_eq!(room.path("attic").exists(), twin.path("attic").exists(), "{options}");
        if room.path("attic").exists() {
            assert_eq!(room.list("attic"), twin.list("attic"), "{options}");
        }
        // What has changed since is left alone, and named.
        let room = attic().with("loft/other.txt", "other");
        room.run(&format!("move --dry-run --save-plan plan {options} attic loft"));
        room.write("attic/note.txt", "longer than it was");
        let executed = room.run("execute plan");
        let is_left = room.path("attic/note.txt").exists();
        assert!(is_left, "{options}: {executed:?}");
        assert_eq!(executed.code, if options.contains("only") { 0 } else { 3 }, "{executed:?}");
    }
}

#[test]
fn times_within_the_slack_are_equal_to_a_run_and_to_its_saved_plan() {
    let room = attic().with("loft/note.txt", "the note.txt");
    crate::common::set_time(&room.path("loft/note.txt"), 1_000_000_000);
    crate::common::set_time(&room.path("attic/note.txt"), 1_000_050_000);
    let time = || fs::metadata(room.path("loft/note.txt")).unwrap().mtime();
    let content = "--carry content --only note.txt";
    let kept = room.run(&format!("copy {content} --time-slack 1d attic loft"));
    assert_eq!(time(), 1_000_000_000, "{kept:?}");
    let steps = "--steps all,-rename";
    let moved = format!("move {steps} --time-slack 1d --dry-run --save-plan plan attic loft");
    assert_eq!((room.run(&moved).code, room.run("execute plan").code), (0, 0));
    assert!(!room.path("attic").exists());
    assert_eq!(time(), 1_000_000_000);
}

#[test]
fn conflicting_entries_stay_are_listed_and_can_refuse_the_whole_move() {
    let room = attic().with("loft/1931/tide.csv", "another").with("loft/other.txt", "other");
    let (here, there) = (snapshot(&room.path("attic")), snapshot(&room.path("loft")));
    let refused = room.run("move --all-or-nothing attic loft");
    assert_eq!(refused.code, 4, "{refused:?}");
    assert_eq!((here, there), (snapshot(&room.path("attic")), snapshot(&room.path("loft"))));
    let moved = room.run("move attic loft");
    assert_eq!(moved.code, 3, "{moved:?}");
    assert!(
        moved
            .err
            .contains("1931/tide.csv: cannot move: the destination has another entry of this name"),
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
fn only_selected_entries_are_moved() {
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
fn sources_that_share_entries_are_refused() {
    let room = attic();
    std::os::unix::fs::symlink("1931", room.path("attic/again")).unwrap();
    let before = snapshot(&room.path("attic"));
    for (line, why) in [
        ("move attic/1931 attic/again loft", "are the same folder"),
        ("move attic attic/1931/fog loft", "is inside 'attic'"),
        ("move attic attic/note.txt loft", "is inside 'attic'"),
    ] {
        let refused = room.run(line);
        assert!(refused.code == 2 && refused.err.contains(why), "{refused:?}");
    }
    assert_eq!(differences(&before, &snapshot(&room.path("attic"))), "");
}

#[test]
fn senseless_places_are_refused() {
    for (line, code, word) in [
        ("move attic attic", 4, "overlap"),
        ("move attic attic/1931", 4, "overlap"),
        ("move attic/1931 attic", 4, "overlap"),
        ("move nowhere loft", 2, "does not exist"),
        ("move attic", 2, "the destination is missing"),
        ("move --carry content attic loft", 4, "the guard 'loss'"),
        ("move --on-conflict perhaps attic loft", 2, "skip, replace, newer"),
        ("move --on-conflict ask attic loft", 2, "needs a terminal"),
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
fn the_working_folder_stays() {
    let room = attic();
    let mut command = room.command("move . ../loft");
    let ran = crate::common::ran(&command.current_dir(room.path("attic")).output().unwrap());
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(room.path("attic").exists() && room.list("attic").is_empty());
    assert_eq!(room.list("loft").len(), 8);
}

/// What only its owner can take from a shared folder is known before anything is copied.
#[test]
fn another_users_entries_stay_in_a_shared_folder() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("this test needs root to become somebody without rights");
    }
    let room =
        Room::new().with("archive/", "").with("shared/theirs.csv", "gulls").with("home/", "");
    room.write("shared/chest/ours.csv", "terns");
    room.write("shared/ours.csv", "skuas");
    for ours in ["archive", "home", "shared/chest/ours.csv", "shared/ours.csv"] {
        std::os::unix::fs::chown(room.path(ours), Some(NOBODY), Some(NOBODY)).unwrap();
    }
    for (shared, mode) in [("shared", 0o1777), ("shared/chest", 0o777)] {
        fs::set_permissions(room.path(shared), fs::Permissions::from_mode(mode)).unwrap();
    }
    let run = room.opened_to_nobody();
    let planned = run("move -n shared archive --set-aside home");
    let told = |name: &str| format!("{name}: cannot move: it belongs to another user");
    let names =
        |ran: &Ran| ["chest", "theirs.csv"].map(|name| ran.err.matches(&told(name)).count());
    assert_eq!((planned.code, names(&planned)), (3, [1, 1]), "{planned:?}");
    let moved = run("move shared archive --set-aside home");
    assert_eq!((moved.code, names(&moved)), (3, [1, 1]), "{moved:?}");
    assert_eq!(room.list("shared"), ["chest/", "theirs.csv"]);
    assert_eq!(room.list("archive"), ["chest/", "chest/ours.csv", "ours.csv"]);
    // All that is left is theirs.
    let again = run("move shared archive --set-aside home");
    assert_eq!((again.code, names(&again)), (4, [1, 1]), "{again:?}");
    // The folder that the root is in is somebody else's, too.
    fs::write(room.path("shared/chest/late.csv"), "gannets").unwrap();
    std::os::unix::fs::chown(room.path("shared/chest/late.csv"), Some(NOBODY), Some(NOBODY))
        .unwrap();
    let chest = run("move shared/chest archive/chest --set-aside home");
    assert_eq!((chest.code, room.list("shared/chest").len()), (0, 0), "{chest:?}");
    assert!(
        chest.out.contains("shared/chest itself stays, since the folder that contains it"),
        "{chest:?}"
    );
}

#[test]
fn a_stopped_move_is_finished_by_the_same_command() {
    let room = Room::new();
    for i in 0..40 {
        room.write(&format!("attic/{i}/season.wav"), &"~".repeat(100_000));
    }
    let before = snapshot(&room.path("attic"));
    for signal in ["-KILL", "-INT", "-TERM"] {
        let mut child = room
            .command_that_hears("move --steps all,-rename --rate 3M attic loft")
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

#[test]
fn a_move_that_takes_nothing_makes_nothing() {
    for line in [
        "copy --only *.svg attic/note.txt echo/new/",
        "move --only *.svg attic/note.txt echo/new/",
        "copy --only *.svg attic/1931 attic/1932 echo/new",
        "move --only *.svg attic/1931 attic/1932 echo/new",
    ] {
        let room = attic();
        let ran = room.run(line);
        assert_eq!(ran.code, 0, "{ran:?}");
        assert!(!room.path("echo").exists() && !ran.err.contains("are made"), "{line}: {ran:?}");
        assert!(room.path("attic/1932/tide.csv").exists());
    }
}
