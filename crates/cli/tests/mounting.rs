//! Guarantee: with `--mount` a drive is mounted only during the run, also if the run fails. It is in a file of its
//! own, since looking for a label opens every device for a moment, which disturbs drives that other tests take
//! away.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::process::Command;

use crate::common::Room;

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
    let _device = Device(device);
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
    run("copy source", 2);
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
}
