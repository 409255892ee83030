//! Guarantee: with `--mount` a drive is mounted only during the run, also if the run fails. It is in a file of its
//! own, since looking for a label opens every device for a moment, which disturbs drives that other tests take
//! away.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::common::{self, Room};

/// Goes whatever becomes of the test.
struct Device(String);

impl Drop for Device {
    fn drop(&mut self) {
        let _ = Command::new("losetup").args(["--detach", &self.0]).output();
    }
}

#[test]
fn a_drive_is_mounted_only_during_the_run() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts drives");
    }
    let room = Room::new().with("source/log", "lit").with("source/lens", "<svg/>");
    let label = format!("utr{}", std::process::id());
    let call = |program: &str, words: &[&str]| {
        let output = Command::new(program).args(words).current_dir(room.path("")).output();
        match output {
            Ok(output) if output.status.success() => {
                Ok(String::from_utf8(output.stdout).unwrap().trim().to_owned())
            }
            other => Err(format!("{program} {words:?}: {other:?}")),
        }
    };
    fs::File::create(room.path("image")).unwrap().set_len(32 << 20).unwrap();
    let made = call("mkfs.ext4", &["-q", "-F", "-L", &label, "image"]);
    let device = made.and_then(|_| call("losetup", &["--find", "--show", "image"]));
    let Ok(device) = device.inspect_err(|why| utter_echo_lab::left_out(why)) else { return };
    let device = Device(device);
    let place = format!("label={label}/saltmere");
    // Other tests mount folders whose names are not UTF-8.
    let mounts = || String::from_utf8_lossy(&fs::read("/proc/mounts").unwrap()).into_owned();
    let is_mounted = || mounts().contains(&label);
    let run = |words: &str, code: i32| {
        let ran = room.run(&format!("{words} {place}"));
        assert_eq!(ran.code, code, "{words}: {ran:?}");
        assert!(!is_mounted(), "{words}: {ran:?}");
        ran
    };
    run("copy source", 7);
    run("copy --dry-run --mount source", 0);
    run("verify --mount source", 2);
    run("copy --mount source", 0);
    run("verify --mount --by content source", 0);
    // Also after a failure.
    run("copy --mount nowhere", 2);
    run("mirror --mount --yes --removal-limit 0 source/log", 2);
    run("copy --mount --run-before false source", 4);
    let job = format!(
        "[job.usb]\ncommand = \"copy\"\nmount = true\nsource = \"source\"\ndestination = \"{place}\"\n"
    );
    room.write("utter.toml", &job);
    let ran = room.run("run --jobs utter.toml usb");
    assert_eq!((ran.code, is_mounted()), (0, false), "{ran:?}");
    assert!(ran.out.contains("it is safe to unplug"), "{ran:?}");

    // Of two runs the last one unmounts it, also if the first was killed.
    fs::write(room.path("source/season.wav"), vec![7; 4 << 20]).unwrap();
    let begins = || {
        let run =
            room.command(&format!("copy --mount --rate 200K source label={label}/slow")).spawn();
        wait_until(is_mounted);
        run.unwrap()
    };
    for is_killed in [false, true] {
        let mut first = begins();
        let second = room.run(&format!("copy --mount source/log label={label}/other/"));
        assert!(second.code == 0 && second.out.contains("another run uses it"), "{second:?}");
        assert!(is_mounted());
        if is_killed {
            first.kill().unwrap();
        } else {
            call("kill", &["-TERM", &first.id().to_string()]).unwrap();
        }
        first.wait().unwrap();
        assert_eq!(is_mounted(), is_killed);
        run("copy --mount source", 0);
    }

    // What somebody else has mounted stays so, and a drive that goes meanwhile is missed.
    fs::create_dir(room.path("usb")).unwrap();
    fs::create_dir(room.path("part")).unwrap();
    let mount = |words: &[&str]| call("mount", words).unwrap();
    let device = &device.0;
    mount(&[device, "usb"]);
    let ran = room.run(&format!("copy --mount source {place}"));
    let stays = mounts().contains(&*room.path("usb").to_string_lossy());
    assert!(ran.code == 0 && stays && !ran.out.contains("unplug"), "{ran:?}");
    let moves_away = || {
        let mut moves = room.command("move --run-before");
        common::ran(&moves.args(["umount usb", "source", &place]).output().unwrap())
    };
    mount(&["--bind", "usb/saltmere", "part"]);
    let ran = moves_away();
    assert!(ran.code == 7 && ran.err.contains("only a part of the drive"), "{ran:?}");
    call("umount", &["part"]).unwrap();
    mount(&[device, "usb"]);
    let ran = moves_away();
    assert!(ran.code == 7 && ran.err.contains("no mounted drive has the label"), "{ran:?}");
    assert!(room.path("source/log").exists() && room.list("usb").is_empty());
}

fn wait_until(holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(60), "it never came about");
        std::thread::sleep(Duration::from_millis(5));
    }
}
