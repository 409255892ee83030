//! Guarantee: sparse files are compared to the last byte, and holes on both sides are not read.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::BTreeMap;
use std::fs::File;
use std::os::unix::fs::FileExt as _;
use std::path::Path;

use crate::common::{Trees, plan_of, request};
use proptest::prelude::*;
use utter_echo_core::plan::{Plan, Reason};
use utter_echo_core::request::{CompareBy, Task};
use utter_echo_lab::{Tampered, Tampering};

/// What is written where; the rest is holes, or zeros.
type Islands = BTreeMap<u64, Vec<u8>>;

fn write(path: &Path, size: u64, islands: &Islands) {
    let file = File::create(path).unwrap();
    file.set_len(size).unwrap();
    for (at, bytes) in islands {
        file.write_all_at(bytes, *at).unwrap();
    }
    file.set_modified(std::time::UNIX_EPOCH).unwrap();
}

fn compared(trees: &Trees, system: &Tampered<'_>) -> Plan {
    // Times are set, since both files may or may not be written within one tick of the clock.
    for root in [&trees.source, &trees.destination] {
        File::open(root).unwrap().set_modified(std::time::UNIX_EPOCH).unwrap();
    }
    let mut wanted = request(trees, Task::Verify);
    wanted.changed.by = CompareBy::Content;
    plan_of(system, &wanted)
}

/// A few blocks of data in a file of 4 MiB, some of them zeros.
fn islands() -> impl Strategy<Value = Islands> {
    let island = (0..1000_u64, 1..5_usize, 0..3_u8);
    proptest::collection::vec(island, 0..6).prop_map(|islands| {
        let written = islands.into_iter();
        written.map(|(block, blocks, byte)| (block * 4096, vec![byte; blocks * 4096])).collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..Default::default() })]

    #[test]
    fn the_first_byte_that_differs_is_found_wherever_holes_are(
        here in islands(), there in islands(), size in (4_u64 << 20)..(4 << 20) + 3,
        alike in any::<bool>(),
    ) {
        let trees = Trees::new();
        // Half of the pairs have the same content, and differ at most in their holes.
        let there = if alike {
            let zeros = there.iter().filter(|(at, _)| !here.contains_key(at));
            let zeros = zeros.map(|(at, bytes)| (*at, vec![0; bytes.len()]));
            zeros.chain(here.clone()).collect()
        } else {
            there
        };
        write(&trees.source.join("a"), size, &here);
        write(&trees.destination.join("a"), size, &there);
        let read = |root: &Path| std::fs::read(root.join("a")).unwrap();
        let (one, other) = (read(&trees.source), read(&trees.destination));
        let expected = one.iter().zip(&other).position(|(a, b)| a != b).map(|at| at as u64);
        let plan = compared(&trees, &Tampered::new(Tampering::Nothing));
        let found = plan.steps().find_map(|placed| match placed.step.reason {
            Reason::Content { offset } => Some(offset),
            _ => None,
        });
        prop_assert_eq!(found, expected);
    }
}

#[test]
fn holes_on_both_sides_are_not_read() {
    let trees = Trees::new();
    let islands: Islands =
        [10 << 20, 3 << 30, 7 << 30].into_iter().map(|at| (at, b"tide".to_vec())).collect();
    write(&trees.source.join("season.wav"), 8 << 30, &islands);
    write(&trees.destination.join("season.wav"), 8 << 30, &islands);
    let system = Tampered::new(Tampering::Nothing);
    assert!(compared(&trees, &system).is_empty());
    let reads = system.calls().into_iter().filter(|call| *call == "read_at").count();
    assert!(reads < 50, "{reads} calls read what is not there");
    // Also where only one side has data.
    for at in [(5 << 30) + 1, (8 << 30) - 1] {
        let more: Islands = islands.clone().into_iter().chain([(at, b"!".to_vec())]).collect();
        write(&trees.destination.join("season.wav"), 8 << 30, &more);
        let plan = compared(&trees, &Tampered::new(Tampering::Nothing));
        let reasons: Vec<Reason> = plan.steps().map(|placed| placed.step.reason).collect();
        assert_eq!(reasons, [Reason::Content { offset: at }]);
    }
}
