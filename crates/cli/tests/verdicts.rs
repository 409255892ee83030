//! Guarantee: `verify` finds every kind of difference by itself, says what differs, counts both sides and changes
//! nothing; its exit code is the verdict; and a mirror then removes the difference.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::Path;

use crate::common::{Room, set_time};
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
        "missing    log/1923.csv",
    ),
    ("a folder is extra", |e| fs::create_dir(e.join("old")).unwrap(), "", "extra      old"),
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
        "current · link target differs",
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
        "same.svg · separate file, hard link of lens.svg in the source",
    ),
    (
        "an attribute was added",
        |e| {
            xattr::set(e.join("lens.svg"), "user.keeper", b"7").unwrap();
        },
        "--all-attributes",
        "lens.svg · ",
    ),
    ("a folder's time is off", |e| set_time(&e.join("log"), 5), "", "log · source newer"),
];

#[test]
fn each_kind_of_difference_is_found_reported_and_removed() {
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
    assert_eq!(numbers("folders"), ["3", "3"]);
    assert_eq!(numbers("files"), ["3", "3"]);
    assert_eq!(numbers("links"), ["1", "1"]);
    assert_eq!(numbers("bytes"), ["30", "30"]);
    assert!(verdict.out.contains("Identical: 7 entries agree in size"), "{verdict:?}");
}

#[test]
fn a_verification_lists_as_much_as_requested_and_suggests_the_command() {
    let room = room();
    for i in 0..9 {
        room.write(&format!("source/tides/{i}.csv"), "high");
        room.write(&format!("echo/it's old/{i}.csv"), "low");
    }
    set_time(&room.path("echo"), 1_100_000_000);
    let limited = room.run("verify --limit 2 --suggest source echo");
    assert_eq!(limited.code, 1);
    let count = |text: &str| limited.out.matches(text).count();
    assert_eq!((count("missing    "), count("extra      "), count("… and 8 more")), (2, 2, 2));
    let fix =
        limited.out.lines().last().unwrap().strip_prefix("To make them identical: utter ").unwrap();
    // After a copy what is extra is as it should be.
    let ignoring = room.run("verify --ignore-extra --suggest source echo");
    assert!(ignoring.out.contains("Not counted: 10 entries only"), "{ignoring:?}");
    assert!(
        ignoring.out.ends_with("To make them identical: utter copy --all-attributes source echo\n"),
        "{ignoring:?}"
    );
    let csv = room.run("verify --format csv source echo");
    let rows: Vec<_> = csv.out.lines().collect();
    assert_eq!(rows[0], "difference,type,path,bytes,reason");
    assert!(rows.contains(&"extra,file,it's old/3.csv,3,only in the destination"), "{csv:?}");
    assert_eq!(rows.iter().filter(|row| row.starts_with("missing,")).count(), 10);
    let json = room.run("verify --limit 1 --suggest --format json source echo");
    let kinds =
        json.out.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
    let kinds: Vec<_> = kinds.map(|line| line["kind"].as_str().unwrap().to_owned()).collect();
    let expected = [
        "head",
        "found",
        "difference",
        "found",
        "difference",
        "found",
        "difference",
        "suggestion",
        "totals",
    ];
    assert_eq!(kinds, expected, "{json:?}");
    assert_eq!(room.run(&format!("{fix} --yes")).code, 0);
    assert_eq!(room.run("verify source echo").code, 0);
    assert_eq!(room.run("copy --format csv source echo").code, 2);
}

#[test]
fn presence_compares_only_names_and_kinds() {
    let room = room();
    room.write("echo/lens.svg", "another");
    fs::set_permissions(room.path("echo/log"), fs::Permissions::from_mode(0o700)).unwrap();
    let present = room.run("verify --by presence source echo");
    assert_eq!(present.code, 0, "{present:?}");
    assert!(present.out.contains("nothing else was compared"), "{present:?}");
    fs::remove_file(room.path("echo/current")).unwrap();
    room.write("echo/current/", "");
    let other_kind = room.run("verify --by presence source echo");
    assert_eq!(other_kind.code, 1);
    assert!(other_kind.out.contains("differs    current · folder → symlink"), "{other_kind:?}");
}

#[test]
fn a_sample_says_how_far_it_can_be_trusted() {
    let room = Room::new();
    for i in 0..400 {
        room.write(&format!("source/{i}"), &format!("day {i}"));
    }
    assert_eq!(room.run("copy source echo").code, 0);
    let half = room.run("verify --sample 50% source echo");
    assert_eq!(half.code, 0);
    let told = half.out.lines().find(|line| line.starts_with("Random sample: ")).unwrap();
    let words: Vec<_> = told.split(' ').collect();
    let read: u32 = words[2].parse().unwrap();
    // Further from the middle than this once in a thousand million times.
    assert!((140..260).contains(&read), "{told}");
    let part = 100.0 * (1.0 - 0.05_f64.powf(1.0 / f64::from(read)));
    let told = half.out.lines().last().unwrap();
    assert!(
        told.contains(&format!("fewer than {:.0} % of all files differ", part.ceil())),
        "{told}"
    );
    let all = room.run("verify --sample 100% source echo");
    assert!(all.out.contains("400 of 400 files"), "{all:?}");
    // Every other file rots, and keeps its time.
    for i in (0..400).step_by(2) {
        let path = room.path(&format!("echo/{i}"));
        let time = fs::metadata(&path).unwrap().modified().unwrap();
        fs::write(&path, format!("dax {i}")).unwrap();
        fs::File::open(&path).unwrap().set_modified(time).unwrap();
    }
    assert_eq!(room.run("verify source echo").code, 0, "the stamps do not tell");
    let rotten = room.run("verify --sample 20% source echo");
    assert_eq!(rotten.code, 1, "{rotten:?}");
    assert!(rotten.out.contains("some of them differ: verify with --by content"), "{rotten:?}");
}

#[test]
fn a_moved_folder_is_reported_and_counted_once() {
    let room = Room::new().with("source/logbooks/1931/tides.csv", "lit").with("source/lens", "svg");
    let room = room.with("source/logbooks/1932.csv", "dark");
    assert_eq!(room.run("copy source echo").code, 0);
    fs::rename(room.path("source/logbooks"), room.path("source/books")).unwrap();
    set_time(&room.path("source"), 1_000_000_000);
    set_time(&room.path("echo"), 1_000_000_000);
    let text = room.run("verify source echo");
    assert_eq!(text.code, 1, "{text:?}");
    assert!(text.out.contains("Moved in the destination: 1 entry\n"), "{text:?}");
    assert!(text.out.contains("moved      books · was logbooks\n"), "{text:?}");
    assert!(text.out.contains("Different: 1 moved."), "{text:?}");
    let table = room.run("verify --format csv source echo");
    let rows: Vec<&str> = table.out.lines().skip(1).collect();
    assert_eq!(rows, ["moved,folder,books,0,was logbooks"], "{table:?}");
}
