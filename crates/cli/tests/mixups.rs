//! Guarantee: the classic mistakes of a mirror are refused before anything is touched: one folder too high
//! or too low, the two sides swapped, a drive that is not mounted. What only looks a little like one is not.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::process::Command;

use crate::common::{Room, UTTER, set_time};

/// Ten lamps, and one side that already echoes them within a folder of its own.
fn lamps() -> Room {
    let mut room = Room::new().with("archive/lamps/", "").with("archive/other.txt", "other");
    for lamp in 0..10 {
        room = room.with(&format!("lamps/{lamp}.csv"), "lit at four");
    }
    assert_eq!(room.run("copy lamps archive/lamps").code, 0);
    room
}

#[test]
fn a_mirror_one_folder_too_high_or_too_low_is_refused_with_what_was_probably_meant() {
    let room = lamps().with("archive/lamps/lamps/old.csv", "old");
    for destination in ["archive", "archive/lamps/lamps"] {
        let line = format!("mirror lamps {destination} --removal-limit 100%");
        let before = room.list("archive");
        let ran = room.run(&line);
        assert_eq!(ran.code, 4, "{line}: {ran:?}");
        let meant = "utter mirror 'lamps' 'archive/lamps'";
        assert!(ran.err.contains("'nesting'") && ran.err.contains(meant), "{line}: {ran:?}");
        assert_eq!(room.list("archive"), before, "{line}");
    }
    // So is a plan that was saved before.
    let line = "mirror lamps archive --removal-limit 100% --save-plan plan --dry-run";
    assert_eq!(room.run(line).code, 4);
    assert!(room.run("execute plan").err.contains("'nesting'"));
    let waived = room.run("mirror lamps archive/lamps/lamps --waive nesting");
    assert_eq!(waived.code, 0, "{waived:?}");
}

/// One folder too high, where a little of the source lies beside its copy.
#[test]
fn a_mirror_beside_its_copy_is_refused_though_the_destination_has_something_in_common() {
    let room = lamps().with("archive/3.csv", "lit at four").with("archive/4.csv", "lit at four");
    let before = room.list("archive");
    let ran = room.run("mirror lamps archive --removal-limit 100%");
    assert!(ran.code == 4 && ran.err.contains("'lamps' 'archive/lamps'"), "{ran:?}");
    assert_eq!(room.list("archive"), before);
    // Where the destination itself is the copy, a second one in it is just something extra.
    for lamp in 0..10 {
        room.write(&format!("archive/{lamp}.csv"), "lit at five");
    }
    assert_eq!(room.run("mirror lamps archive --removal-limit 100%").code, 0);
    assert_eq!(room.list("archive").len(), 10);
}

/// A newer file that is replaced is lost work, maybe: every run says so, and a mirror asks.
#[test]
fn newer_files_that_are_replaced_are_reported_and_asked_about() {
    let room = Room::new().with("lens/a.svg", "<svg/>").with("echo/a.svg", "<svg>corrected</svg>");
    set_time(&room.path("lens/a.svg"), 1_000_000_000);
    set_time(&room.path("echo/a.svg"), 1_500_000_000);
    let told = "1 file in the destination is newer than in the source, and it is replaced";
    for line in ["copy --dry-run lens echo", "mirror --dry-run lens echo"] {
        let ran = room.run(line);
        assert!(ran.code == 0 && ran.out.contains(told), "{line}: {ran:?}");
    }
    let lines = room.run("copy --dry-run --format json lens echo").out;
    assert!(lines.contains("\"code\":\"newer-replaced\""), "{lines}");
    let asked = room.on_a_terminal("mirror lens echo", "n\n");
    assert!(asked.code == 4 && asked.out.contains("Replace newer files in echo?"), "{asked:?}");
    assert_eq!(room.read("echo/a.svg"), "<svg>corrected</svg>");
    let left = room.run("mirror --leave-newer lens echo");
    assert!(left.out.contains("Nothing to do with these options:"), "{left:?}");
    let dry = room.run("mirror --leave-newer --dry-run lens echo");
    assert!(dry.out.contains("1 unchanged, 1 left alone."), "{dry:?}");
    // A copy asks nothing.
    let copied = room.on_a_terminal("copy lens echo", "");
    assert_eq!((copied.code, &*room.read("echo/a.svg")), (0, "<svg/>"), "{copied:?}");
    let again = room.run("copy lens echo");
    assert!(!again.out.contains("newer"), "{again:?}");
}

#[test]
fn a_nested_folder_is_noted_but_not_refused_if_nothing_would_be_removed() {
    let room = lamps();
    let ran = room.run("mirror lamps archive/lamps/lamps --dry-run");
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.out.contains("did you mean that as the destination?"), "{ran:?}");
}

