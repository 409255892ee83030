//! Guarantee: `verify` finds every kind of difference, one at a time, says what differs, counts
//! both sides, changes nothing, and its exit code tells the verdict; a mirror then mends it.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

mod common;

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::Path;

use common::{Room, set_time};
use utter_echo_lab::{differences, snapshot};

fn room() -> Room {
    let room = Room::new()
        .with("source/log/1923.csv", "fog\n")
        .with("source/lens.svg", "ring of light")
        .with("source/empty/", "");
    symlink("lens.svg", room.path("source/current")).unwrap();
    fs::hard_link(room.path("source/lens.svg"), room.path("source/same.svg")).unwrap();
    assert_eq!(room.run("copy source echo").code, 0);
    room
}

/// Something done to the destination, the options that find it, and the words that name it.
type Damage = (&'static str, fn(&Path), &'static str, &'static str);

const DAMAGES: [Damage; 11] = [
    (
        "a file is missing",
        |e| fs::remove_file(e.join("log/1923.csv")).unwrap(),
        "",
        "missing  log/1923.csv",
    ),
    ("a folder is extra", |e| fs::create_dir(e.join("old")).unwrap(), "", "extra    old"),
    (
        "a file is longer",
        |e| fs::write(e.join("log/1923.csv"), "fog, then rain\n").unwrap(),
        "",
        "shorter",
    ),
    (
        "bytes rotted",
        |e| {
            let path = e.join("lens.svg");
            let time = fs::metadata(&path).unwrap().modified().unwrap();
            fs::write(&path, "ring of lighT").unwrap();
            fs::File::open(&path).unwrap().set_modified(time).unwrap();
        },
        "--by content",
        "content differs from byte 12",
    ),
    (
        "a time is off",
        |e| set_time(&e.join("log/1923.csv"), 999_999_000),
        "",
        "newer by 16 min, same size",
    ),
    (
        "a mode is off",
        |e| {
            fs::set_permissions(e.join("log"), fs::Permissions::from_mode(0o700)).unwrap();
        },
        "",
        "log · mode 700 → 755",
    ),
    (
        "a link leads elsewhere",
        |e| {
            fs::remove_file(e.join("current")).unwrap();
            symlink("nowhere!", e.join("current")).unwrap();
        },
        "",
        "current · leads elsewhere",
    ),
    (
        "a file took a folder's place",
        |e| {
            fs::remove_dir(e.join("empty")).unwrap();
            fs::write(e.join("empty"), "").unwrap();
        },
        "",
        "empty · file → folder",
    ),
    (
        "a hard link was torn",
        |e| {
            let (path, model) = (e.join("same.svg"), e.join("lens.svg"));
            let time = fs::metadata(&model).unwrap().modified().unwrap();
            fs::remove_file(&path).unwrap();
            fs::copy(&model, &path).unwrap();
            fs::File::open(&path).unwrap().set_modified(time).unwrap();
        },
        "",
        "same.svg · becomes a hard link of lens.svg",
    ),
    (
        "an attribute was added",
        |e| {
            let done = std::process::Command::new("setfattr")
                .args(["-n", "user.keeper", "-v", "7"])
                .arg(e.join("lens.svg"))
                .status();
            // Without that program, the same sort of damage by other means.
            if !done.is_ok_and(|status| status.success()) {
                fs::set_permissions(e.join("lens.svg"), fs::Permissions::from_mode(0o600)).unwrap();
            }
        },
        "--closely",
        "lens.svg · ",
    ),
    ("a folder's time is off", |e| set_time(&e.join("log"), 5), "", "log · time newer"),
];

#[test]
fn each_kind_of_difference_is_found_named_and_mended() {
    for (what, damage, options, words) in DAMAGES {
        let room = room();
        damage(&room.path("echo"));
        let before = (snapshot(&room.path("source")), snapshot(&room.path("echo")));
        let verdict = room.run(&format!("verify {options} source echo"));
        assert_eq!(verdict.code, 1, "{what}: {verdict:?}");
        assert!(verdict.out.contains(words), "{what}: {}", verdict.out);
        assert!(verdict.out.contains("\nDifferent: "), "{what}: {}", verdict.out);
        let after = (snapshot(&room.path("source")), snapshot(&room.path("echo")));
        assert_eq!(before, after, "{what}: verify changed something");
        let mended = room.run(&format!("mirror {options} source echo"));
        assert_eq!(mended.code, 0, "{what}: {mended:?}");
        assert_eq!(room.run("verify --by content source echo").code, 0, "{what}");
        let left = differences(&snapshot(&room.path("source")), &snapshot(&room.path("echo")));
        assert!(left.is_empty(), "{what}:\n{left}");
    }
}

#[test]
fn both_sides_are_counted() {
    let room = room();
    let verdict = room.run("verify source echo");
    assert_eq!(verdict.code, 0, "{verdict:?}");
    let numbers = |row: &str| -> Vec<String> {
        let line = verdict.out.lines().find(|line| line.starts_with(row)).unwrap();
        line[row.len()..].split_whitespace().map(str::to_owned).collect()
    };
    assert_eq!(numbers("folders"), ["2", "2"]);
    assert_eq!(numbers("files"), ["3", "3"]);
    assert_eq!(numbers("links"), ["1", "1"]);
    assert_eq!(numbers("bytes"), ["30", "30"]);
    assert!(verdict.out.contains("Identical: 6 entries agree in size"), "{verdict:?}");
}
