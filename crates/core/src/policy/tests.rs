//! Guarantee: decisions are made from facts alone. No file system is asked here: drives and proofs are
//! made up, and what is decided about one difference holds for all tasks and options.

#![allow(clippy::unwrap_used, clippy::default_trait_access, reason = "a test stops there")]

use super::*;

use utter_echo_model::attribute::{Attribute, Attributes};
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::NameArena;
use utter_echo_model::state::{FolderIdentity, State};
use utter_echo_model::verb::{Reason, Verb, Verbs};
use utter_echo_os::{Flags, Identity, Kind, Stat, Time};

use crate::compare::{
    Change, Compared, ComparedFolder, Difference, DifferenceKind, FolderDecision, FolderHead,
    FolderSink, LinkedEntry, LinkedName, MovedEntry, OnSide, Presence, Proof, ProvenRename,
};
use crate::policy::terms::{DriveFacts, SamenessTerms};
use crate::request::{MoveOptions, OnConflict, RenamePath, Task};

/// Drives that keep everything, the first of them in units of two seconds.
struct Made {
    renames: bool,
}

impl DriveFacts for Made {
    fn agree(&self, DriveId(drive): DriveId, one: Time, other: Time) -> bool {
        drive == 0 && one.secs.abs_diff(other.secs) < 2 || one == other
    }

    fn nearest(&self, _: DriveId, time: Time) -> Time {
        time
    }

    fn carries(&self, _: DriveId, _: Attribute) -> bool {
        true
    }

    fn renames(&self, _: DriveId) -> bool {
        self.renames
    }
}

/// Answers each question of sameness alike.
struct Says(bool);

impl Proof for Says {
    fn same(&self, _: &MovedEntry<'_>) -> Option<ProvenRename> {
        self.0.then_some(ProvenRename { attributes: Attributes::NONE })
    }
}

fn state(kind: Kind, secs: i64) -> State {
    State::from(&Stat {
        kind,
        mode: 0o644,
        uid: 0,
        gid: 0,
        size: 4,
        allocated: 4096,
        modified: Time { secs, nanos: 0 },
        accessed: Time::default(),
        changed: Time::default(),
        identity: Identity { drive: 1, inode: secs.unsigned_abs() },
        links: 1,
        flags: Flags::default(),
        flags_told: Flags::default(),
        mounted: false,
    })
}

fn policy(task: Task, steps: Verbs, drives: &Made) -> Policy<'_> {
    Policy {
        task,
        steps,
        moving: MoveOptions::default(),
        drives,
        conflicts: Conflicts { how: &|_| OnConflict::Skip, may_be_ours: &|_| false },
        sameness: SamenessTerms {
            leave_newer: false,
            content: true,
            strictly: false,
            by_presence: false,
            doubts_times: false,
        },
    }
}

fn folder(name: &str, is_root: bool, drive: DriveId) -> ComparedFolder {
    ComparedFolder {
        path: name.as_bytes().into(),
        path_there: name.as_bytes().into(),
        is_root,
        presence: Presence::Both,
        differences: Vec::new(),
        linked: Vec::new(),
        for_what_it_holds: false,
        below: Vec::new(),
        head: FolderHead {
            source_name: None,
            name: name.as_bytes().into(),
            known: FolderIdentity { source: Some(1), destination: Some(1), drive },
            before: None,
            names: NameArena::default(),
        },
        stays: Default::default(),
    }
}

fn differs(of: &mut ComparedFolder, name: &str, sides: Sides, what: DifferenceKind) {
    let seen = |state: Option<State>| state.map_or(OnSide::Absent, OnSide::There);
    let (source, destination) = (seen(sides.0), seen(sides.1));
    let name = of.head.names.add(name.as_bytes());
    of.differences.push(Difference {
        name,
        source,
        destination,
        what,
        obstacle: None,
        rename_path: RenamePath::Impossible,
        source_name: None,
    });
}

fn decided(policy: &Policy<'_>, folders: Vec<ComparedFolder>, same: bool) -> Decisions {
    let mut draft = Draft::new(policy);
    let mut below: Vec<(Option<usize>, FolderDecision)> = Vec::new();
    for mut facts in folders {
        if facts.is_root {
            facts.below = std::mem::take(&mut below);
        }
        below.push((None, draft.folder(facts)));
    }
    draft.decide(&Compared::default(), &Says(same))
}

fn steps(decided: &Decisions) -> Vec<(Verb, Reason)> {
    decided.part.all_steps().map(|step| (step.verb, step.reason)).collect()
}

type Sides = (Option<State>, Option<State>);

