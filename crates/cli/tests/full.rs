//! Guarantee: a full drive is reported once, and before anything is touched where that can be known. Steps that
//! free space come before those that need it, so that a plan that fits in some order is carried out.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::io::Write as _;
use std::path::PathBuf;
use std::process::Command;

use crate::common::Room;
use utter_echo_lab::{DriveKind, MountedDrive};

/// A drive in memory; it goes with this value.
struct Drive(PathBuf);

impl Drive {
    fn mount(room: &Room, name: &str, size: &str) -> Option<Self> {
        if !utter_echo_lab::is_root() {
            utter_echo_lab::left_out("small drives, since that needs the right to mount");
            return None;
        }
        room.write(&format!("{name}/"), "");
        let drive = Self(room.path(name));
        drive.run("mount", &["-t", "tmpfs", "-o", &format!("size={size}"), "tmpfs"]);
        Some(drive)
    }

    fn run(&self, program: &str, words: &[&str]) {
        let status = Command::new(program).args(words).arg(&self.0).status().unwrap();
        assert!(status.success(), "{program} {words:?}");
    }
}

impl Drop for Drive {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).status();
    }
}

fn kibibytes(count: usize) -> String {
    "p".repeat(count * 1024)
}

#[test]
fn a_run_to_an_unwritable_destination_ends_early_or_reports_each_problem() {
    let room = Room::new().with("source/a.txt", "a");
    let Some(drive) = Drive::mount(&room, "echo", "64k") else { return };
    drive.run("mount", &["-o", "remount,ro"]);
    let read_only = room.run("copy source echo");
    drive.run("mount", &["-o", "remount,rw"]);
    room.write("source/big.bin", &kibibytes(100));
    let refused = room.run("copy source echo");
    let full = room.run("copy source echo --waive space");
    assert_eq!(read_only.code, 5, "{read_only:?}");
    assert!(read_only.err.contains("read-only"), "{read_only:?}");
    assert_eq!(refused.code, 4, "{refused:?}");
    assert!(refused.err.contains("--waive space"), "{refused:?}");
    assert_eq!(full.code, 5, "{full:?}");
    assert!(full.out.contains("run the same command again"), "{full:?}");
    let left = room.list("echo");
    assert!(left.iter().all(|name| name == "a.txt"), "{left:?}");
}

#[test]
fn a_drive_that_fills_up_is_reported_once_by_each_worker() {
    let room = Room::new();
    for i in 0..100 {
        room.write(&format!("source/pages/{i:02}.txt"), &kibibytes(4));
    }
    let Some(_drive) = Drive::mount(&room, "drive", "128k") else { return };
    let full = room.run("copy source drive/echo --waive space --workers 2");
    assert_eq!(full.code, 5, "{full:?}");
    assert!((1..=4).contains(&full.err.lines().count()), "{full:?}");
}

#[test]
fn files_that_become_shorter_free_space_for_those_that_grow() {
    let room = Room::new();
    let Some(_drive) = Drive::mount(&room, "echo", "1000k") else { return };
    for (name, was, is) in [("a", 100, 700), ("y", 400, 40), ("z", 400, 30)] {
        room.write(&format!("echo/{name}.wav"), &kibibytes(was));
        room.write(&format!("source/{name}.wav"), &kibibytes(is));
    }
    let ran = room.run("copy source echo --by size --workers 2");
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(room.run("verify source echo --by content").code, 0);
}

#[test]
fn removals_come_first_only_if_requested_and_the_refusal_says_how() {
    let room = Room::new().with("source/new.wav", &kibibytes(700));
    let Some(_drive) = Drive::mount(&room, "echo", "1000k") else { return };
    room.write("echo/old/old.wav", &kibibytes(800));
    let line = "mirror source echo --removal-limit 100%";
    let refused = room.run(line);
    assert_eq!(refused.code, 4, "{refused:?}");
    assert!(refused.err.contains("--remove-first"), "{refused:?}");
    assert_eq!(room.list("echo"), ["old/", "old/old.wav"]);
    let waived = room.run(&format!("{line} --waive space"));
    assert_eq!(waived.code, 5, "{waived:?}");
    assert!(waived.err.contains("--remove-first"), "{waived:?}");
    assert_eq!(room.list("echo"), ["old/", "old/old.wav"], "nothing went before its time");
    // The plan remembers it.
    assert_eq!(room.run(&format!("{line} --remove-first --save-plan plan --dry-run")).code, 0);
    let ran = room.run("execute plan");
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(room.list("echo"), ["new.wav"]);
    // What is set aside on the same drive stays there, and frees no space.
    room.write("source/new.wav", "");
    room.write("source/newer.wav", &kibibytes(600));
    let aside = room.run("mirror source echo/now --remove-first --set-aside echo/aside");
    assert_eq!(aside.code, 4, "{aside:?}");
}

#[test]
fn a_move_to_a_drive_that_fills_up_removes_what_arrived() {
    let room = Room::new();
    let Some(drive) = Drive::mount(&room, "echo", "100k") else { return };
    for name in ["1", "2", "3", "4", "5"] {
        room.write(&format!("attic/{name}"), &name.repeat(30_000));
    }
    let full = room.run("move attic echo --waive space");
    let (here, there) = (room.list("attic"), room.list("echo"));
    drive.run("mount", &["-o", "remount,size=1m"]);
    let finished = room.run("move attic echo");
    assert_eq!(full.code, 5, "{full:?}");
    assert!(!there.is_empty() && !here.is_empty(), "{here:?} {there:?}");
    assert!(here.iter().all(|name| !there.contains(name)), "{here:?} {there:?}");
    assert_eq!(here.len() + there.len(), 5, "{here:?} {there:?}");
    assert_eq!(finished.code, 0, "{finished:?}");
    assert_eq!(room.list("echo").len(), 5);
    assert!(!room.path("attic").exists());
}

#[test]
fn a_full_drive_with_reserved_space_is_reported_once() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts drives");
    }
    let room = Room::new();
    (0..60).for_each(|at| room.write(&format!("source/{at}"), &kibibytes(64)));
    let made = MountedDrive::make(DriveKind::Ext4, &room.path("lab"));
    let Ok(drive) = made.inspect_err(|reason| utter_echo_lab::left_out(reason)) else { return };
    let mut filler = fs::File::create(drive.folder().join("filler")).unwrap();
    while filler.write_all(&[1; 8192]).is_ok() {}
    let full = room.run(&format!("copy --waive space source {}/echo", drive.folder().display()));
    assert_eq!(full.code, 5, "{full:?}");
    assert!(full.err.lines().count() <= 4, "{full:?}");
}

#[test]
fn each_drive_below_the_destination_must_have_space_for_what_comes_onto_it() {
    let room = Room::new().with("echo/log", "lit").with("source/log", "lit");
    let Some(drive) = Drive::mount(&room, "echo/sound", "64k") else { return };
    room.write("source/sound/fog.wav", &kibibytes(100));
    let refused = room.run("copy source echo");
    assert_eq!(refused.code, 4, "{refused:?}");
    assert!(refused.err.contains("the drive at 'sound'"), "{refused:?}");
    // What fills the root's drive would find space on the other.
    drop(drive);
    let Some(small) = Drive::mount(&room, "echo", "64k") else { return };
    let Some(_large) = Drive::mount(&room, "echo/sound", "1M") else { return };
    let fits = room.run("copy source echo");
    assert_eq!(fits.code, 0, "{fits:?}");
    drop(small);
}
