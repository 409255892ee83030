//! Guarantee: after a power cut at any moment of a run, the next run makes the destination identical by comparing
//! size and time only: files whose names reached the drive without their content are found. A run with a set-aside
//! folder can be undone: all that it displaced is restored, or is reported and still set aside, on any drive.
//!
//! The destination is in an image, on a drive that can share content: at random moments the image is cloned. Each
//! clone is what a machine would find after a power cut: the file system recovers when it is mounted.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Flush, Keeping, Request, SetAside, Task};
use utter_echo_core::{BadRun, PastRun, Session};
use utter_echo_lab::{DriveKind, MountedDrive, Snapshot, differences, snapshot};

use crate::common::Trees;

/// Files in the tree: small ones, some with holes, some large.
const FILES: u64 = 400;

/// Moments a kind of drive at which the power goes: many where the laboratory is required, and more at night.
fn moments() -> usize {
    if std::env::var_os("UTTER_NIGHTLY").is_some() {
        68
    } else if std::env::var_os("UTTER_LAB").is_some() {
        40
    } else {
        12
    }
}

fn fill(folder: &Path, round: u64) {
    let mut rng = fastrand::Rng::with_seed(round);
    for i in 0..FILES {
        let path = folder.join(format!("{}/leaf {i}", i % 20));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        if round > 0 && rng.u8(0..3) > 0 {
            continue;
        }
        // Half of the time as long as before, so that only the time shows the change.
        let length = if rng.bool() { 20_000 + i } else { rng.u64(0..60_000) };
        let mut bytes = vec![0; usize::try_from(length).unwrap()];
        rng.fill(&mut bytes);
        let file = File::create(&path).unwrap();
        let hole = if i % 5 == 0 { 1 << 20 } else { 0 };
        std::os::unix::fs::FileExt::write_all_at(&file, &bytes, hole).unwrap();
    }
    let mut large = vec![0; 10 << 20];
    rng.fill(&mut large);
    fs::write(folder.join("season.wav"), large).unwrap();
}

fn request(source: &Path, destination: &Path) -> Request {
    let mut request = crate::common::request(&Trees::new(), Task::Mirror);
    request.places.sources = vec![source.to_path_buf()];
    request.places.destination = destination.to_path_buf();
    request
}

/// A clone of an image as it is at this moment.
fn clone(image: &Path, to: &Path) {
    let (image, to) = (File::open(image).unwrap(), File::create(to).unwrap());
    rustix::fs::ioctl_ficlone(&to, &image).unwrap();
}

/// Runs a mirror, and meanwhile clones the image at random moments, at most so many milliseconds apart.
fn run_and_clone(
    request: &Request,
    image: &Path,
    neighbour: &Path,
    (clones, apart): (&[PathBuf], u64),
) {
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let outcome = crate::common::apply(&Linux, request);
            assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
            over.store(true, Ordering::Relaxed);
        });
        // Another program, whose flushes write all names and times to the drive but not the content of other files:
        // otherwise little of a run would reach it for seconds.
        scope.spawn(|| {
            let file = File::create(neighbour).unwrap();
            while !over.load(Ordering::Relaxed) {
                file.set_modified(std::time::SystemTime::now()).unwrap();
                file.sync_all().unwrap();
                std::thread::sleep(Duration::from_millis(3));
            }
        });
        let (mut rng, mut late) = (fastrand::Rng::with_seed(clones.len() as u64), 0);
        for path in clones {
            std::thread::sleep(Duration::from_millis(rng.u64(0..apart)));
            clone(image, path);
            late += usize::from(over.load(Ordering::Relaxed));
        }
        // A run that has ended cannot be cut short.
        assert!(late * 4 <= clones.len(), "{late} of {} clones came after the run", clones.len());
    });
}

const RUN: &str = "2026-11-23T14-05-09Z";