/// Every difference that one file can show, with what a mirror does about it.
fn differences() -> [(Sides, DifferenceKind, Verb); 7] {
    let (old, new) = (state(Kind::File, 100), state(Kind::File, 200));
    let link = state(Kind::Symlink, 100);
    let both = (Some(new), Some(old));
    [
        ((Some(new), None), DifferenceKind::New, Verb::Add),
        (both, DifferenceKind::Content(Change::SizeTime), Verb::Replace),
        (both, DifferenceKind::Content(Change::Bytes(3)), Verb::Replace),
        ((Some(link), Some(old)), DifferenceKind::Kind, Verb::Replace),
        (both, DifferenceKind::Attributes([Attribute::Mode].into_iter().collect()), Verb::Adjust),
        ((None, Some(old)), DifferenceKind::Extra, Verb::Remove),
        ((None, Some(old)), DifferenceKind::LeftOut, Verb::Remove),
    ]
}

#[test]
fn each_difference_has_its_step_or_is_counted_once_as_held_back() {
    let drives = Made { renames: true };
    for task in [Task::Copy, Task::Mirror, Task::Verify] {
        for without in Verb::ALL {
            for content in [true, false] {
                for (sides, what, verb) in differences() {
                    let allowed = Verbs::ALL.without(without);
                    let policy = Policy {
                        sameness: SamenessTerms {
                            content,
                            ..policy(task, allowed, &drives).sameness
                        },
                        ..policy(task, allowed, &drives)
                    };
                    let mut root = folder("", true, DriveId::default());
                    differs(&mut root, "log.csv", sides, what);
                    let decided = decided(&policy, vec![root], false);
                    let case = format!("{task:?} without {without:?}, {content}: {what:?}");
                    let counted = decided.held_back + decided.left_newer;
                    // What a copy leaves alone was never wanted, and so not held back either.
                    let wanted = verb != Verb::Remove || task != Task::Copy;
                    let carried = content || verb == Verb::Adjust || task == Task::Verify;
                    let may = wanted && verb != without && carried;
                    let expected: Vec<Verb> = may.then_some(verb).into_iter().collect();
                    let got: Vec<Verb> = steps(&decided).iter().map(|(verb, _)| *verb).collect();
                    assert_eq!(got, expected, "{case}");
                    assert_eq!(counted, u64::from(wanted && !may), "{case}");
                    assert!(decided.problems.is_empty(), "{case}");
                }
            }
        }
    }
}

#[test]
fn newer_files_are_left_alone_as_far_as_their_drive_can_tell() {
    let drives = Made { renames: true };
    // Seconds by which the destination's is newer, its drive, and whether it is spared.
    for (ahead, drive, spared) in
        [(0, 0, false), (1, 0, false), (2, 0, true), (-5, 0, false), (1, 1, true), (0, 1, false)]
    {
        let spare = Policy {
            sameness: SamenessTerms {
                leave_newer: true,
                ..policy(Task::Mirror, Verbs::ALL, &drives).sameness
            },
            ..policy(Task::Mirror, Verbs::ALL, &drives)
        };
        let mut root = folder("", true, DriveId(drive));
        let sides = (Some(state(Kind::File, 500)), Some(state(Kind::File, 500 + ahead)));
        differs(&mut root, "log.csv", sides, DifferenceKind::Content(Change::SizeTime));
        let decided = decided(&spare, vec![root], false);
        assert_eq!(steps(&decided).is_empty(), spared, "{ahead} s ahead on drive {drive}");
        assert_eq!(decided.left_newer, u64::from(spared));
    }
}

#[test]
fn what_moved_is_renamed_only_if_proven_on_one_drive_that_keeps_it() {
    let moved = state(Kind::File, 300);
    for (same, renames, apart, allowed) in [
        (true, true, false, Verbs::ALL),
        (false, true, false, Verbs::ALL),
        (true, false, false, Verbs::ALL),
        (true, true, true, Verbs::ALL),
        (true, true, false, Verbs::ALL.without(Verb::Rename)),
        (true, true, false, Verbs::ALL.without(Verb::Remove)),
        (true, true, false, Verbs::ALL.without(Verb::Add)),
    ] {
        let drives = Made { renames };
        let policy = policy(Task::Mirror, allowed, &drives);
        let mut below = folder("new", false, DriveId(u16::from(apart)));
        differs(&mut below, "log.csv", (Some(moved), None), DifferenceKind::New);
        let mut root = folder("", true, DriveId::default());
        differs(&mut root, "log.csv", (None, Some(moved)), DifferenceKind::Extra);
        let decided = decided(&policy, vec![below, root], same);
        let got = steps(&decided);
        let renamed = got == [(Verb::Rename, Reason::Moved)];
        let expected = same && renames && !apart && allowed == Verbs::ALL;
        assert_eq!(renamed, expected, "{same} {renames} {apart} {allowed:?}: {got:?}");
        assert!(got.iter().all(|(verb, _)| allowed.has(*verb)), "{got:?}");
    }
}

