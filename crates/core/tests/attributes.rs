//! Guarantee: if one attribute of one entry is changed, whether set or cleared, the next run finds that, does
//! nothing else, and carries it over.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::fs::{self, File, Permissions};
use std::os::unix::fs::{PermissionsExt, lchown, symlink};
use std::path::Path;

use rustix::fs::{AtFlags, CWD, FileType, IFlags, Mode, Timespec, Timestamps};
use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::os::Linux;
use utter_echo_core::plan::Verb;
use utter_echo_core::request::Task;
use utter_echo_lab::{differences, snapshot};

use crate::common::{Trees, apply, plan_of, request};

/// Access lists in the kernel's form: user 1 may read, or read and write, under a mask that fits a
/// mode of 644.
const READS: &[u8] = b"\x02\0\0\0\x01\0\x06\0\xff\xff\xff\xff\x02\0\x04\0\x01\0\0\0\x04\0\x04\0\xff\xff\xff\xff\x10\0\x04\0\xff\xff\xff\xff\x20\0\x04\0\xff\xff\xff\xff";
const WRITES: &[u8] = b"\x02\0\0\0\x01\0\x06\0\xff\xff\xff\xff\x02\0\x06\0\x01\0\0\0\x04\0\x04\0\xff\xff\xff\xff\x10\0\x04\0\xff\xff\xff\xff\x20\0\x04\0\xff\xff\xff\xff";
/// The right to bind low ports.
const CAPABLE: &[u8] = b"\x01\0\0\x02\0\x04\0\0\0\0\0\0\0\0\0\0\0\0\0\0";

type Change = (&'static str, Attribute, Box<dyn Fn(&Path)>);

fn change(what: &'static str, attribute: Attribute, how: impl Fn(&Path) + 'static) -> Change {
    (what, attribute, Box::new(how))
}

fn set(name: &'static str, value: &'static [u8]) -> impl Fn(&Path) {
    move |path| xattr::set(path, name, value).unwrap()
}

fn lift(name: &'static str) -> impl Fn(&Path) {
    move |path| xattr::remove(path, name).unwrap()
}

fn flags(flags: u32) -> impl Fn(&Path) {
    move |path| {
        let file = File::open(path).unwrap();
        let had = rustix::fs::ioctl_getflags(&file).unwrap().bits() & !0xf8;
        rustix::fs::ioctl_setflags(&file, IFlags::from_bits_retain(had | flags)).unwrap();
    }
}

fn mode(mode: u32) -> impl Fn(&Path) {
    move |path| fs::set_permissions(path, Permissions::from_mode(mode)).unwrap()
}

fn time(secs: i64, nanos: i64) -> impl Fn(&Path) {
    move |path| {
        let time = Timespec { tv_sec: secs, tv_nsec: nanos };
        let times = Timestamps { last_access: time, last_modification: time };
        rustix::fs::utimensat(CWD, path, &times, AtFlags::SYMLINK_NOFOLLOW).unwrap();
    }
}

fn owner(uid: u32, gid: u32) -> impl Fn(&Path) {
    move |path| lchown(path, Some(uid), Some(gid)).unwrap()
}

/// For files and folders, each on top of the one before.
fn changes_of_both() -> Vec<Change> {
    vec![
        change("a mode", Attribute::Mode, mode(0o751)),
        change("a sticky bit", Attribute::Mode, mode(0o1751)),
        change("a group bit", Attribute::Mode, mode(0o2751)),
        // A change of owner clears special bits, on the source's file as well.
        change("no special bits", Attribute::Mode, mode(0o740)),
        change("an owner", Attribute::Owner, owner(1000, 0)),
        change("a group", Attribute::Owner, owner(1000, 1001)),
        change("a time", Attribute::Times, time(1_000_000_000, 1)),
        change("a nanosecond", Attribute::Times, time(1_000_000_000, 2)),
        change("a time before 1970", Attribute::Times, time(-1_000_000_001, 999_999_999)),
        change("a new attribute", Attribute::Xattr, set("user.keeper", b"keeper three")),
        change("another value", Attribute::Xattr, set("user.keeper", b"Bea")),
        change("no value", Attribute::Xattr, set("user.keeper", b"")),
        change("an attribute less", Attribute::Xattr, lift("user.keeper")),
        change("a trusted attribute", Attribute::Xattr, set("trusted.keeper", b"keeper three")),
        change("a trusted attribute less", Attribute::Xattr, lift("trusted.keeper")),
        change("no dumps", Attribute::Flags, flags(0x40)),
        change("no access times", Attribute::Flags, flags(0xc0)),
        change("locked", Attribute::Flags, flags(0xd0)),
        change("only to grow", Attribute::Flags, flags(0xe0)),
        change("unlocked", Attribute::Flags, flags(0)),
    ]
}

fn changes_of_lists(list: &'static str) -> Vec<Change> {
    vec![
        change("a list", Attribute::Acl, set(list, READS)),
        change("another list", Attribute::Acl, set(list, WRITES)),
        change("a list less", Attribute::Acl, lift(list)),
    ]
}

#[test]
fn a_change_of_one_attribute_is_found_and_carried() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root sets every attribute");
    }
    let trees = Trees::new();
    let at = |name: &str| trees.source.join(name);
    fs::write(at("file"), "lit").unwrap();
    fs::create_dir(at("folder")).unwrap();
    fs::write(at("folder/inside"), "lit").unwrap();
    symlink("file", at("link")).unwrap();
    rustix::fs::mknodat(CWD, at("fifo"), FileType::Fifo, Mode::RUSR, 0).unwrap();
    let capable = [change("a capability", Attribute::Xattr, set("security.capability", CAPABLE))];
    let mut all: Vec<(&str, Change)> = Vec::new();
    let access = "system.posix_acl_access";
    all.extend(changes_of_both().into_iter().map(|change| ("file", change)));
    all.push(("file", change("plain again", Attribute::Mode, mode(0o644))));
    all.extend(changes_of_lists(access).into_iter().map(|change| ("file", change)));
    all.extend(capable.into_iter().map(|change| ("file", change)));
    all.extend(changes_of_both().into_iter().map(|change| ("folder", change)));
    all.push(("folder", change("plain again", Attribute::Mode, mode(0o755))));
    let default = changes_of_lists("system.posix_acl_default");
    all.extend(default.into_iter().map(|change| ("folder", change)));
    for name in ["link", "fifo"] {
        all.push((name, change("an owner", Attribute::Owner, owner(1000, 1001))));
        all.push((name, change("a time", Attribute::Times, time(5, 6))));
    }
    all.push(("fifo", change("a mode", Attribute::Mode, mode(0o600))));
    let request = request(&trees, Task::Mirror);
    apply(&Linux, &request);
    for (name, (what, attribute, how)) in all {
        how(&at(name));
        let plan = plan_of(&Linux, &request);
        let steps: Vec<_> =
            plan.steps().map(|p| (p.step.verb, p.path, p.step.attributes)).collect();
        assert_eq!(steps.len(), 1, "{what} of the {name}: {steps:?}");
        // A file with another time counts as changed.
        let expected = if (name, attribute) == ("file", Attribute::Times) {
            (Verb::Replace, Attributes::NONE)
        } else {
            (Verb::Adjust, Attributes::NONE.with(attribute))
        };
        assert_eq!((steps[0].0, steps[0].2), expected, "{what} of the {name}");
        let outcome = apply(&Linux, &request);
        assert!(outcome.problems.is_empty(), "{what} of the {name}: {:?}", outcome.problems);
        let differences = differences(&snapshot(&trees.source), &snapshot(&trees.destination));
        assert!(differences.is_empty(), "{what} of the {name}:\n{differences}");
        assert!(plan_of(&Linux, &request).is_empty(), "{what} of the {name} is planned again");
    }
}