/// Undoes a run after a power cut, if there is one. What is not as it was before is named, and kept.
fn undo(echo: &Path, aside: &Path, old: &Snapshot, when: &str) {
    let trees = Trees::new();
    // The power may have gone before it was made.
    let kept = if aside.exists() { snapshot(aside) } else { Snapshot::new() };
    let named: Vec<Vec<u8>> = match PastRun::open(&Linux, &aside.join(RUN)) {
        Err(BadRun::NoRun { .. } | BadRun::NeverBegun(_)) => Vec::new(),
        Err(other) => panic!("{when}: {other}"),
        Ok(past) => {
            let wanted = crate::common::request(&trees, Task::Undo);
            let session = Session::open_to_undo(&Linux, &wanted, &past).unwrap();
            let plan = session.plan_to_undo().unwrap();
            session.execute(&plan, &NoObserver);
            let left = session.not_back().unwrap();
            left.into_iter().map(|problem| problem.path.as_bytes().to_vec()).collect()
        }
    };
    // The dirty marker stays until a run has looked at everything.
    let mut now = crate::common::with_groups_within(snapshot(echo));
    now.retain(|path, _| !path.starts_with(b".utter-"));
    let mut was = old.clone();
    for path in named {
        let lies_aside = kept.get(&[RUN.as_bytes(), b"/", &path].concat());
        let (was, now) = (was.remove(&path), now.remove(&path));
        let is_back =
            now.is_some_and(|now| was.as_ref().is_some_and(|was| now.content == was.content));
        let is_kept = lies_aside
            .is_some_and(|kept| was.as_ref().is_some_and(|was| kept.content == was.content));
        let path = String::from_utf8_lossy(&path);
        assert!(was.is_none() || is_back || is_kept, "{when}: '{path}' is lost");
    }
    let left = differences(&was, &now);
    assert!(left.is_empty(), "{when}: {left}");
}

/// Mirrors with what is lost set aside, on the same drive and on another, and undoes it after each power cut.
fn cut_power_while_setting_aside(kind: DriveKind, outer: &Path, elsewhere: bool) {
    let room = outer.join(format!("{}-{elsewhere}", kind.name()));
    let source = room.join("source");
    fs::create_dir_all(&source).unwrap();
    let image = room.join("image");
    let drives = match MountedDrive::make_pair(kind, &image, &room) {
        Ok(drives) => drives,
        Err(reason) => return utter_echo_lab::left_out(format!("{}: {reason}", kind.name())),
    };
    let folders = |drives: &[MountedDrive; 2]| {
        let aside = drives[usize::from(elsewhere)].folder().join("aside");
        (drives[0].folder().join("echo"), aside)
    };
    let (echo, aside) = folders(&drives);
    fill(&echo, 0);
    fill(&source, 7);
    for folder in ["3", "11"] {
        fs::remove_dir_all(source.join(folder)).unwrap_or_default();
    }
    rustix::fs::syncfs(File::open(&echo).unwrap()).unwrap();
    let old = snapshot(&echo);
    let mut request = request(&source, &echo);
    request.running.rate = Some(24 << 20);
    request.running.flush = Flush::End;
    request.safety.set_aside = Some(SetAside {
        folder: aside.clone(),
        run: RUN.into(),
        keep: None,
        what: Keeping::Displaced,
    });
    let clones: Vec<_> = (0..moments() / 8).map(|i| room.join(format!("clone-{i}"))).collect();
    // Copying to another drive takes its time, in which nothing is displaced yet.
    let apart = if elsewhere { 480 } else { 120 };
    run_and_clone(&request, &image, &drives[0].folder().join("neighbour"), (&clones, apart));
    drop(drives);
    for (at, path) in clones.iter().enumerate() {
        // In the same place, which the journal names.
        let found = MountedDrive::mount_pair(path, &room).unwrap();
        let (echo, aside) = folders(&found);
        undo(&echo, &aside, &old, &format!("{} {elsewhere}, cut {at}", kind.name()));
        drop(found);
        fs::remove_file(path).unwrap();
    }
}

/// Moves from one drive to another, and continues after each power cut: nothing is lost, and all arrives.
fn cut_power_while_moving(kind: DriveKind, outer: &Path) {
    let room = outer.join(format!("{}-move", kind.name()));
    fs::create_dir_all(&room).unwrap();
    let image = room.join("image");
    let drives = match MountedDrive::make_pair(kind, &image, &room) {
        Ok(drives) => drives,
        Err(reason) => return utter_echo_lab::left_out(format!("{}: {reason}", kind.name())),
    };
    let folders = |drives: &[MountedDrive; 2]| {
        (drives[0].folder().join("attic"), drives[1].folder().join("loft"))
    };
    let request = |drives: &[MountedDrive; 2]| {
        let (attic, loft) = folders(drives);
        let mut request = request(&attic, &loft);
        request.task = Task::Move;
        request.running.flush = Flush::End;
        let (folder, what) = (drives[1].folder().join("notes"), Keeping::Journal);
        request.safety.set_aside = Some(SetAside { folder, run: RUN.into(), keep: None, what });
        request
    };
    let (attic, _) = folders(&drives);
    fill(&attic, 0);
    rustix::fs::syncfs(File::open(&attic).unwrap()).unwrap();
    let before = snapshot(&attic);
    let mut slow = request(&drives);
    slow.running.rate = Some(24 << 20);
    let clones: Vec<_> = (0..moments() / 4).map(|i| room.join(format!("clone-{i}"))).collect();
    run_and_clone(&slow, &image, &drives[1].folder().join("neighbour"), (&clones, 80));
    drop(drives);
    for (at, path) in clones.iter().enumerate() {
        let when = format!("{}, cut {at}", kind.name());
        let found = MountedDrive::mount_pair(path, &room).unwrap();
        let (attic, loft) = folders(&found);
        let seen = |root: &Path| if root.exists() { snapshot(root) } else { Snapshot::new() };
        let (here, there) = (seen(&attic), seen(&loft));
        for (path, facts) in before.iter().filter(|(_, facts)| facts.mode >> 12 != 4) {
            let same = |side: &Snapshot| side.get(path) == Some(facts);
            assert!(
                same(&here) || same(&there),
                "{when}: {:?} is lost",
                String::from_utf8_lossy(path)
            );
        }
        let outcome = crate::common::apply(&Linux, &request(&found));
        assert!(outcome.problems.is_empty(), "{when}: {:?}", outcome.problems);
        assert!(!attic.exists(), "{when}: {:?}", seen(&attic).keys());
        let left = differences(&before, &snapshot(&loft));
        assert!(left.is_empty(), "{when}: {left}");
        drop(found);
        fs::remove_file(path).unwrap();
    }
}