#[test]
fn a_folder_is_removed_only_with_all_its_entries() {
    let drives = Made { renames: true };
    let there = state(Kind::Folder, 300);
    for holds in [false, true] {
        for what in [DifferenceKind::Extra, DifferenceKind::Kind] {
            let policy = policy(Task::Mirror, Verbs::ALL, &drives);
            let mut below = folder("old", false, DriveId::default());
            (below.presence, below.stays.destination_stays) = (Presence::Destination, holds);
            let mut root = folder("", true, DriveId::default());
            let file = (what == DifferenceKind::Kind).then(|| state(Kind::File, 100));
            differs(&mut root, "old", (file, Some(there)), what);
            let mut draft = Draft::new(&policy);
            let below = draft.folder(below);
            root.below = vec![(Some(0), below)];
            draft.folder(root);
            let decided = draft.decide(&Compared::default(), &Says(false));
            assert_eq!(steps(&decided).is_empty(), holds, "{what:?}, holding something: {holds}");
            let told = usize::from(holds && what == DifferenceKind::Kind);
            assert_eq!(decided.problems.len(), told, "what stands in the way is told");
        }
    }
}

#[test]
fn a_newer_file_becomes_no_hard_link_of_an_older_one_with_leave_newer() {
    let drives = Made { renames: true };
    let named = |inode, secs, links| LinkedEntry {
        state: state(Kind::File, secs),
        identity: Identity { drive: 1, inode },
        links,
    };
    for (leave_newer, ahead) in [(true, 60), (true, -60), (false, 60)] {
        let policy = Policy {
            sameness: SamenessTerms {
                leave_newer,
                ..policy(Task::Mirror, Verbs::ALL, &drives).sameness
            },
            ..policy(Task::Mirror, Verbs::ALL, &drives)
        };
        let mut root = folder("", true, DriveId::default());
        // Two names of one file in the source, two files in the destination.
        for (name, inode, secs) in [("log", 7, 500), ("log.old", 8, 500 + ahead)] {
            let name = root.head.names.add(name.as_bytes());
            let (source, there) = (named(5, 500, 2), named(inode, secs, 1));
            root.linked.push(LinkedName {
                name,
                source,
                destination: Some(there),
                difference: None,
            });
        }
        let decided = decided(&policy, vec![root], false);
        let spared = leave_newer && ahead > 0;
        let linked = steps(&decided) == [(Verb::Replace, Reason::Linked)];
        assert_eq!(linked, !spared, "{:?}", steps(&decided));
        assert_eq!(decided.left_newer, u64::from(spared));
    }
}

#[test]
fn a_folder_that_lost_something_to_a_rename_is_not_renamed_as_a_whole() {
    let drives = Made { renames: true };
    let policy = policy(Task::Mirror, Verbs::ALL, &drives);
    let (file, there) = (state(Kind::File, 300), state(Kind::Folder, 300));
    let holding = |name: &str, presence, file: Sides, what| {
        let mut facts = ComparedFolder { presence, ..folder(name, false, DriveId::default()) };
        differs(&mut facts, "log.csv", file, what);
        facts
    };
    let new = |name| holding(name, Presence::Source, (Some(file), None), DifferenceKind::New);
    let old =
        |name| holding(name, Presence::Destination, (None, Some(file)), DifferenceKind::Extra);
    let mut draft = Draft::new(&policy);
    // The source has a/log.csv and b/deep/log.csv, the destination old/deep/log.csv.
    let a = draft.folder(new("a"));
    let deep = draft.folder(new("deep"));
    let mut b =
        ComparedFolder { presence: Presence::Source, ..folder("b", false, DriveId::default()) };
    differs(&mut b, "deep", (Some(there), None), DifferenceKind::New);
    b.below = vec![(Some(0), deep)];
    let b = draft.folder(b);
    let deep = draft.folder(old("deep"));
    let mut was =
        ComparedFolder { presence: Presence::Destination, ..folder("old", false, DriveId(0)) };
    differs(&mut was, "deep", (None, Some(there)), DifferenceKind::Extra);
    was.below = vec![(Some(0), deep)];
    let was = draft.folder(was);
    let mut root = folder("", true, DriveId::default());
    for (name, sides, what) in [
        ("a", (Some(there), None), DifferenceKind::New),
        ("b", (Some(there), None), DifferenceKind::New),
        ("old", (None, Some(there)), DifferenceKind::Extra),
    ] {
        differs(&mut root, name, sides, what);
    }
    root.below = vec![(Some(0), a), (Some(1), b), (Some(2), was)];
    draft.folder(root);
    let decided = draft.decide(&Compared::default(), &Says(true));
    let renames = steps(&decided).iter().filter(|(verb, _)| *verb == Verb::Rename).count();
    assert_eq!(renames, 1, "what is there once went to two places: {:?}", steps(&decided));
}