#[test]
fn a_small_tree_is_recognised_by_all_of_its_names() {
    for (names, is_refused) in [(5, true), (4, true), (3, false)] {
        let mut room = Room::new().with("drive/lamps/", "").with("drive/old.csv", "old");
        for lamp in 0..names {
            room = room.with(&format!("lamps/{lamp}/list.csv"), "lit at four");
        }
        assert_eq!(room.run("copy lamps drive/lamps").code, 0);
        let ran = room.run("mirror lamps drive --removal-limit 100%");
        assert_eq!(ran.code, if is_refused { 4 } else { 0 }, "{names}: {ran:?}");
    }
}

#[test]
fn a_mirror_over_a_similar_folder_does_not_count_as_nested() {
    let room = lamps();
    // A tenth in common is not little: seven of the ten names went, and three stay.
    for lamp in 3..10 {
        fs::remove_file(room.path(&format!("archive/lamps/{lamp}.csv"))).unwrap();
        room.write(&format!("archive/lamps/was {lamp}.csv"), "was");
    }
    let ran = room.run("mirror lamps archive/lamps --removal-limit 100%");
    assert_eq!(ran.code, 0, "{ran:?}");
}

/// Writes so many files into the work, all of them now.
fn write_now(room: &Room, count: usize) {
    for log in 0..count {
        fs::write(room.path(&format!("work/{log}.log")), "written today").unwrap();
    }
}

#[test]
fn a_mirror_with_the_sides_swapped_is_refused() {
    for (written, is_refused) in [(19, false), (20, true)] {
        let mut room = Room::new().with("work/", "");
        for log in 0..25 {
            room = room.with(&format!("work/{log}.log"), "an older log");
        }
        assert_eq!(room.run("mirror work echo").code, 0);
        write_now(&room, written);
        let ran = room.run("mirror echo work");
        assert_eq!(ran.code, if is_refused { 4 } else { 0 }, "{written}: {ran:?}");
        assert_eq!(ran.err.contains("'swapped'"), is_refused, "{ran:?}");
        let is = if is_refused { "written today" } else { "an older log" };
        assert_eq!(room.read("work/0.log"), is);
        if is_refused {
            let asked = room.on_a_terminal("mirror echo work --yes", "n\n");
            assert_eq!(asked.code, 4, "{asked:?}");
            assert!(asked.out.contains("Continue anyway?"), "{asked:?}");
        }
        // The way it was meant, and the way it was said, if that is meant.
        assert_eq!(room.run("mirror work echo --dry-run").code, 0);
        let waived = room.run("mirror echo work --waive swapped");
        assert_eq!(waived.code, 0, "{waived:?}");
    }
}

#[test]
fn a_mount_point_without_its_drive_is_refused() {
    if !utter_echo_lab::is_root() {
        utter_echo_lab::left_out("a list of what is to be mounted, since that needs root");
        return;
    }
    let room = Room::new().with("lens/drawing.svg", "rings").with("my stick/", "");
    let point = room.path("my stick").canonicalize().unwrap();
    let escaped = point.to_str().unwrap().replace(' ', "\\040");
    room.write(
        "fstab",
        &format!("# device point kind\n\nLABEL=LANTERN {escaped} ext4 noauto 0 0\n"),
    );
    let run = |before: &str, line: &str| {
        let script = format!("mount --bind fstab /etc/fstab && {before} exec {UTTER} {line}");
        let mut command = Command::new("unshare");
        command.args(["--mount", "sh", "-ec", &script]).current_dir(room.path(""));
        command.env("XDG_STATE_HOME", room.path("state"));
        crate::common::ran(&command.output().unwrap())
    };
    for line in [
        "copy lens 'my stick'",
        "mirror lens 'my stick/echo'",
        "copy lens 'my stick/a/b'",
        "mirror 'my stick' lens --waive empty-source",
    ] {
        let ran = run("", line);
        assert_eq!(ran.code, 4, "{line}: {ran:?}");
        assert!(ran.err.contains("'drive'") && ran.err.contains("fstab"), "{line}: {ran:?}");
        assert_eq!(room.list("my stick"), [""; 0]);
        assert_eq!(room.list("lens"), ["drawing.svg"]);
    }
    let mounted = run("mount -t tmpfs tmpfs 'my stick' &&", "copy lens 'my stick'");
    assert_eq!(mounted.code, 0, "{mounted:?}");
    let waived = run("", "copy lens 'my stick' --waive drive");
    assert_eq!(waived.code, 0, "{waived:?}");
    assert_eq!(room.list("my stick"), ["drawing.svg"]);
}