fn cut_power(kind: DriveKind, outer: &Path) {
    let source = outer.join("source");
    let room = outer.join(kind.name());
    fs::create_dir_all(&source).unwrap();
    let runs = 4;
    fill(&source, 0);
    let mut drive = match MountedDrive::make(kind, &room) {
        Ok(drive) => drive,
        Err(reason) => {
            utter_echo_lab::left_out(format!("{}: {reason}", kind.name()));
            return;
        }
    };
    let image = drive.image();
    for round in 0..runs {
        fill(&source, round + 1);
        let mut request = request(&source, &drive.folder().join("echo"));
        // Slow enough that the drive writes some of it out in between.
        request.running.rate = Some(24 << 20);
        request.running.flush = if round == 3 { Flush::Each } else { Flush::End };
        let clones: Vec<_> = (0..moments() / 4).map(|i| outer.join(format!("clone-{i}"))).collect();
        run_and_clone(&request, &image, &drive.folder().join("neighbour"), (&clones, 60));
        // The same file system cannot be mounted twice.
        drop(drive);
        for path in &clones {
            let found = MountedDrive::mount_image(path, &outer.join("found")).unwrap();
            let echo = found.folder().join("echo");
            let mut next = self::request(&source, &echo);
            next.running.flush = Flush::End;
            let outcome = crate::common::apply(&Linux, &next);
            assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
            let differences = differences(&snapshot(&source), &snapshot(&echo));
            assert!(differences.is_empty(), "{} round {round}: {differences}", kind.name());
            drop(found);
            fs::remove_file(path).unwrap();
        }
        drive = MountedDrive::mount_image(&image, &image.parent().unwrap().join("again")).unwrap();
    }
    drop(drive);
}

const KINDS: [DriveKind; 3] = [DriveKind::Ext4, DriveKind::Xfs, DriveKind::Btrfs];

#[test]
fn set_aside_entries_are_restored_or_kept_after_a_power_cut() {
    on_a_large_drive(&KINDS, |kind, outer| {
        for elsewhere in [false, true] {
            cut_power_while_setting_aside(kind, outer, elsewhere);
        }
    });
}

#[test]
fn a_move_loses_nothing_in_a_power_cut_and_continues() {
    on_a_large_drive(&KINDS, cut_power_while_moving);
}

#[test]
fn after_a_power_cut_on_ext4_the_next_run_is_not_misled_by_sizes_and_times() {
    on_a_large_drive(&KINDS[..1], cut_power);
}

#[test]
fn after_a_power_cut_on_xfs_the_next_run_is_not_misled_by_sizes_and_times() {
    on_a_large_drive(&KINDS[1..2], cut_power);
}

#[test]
fn after_a_power_cut_on_btrfs_the_next_run_is_not_misled_by_sizes_and_times() {
    on_a_large_drive(&KINDS[2..], cut_power);
}

/// Does this for these kinds of drives, in a folder whose drive can share content.
fn on_a_large_drive(kinds: &[DriveKind], work: impl Fn(DriveKind, &Path)) {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts drives");
    }
    let room = utter_echo_lab::folder_in_memory().unwrap();
    let outer = match MountedDrive::make_large(DriveKind::Xfs, room.path()) {
        Ok(outer) => outer,
        Err(reason) => return utter_echo_lab::left_out(reason),
    };
    for kind in kinds {
        work(*kind, &outer.folder());
    }
}
