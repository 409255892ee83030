//! Whatever lines follow the beginning of an undo journal, reading them gives a run or a reason.
#![no_main]

use std::sync::LazyLock;

use tempfile::TempDir;
use utter_echo_core::PastRun;
use utter_echo_core::os::Linux;

/// Notes are read from a file beside a folder.
static ROOM: LazyLock<TempDir> = LazyLock::new(|| {
    let room = tempfile::tempdir().expect("a folder for the journal");
    std::fs::create_dir(room.path().join("run")).expect("a folder for the run");
    room
});

/// Of a small run, up to its gate, so that what follows is reached.
const BEGUN: &[u8] = include_bytes!("../seeds/begun.notes");

/// How many lines those are: each begins with the length of its body, and has nine bytes more.
fn lines(mut journal: &[u8]) -> u32 {
    let mut lines = 0;
    while let Some((length, rest)) = journal.split_first_chunk::<4>() {
        journal = &rest[u32::from_le_bytes(*length) as usize + 9..];
        lines += 1;
    }
    lines
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let mut journal = BEGUN.to_vec();
    for (number, body) in (lines(BEGUN)..).zip(bytes.split(|b| *b == 0xff)) {
        let (mark, body) = body.split_first().unwrap_or((&0, &[]));
        let summed = [&number.to_le_bytes()[..], &[mark % 5], body].concat();
        journal.extend_from_slice(&u32::try_from(body.len()).unwrap_or(0).to_le_bytes());
        journal.extend_from_slice(&crc32fast::hash(&summed).to_le_bytes());
        journal.extend_from_slice(&summed);
    }
    std::fs::write(ROOM.path().join("run.notes"), journal).expect("the journal is written");
    let _ = PastRun::open(&Linux, &ROOM.path().join("run"));
});
