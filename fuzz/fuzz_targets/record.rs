//! Whatever follows the plan in the record of a run, reading it gives a run or a reason.
#![no_main]

use std::sync::LazyLock;

use tempfile::TempDir;
use utter_echo_core::Recorded;
use utter_echo_core::os::Linux;

/// A record is read from a file beside a folder.
static ROOM: LazyLock<TempDir> = LazyLock::new(|| {
    let room = tempfile::tempdir().expect("a folder for the record");
    std::fs::create_dir(room.path().join("run")).expect("a folder for the run");
    room
});

/// A whole plan without steps, so that what follows it is reached.
const PLAN: &[u8] = include_bytes!("../seeds/empty.plan");

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let text = [PLAN, bytes].concat();
    std::fs::write(ROOM.path().join("run.record"), text).expect("the record is written");
    let _ = Recorded::open(&Linux, &ROOM.path().join("run"));
});