#[test]
fn an_access_time_is_carried_only_if_it_is_named() {
    let trees = Trees::new();
    let (here, there) = (trees.source.join("log"), trees.destination.join("log"));
    fs::write(&here, "lit").unwrap();
    let accessed = |path: &Path| rustix::fs::stat(path).unwrap().st_atime;
    time(1_000_000_000, 0)(&here);
    let mut request = request(&trees, Task::Copy);
    apply(&Linux, &request);
    assert_ne!(accessed(&there), 1_000_000_000);
    request.carry = Attributes::parse("all,atime").unwrap();
    apply(&Linux, &request);
    assert_eq!(accessed(&there), 1_000_000_000);
    assert_eq!(accessed(&here), 1_000_000_000);
    assert!(plan_of(&Linux, &request).is_empty());
}

#[test]
fn a_locked_tree_is_changed_and_removed_and_what_stays_is_locked_again() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root locks files");
    }
    let trees = Trees::new();
    let at = |name: &str| trees.source.join(name);
    for name in ["keep/log", "keep/old", "gone/log", "kind/log"] {
        fs::create_dir_all(at(name).parent().unwrap()).unwrap();
        fs::write(at(name), name).unwrap();
    }
    fs::hard_link(at("keep/log"), at("second")).unwrap();
    let all = ["keep/log", "keep/old", "gone/log", "kind/log", "keep", "gone", "kind"];
    for name in all {
        flags(0x10)(&at(name));
    }
    let mut request = request(&trees, Task::Mirror);
    assert!(apply(&Linux, &request).problems.is_empty());
    for name in all {
        flags(0)(&at(name));
    }
    fs::write(at("keep/log"), "another day").unwrap();
    fs::remove_file(at("keep/old")).unwrap();
    fs::hard_link(at("keep/log"), at("keep/third")).unwrap();
    fs::remove_dir_all(at("gone")).unwrap();
    fs::remove_dir_all(at("kind")).unwrap();
    fs::write(at("kind"), "a file now").unwrap();
    // Entries that were left alone are still locked.
    request.carry = Attributes::ALL.without(Attribute::Flags);
    let outcome = apply(&Linux, &request);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    let there = snapshot(&trees.destination);
    assert_eq!(there[&b"keep"[..]].flags & 0x10, 0x10);
    assert_eq!(there[&b"keep/log"[..]].flags & 0x10, 0x10);
    assert!(!there.contains_key(&b"gone"[..]) && !there.contains_key(&b"keep/old"[..]));
    request.carry = Attributes::ALL;
    assert!(apply(&Linux, &request).problems.is_empty());
    let differences = differences(&snapshot(&trees.source), &snapshot(&trees.destination));
    assert!(differences.is_empty(), "{differences}");
}

#[test]
fn times_within_the_slack_count_as_equal() {
    let trees = Trees::new();
    fs::write(trees.source.join("log"), "lit").unwrap();
    let mut request = request(&trees, Task::Mirror);
    apply(&Linux, &request);
    time(1_000_000_000, 0)(&trees.source.join("log"));
    time(1_000_000_002, 0)(&trees.destination.join("log"));
    time(7, 0)(&trees.source);
    time(7, 0)(&trees.destination);
    assert_eq!(crate::common::listed(&plan_of(&Linux, &request)).len(), 1);
    request.changed.time_slack = std::time::Duration::from_millis(1999);
    assert_eq!(crate::common::listed(&plan_of(&Linux, &request)).len(), 1);
    request.changed.time_slack = std::time::Duration::from_secs(2);
    assert!(plan_of(&Linux, &request).is_empty());
}
