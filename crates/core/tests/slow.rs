//! Guarantee: slow drives are used well. A rotational disk is read in disk order across all folders, and unreadable
//! files come last. A network share is asked by as many workers as it can serve, with few requests. No drive is
//! handed more than it can write within two seconds, and no byte counts before it is written. What is read from the
//! drive is told apart from what is cached.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::fs;
use std::os::unix::fs::FileExt as _;
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::common::{Trees, apply, plan_of, request};
use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::observe::{NoObserver, Observer};
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Note, Plan, Verb, Verbs};
use utter_echo_core::request::{
    CompareBy, Flush, Places, Reading, Request, Retries, Running, Task, Workers,
};
use utter_echo_core::{Session, StepOutcome};
use utter_echo_lab::{
    Aged, DriveKind, Lies, LyingDrive, Model, MountedDrive, SlowDrive, Tampered, Tampering,
    left_out, read_in_order,
};

/// A cold rotational disk with space for such a tree and its past.
fn disk_with(room: &Path, aged: Aged, fill: impl FnOnce(&Path)) -> Option<SlowDrive> {
    // Only seeks count here, so it need not be as slow as a real one.
    let model = Model::Rotating { faster: 100.0 };
    // Its past fills it; a third of that is the tree.
    let bytes = (aged.files * aged.longest) as u64 * 5 / 4;
    match SlowDrive::make(model, room, bytes, fill) {
        Ok(drive) => Some(drive),
        Err(error) => {
            left_out(format!("no slow drive could be made: {error}"));
            None
        }
    }
}

/// With an aged tree on it.
fn aged_disk(room: &Path, aged: Aged) -> Option<SlowDrive> {
    disk_with(room, aged, |root| aged.grow(&root.join("tree")).unwrap())
}

/// The seeks of some work on a disk that is cold before.
fn seeks(disk: &SlowDrive, work: impl FnOnce()) -> u64 {
    disk.cool().unwrap();
    let before = disk.done().seeks;
    work();
    disk.done().seeks - before
}

#[test]
fn an_aged_disk_is_read_in_one_pass() {
    let mut trees = Trees::new();
    let aged = Aged { seed: 1931, folders: 50, files: 3000, longest: 24 * 1024 };
    let Some(disk) = aged_disk(&trees.base.path().join("disk"), aged) else { return };
    trees.source = disk.folder().join("tree");
    let floor = seeks(&disk, || {
        read_in_order(&trees.source).unwrap();
    });
    let most = floor * 6 / 5;
    let copied = seeks(&disk, || {
        let outcome = apply(&Linux, &request(&trees, Task::Copy));
        assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    });
    assert!(copied <= most, "a copy took {copied} seeks, reading in order {floor}");
    let mut verify = request(&trees, Task::Verify);
    verify.changed.by = CompareBy::Content;
    for reading in [Reading::AsCached, Reading::FromDrive] {
        verify.changed.reading = reading;
        let verified = seeks(&disk, || {
            let plan = plan_of(&Linux, &verify);
            assert!(plan.is_empty() && plan.problems.is_empty());
        });
        assert!(verified <= most, "{reading:?}: {verified} seeks, reading in order {floor}");
    }
    // One file of the copy is another now, with the same size and times.
    let (changed, model) = (trees.destination.join("light-1"), trees.source.join("light-1"));
    let file = first_file(&changed);
    let model = model.join(file.strip_prefix(&changed).unwrap());
    let content = fs::read(&file).unwrap();
    fs::write(&file, content.iter().map(|byte| byte ^ 1).collect::<Vec<_>>()).unwrap();
    let time = fs::metadata(model).unwrap().modified().unwrap();
    fs::File::open(&file).unwrap().set_modified(time).unwrap();
    disk.cool().unwrap();
    let plan = plan_of(&Linux, &verify);
    assert_eq!(plan.steps().count(), 1, "only what differs is told");
}

fn copy_in_any_order(tree: &Path, to: &Path, seed: u64) {
    let (mut folders, mut files) = (vec![tree.to_path_buf()], Vec::new());
    while let Some(folder) = folders.pop() {
        fs::create_dir_all(to.join(folder.strip_prefix(tree).unwrap())).unwrap();
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            let is_folder = entry.file_type().unwrap().is_dir();
            if is_folder { &mut folders } else { &mut files }.push(entry.path());
        }
    }
    files.sort();
    fastrand::Rng::with_seed(seed).shuffle(&mut files);
    for file in files {
        let copy = to.join(file.strip_prefix(tree).unwrap());
        fs::write(&copy, fs::read(&file).unwrap()).unwrap();
        let time = fs::metadata(&file).unwrap().modified().unwrap();
        fs::File::open(&copy).unwrap().set_modified(time).unwrap();
    }
}

#[test]
fn two_disks_are_each_read_in_an_order_of_their_own() {
    let mut trees = Trees::new();
    let aged = Aged { seed: 1874, folders: 50, files: 3000, longest: 24 * 1024 };
    let Some(disk) = aged_disk(&trees.base.path().join("disk"), aged) else { return };
    trees.source = disk.folder().join("tree");
    // On the second one the same lies in another order.
    let fill = |root: &Path| copy_in_any_order(&trees.source, &root.join("tree"), aged.seed);
    let Some(other) = disk_with(&trees.base.path().join("other"), aged, fill) else { return };
    trees.destination = other.folder().join("tree");
    let floor = |disk: &SlowDrive, tree: &Path| {
        seeks(disk, || {
            read_in_order(tree).unwrap();
        })
    };
    let floors = (floor(&disk, &trees.source), floor(&other, &trees.destination));
    let mut verify = request(&trees, Task::Verify);
    verify.changed.by = CompareBy::Content;
    other.cool().unwrap();
    let before = other.done().seeks;
    let here = seeks(&disk, || {
        let plan = plan_of(&Linux, &verify);
        // The folders were made later.
        let only_folders = plan.steps().all(|placed| placed.step.verb == Verb::Adjust);
        assert!(only_folders && plan.problems.is_empty(), "{:?}", plan.problems);
    });
    let there = other.done().seeks - before;
    // The second was written in one go, so that there are hardly any but those to look at its folders.
    let within = here <= floors.0 * 6 / 5 && there <= floors.1 * 2;
    assert!(within, "{here} and {there} seeks, reading each in order {floors:?}");
}

#[test]
fn renames_are_proven_in_disk_order() {
    let mut trees = Trees::new();
    let aged = Aged { seed: 1902, folders: 50, files: 2000, longest: 24 * 1024 };
    let Some(disk) = aged_disk(&trees.base.path().join("disk"), aged) else { return };
    trees.source = disk.folder().join("tree");
    let outcome = apply(&Linux, &request(&trees, Task::Copy));
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    // Some folders have another name in the destination, and all files of the others.
    let top = |at: usize| trees.destination.join(format!("light-{at}"));
    (0..3).for_each(|at| fs::rename(top(at), trees.destination.join(format!("was-{at}"))).unwrap());
    let mut folders = vec![top(3), top(4), top(5)];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            if entry.file_type().unwrap().is_dir() {
                folders.push(entry.path());
            } else {
                fs::rename(entry.path(), entry.path().with_extension("old")).unwrap();
            }
        }
    }
    let floor = seeks(&disk, || {
        read_in_order(&trees.source).unwrap();
    });
    let mut mirror = request(&trees, Task::Mirror);
    mirror.changed.steps = Verbs::ALL.without(Verb::Rename);
    let looked_at = seeks(&disk, || drop(plan_of(&Linux, &mirror)));
    mirror.changed.steps = Verbs::ALL;
    let planned = seeks(&disk, || {
        let plan = plan_of(&Linux, &mirror);
        let renamed = plan.steps().filter(|placed| placed.step.verb == Verb::Rename).count();
        assert!(renamed > 500 && plan.bytes_to_write() == 0, "{renamed}");
    });
    let most = looked_at + floor;
    assert!(
        planned <= most,
        "{planned} seeks, looking alone {looked_at}, reading in order {floor}"
    );
}

#[test]
fn written_files_are_read_back_in_disk_order() {
    for task in [Task::Copy, Task::Move] {
        let mut trees = Trees::new();
        let aged = Aged { seed: 1866, folders: 50, files: 2000, longest: 24 * 1024 };
        let rooms = ["disk", "other"].map(|room| trees.base.path().join(room));
        let Some(disk) = aged_disk(&rooms[0], aged) else { return };
        let empty = |root: &Path| fs::create_dir(root.join("tree")).unwrap();
        let Some(other) = disk_with(&rooms[1], aged, empty) else { return };
        trees.source = disk.folder().join("tree");
        trees.destination = other.folder().join("tree");
        let floor = seeks(&disk, || {
            read_in_order(&trees.source).unwrap();
        });
        let mut request = request(&trees, task);
        (request.running.read_back, request.running.flush) = (true, Flush::End);
        let before = other.done().seeks;
        let here = seeks(&disk, || {
            let outcome = apply(&Linux, &request);
            assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
        });
        let there = other.done().seeks - before;
        // The source twice, and the copies that lie in the order of the first reading in one pass.
        let within = here <= 2 * floor * 6 / 5 && there <= floor;
        assert!(within, "{task:?}: {here} and {there} seeks, reading in order {floor}");
    }
}

#[test]
fn two_sides_on_one_disk_are_read_in_turns() {
    let mut trees = Trees::new();
    let aged = Aged { seed: 1920, folders: 40, files: 4000, longest: 24 * 1024 };
    let sides = ["saltmere", "keeper"];
    let fill = |root: &Path| {
        for side in sides {
            for at in 0..600 {
                let folder = root.join(side).join(format!("{}", at % 20));
                fs::create_dir_all(&folder).unwrap();
                fs::write(folder.join(format!("{at}.csv")), vec![7; 9000]).unwrap();
            }
            fs::write(root.join(side).join("season.wav"), vec![9; 24 << 20]).unwrap();
        }
    };
    let Some(disk) = disk_with(&trees.base.path().join("disk"), aged, fill) else { return };
    [trees.source, trees.destination] = sides.map(|side| disk.folder().join(side));
    let floor = seeks(&disk, || {
        read_in_order(&trees.source).unwrap();
        read_in_order(&trees.destination).unwrap();
    });
    let mut verify = request(&trees, Task::Verify);
    (verify.changed.by, verify.carry) =
        (CompareBy::Content, Attributes::NONE.with(Attribute::Content));
    let verified = seeks(&disk, || {
        let plan = plan_of(&Linux, &verify);
        assert!(plan.is_empty() && plan.problems.is_empty());
    });
    // Twelve seeks there and back for the long file, and one for the others.
    assert!(verified <= floor + 60, "{verified} seeks, reading one after the other {floor}");
}

/// The first file below a folder that holds something.
fn first_file(folder: &Path) -> std::path::PathBuf {
    let mut entries: Vec<_> = fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).collect();
    entries.sort();
    let held = |path: &std::path::PathBuf| path.is_dir() || fs::metadata(path).unwrap().len() > 0;
    let first = entries.into_iter().find(held).unwrap();
    if first.is_dir() { first_file(&first) } else { first }
}

#[test]
fn unreadable_files_come_after_all_others() {
    let trees = Trees::new();
    let truth = trees.base.path().join("truth");
    grow(&truth, 40);
    let lies = Lies { fails: Some(7), ..Lies::default() };
    let _drive = match LyingDrive::mount(lies, &truth, &trees.source) {
        Ok(drive) => drive,
        Err(error) => return left_out(format!("no drive that lies could be mounted: {error}")),
    };
    let mut request = request(&trees, Task::Copy);
    request.running.workers = Workers::Fixed(1);
    request.running.retries = Retries { times: 2, wait: Duration::ZERO };
    let session = Session::open(&Linux, &request).unwrap();
    let plan = session.plan(&NoObserver).unwrap();
    let files = |step: usize| plan.step(step).unwrap().step.bytes() > 0;
    let order = Order::default();
    let outcome = session.execute(&plan, &order);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    let order: Vec<usize> =
        order.0.into_inner().unwrap().into_iter().filter(|s| files(*s)).collect();
    let back: Vec<usize> = (1..order.len()).filter(|at| order[*at] < order[at - 1]).collect();
    assert_eq!(back.len(), 1, "one step back, to those that were put off: {order:?}");
    assert!(order.len() - back[0] >= 3, "every seventh reading failed: {order:?}");
}

/// In which order steps came to their end.
#[derive(Default)]
struct Order(Mutex<Vec<usize>>);

impl Observer for Order {
    fn concluded(&self, step: usize, _: StepOutcome) {
        self.0.lock().unwrap().push(step);
    }
}

#[test]
fn a_network_share_is_used_by_as_many_workers_as_it_can_serve() {
    let trees = Trees::new();
    let files = 1500;
    grow(&trees.source, files);
    let far = trees.base.path().join("far");
    fs::create_dir(&far).unwrap();
    let lies = Lies::share(Duration::from_micros(500));
    let share = match LyingDrive::mount(lies, &trees.destination, &far) {
        Ok(share) => share,
        Err(error) => return left_out(format!("no share could be mounted: {error}")),
    };
    for (workers, least, most) in [(Workers::Fixed(2), 1, 8), (Workers::Auto, 12, 80)] {
        let places = Places::new(vec![trees.source.clone()], far.join(format!("{workers:?}")));
        let running = Running { workers, ..Running::default() };
        let mut request = Request::new(Task::Copy, places).running(running);
        let ask = |what: &str, work: &dyn Fn()| {
            let before = share.asked();
            share.at_once();
            work();
            let at_once = share.at_once();
            assert!((least..=most).contains(&at_once), "{workers:?}, {what}: {at_once} at once");
            (share.asked() - before) as f64 / files as f64
        };
        let copied = ask("copy", &|| {
            let outcome = apply(&Linux, &request);
            assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
        });
        assert!(copied <= 8.0, "{copied} questions a new file");
        let planned = ask("plan", &|| assert!(plan_of(&Linux, &request).is_empty()));
        // To look at a name is two questions to a driver in user space, and there are the folders.
        assert!(planned <= 2.5, "{planned} questions an unchanged entry");
        request.task = Task::Verify;
        ask("verify", &|| assert!(plan_of(&Linux, &request).is_empty()));
    }
}

fn grow(root: &Path, files: usize) {
    for at in 0..files {
        let folder = root.join(format!("season-{}", at / 70));
        fs::create_dir_all(&folder).unwrap();
        let content = vec![at.to_le_bytes()[0]; 1 + at % 8192];
        fs::write(folder.join(format!("page-{at:05}.csv")), content).unwrap();
    }
}

/// What a run reported, and which steps ended.
struct Counts<'a> {
    plan: &'a Plan,
    told: AtomicU64,
    concluded: AtomicU64,
}

impl Observer for Counts<'_> {
    fn wrote(&self, bytes: u64) {
        self.told.fetch_add(bytes, Ordering::Relaxed);
    }

    fn concluded(&self, step: usize, _: StepOutcome) {
        let bytes = self.plan.step(step).map_or(0, |placed| placed.step.bytes());
        self.concluded.fetch_add(bytes, Ordering::Relaxed);
    }
}

#[test]
fn a_byte_counts_when_it_is_on_the_drive_and_few_are_on_their_way() {
    const A_SECOND: u64 = 15_000_000;
    let trees = Trees::new();
    let model = Model::Stick { write: 15e6 };
    let room = trees.base.path().join("stick");
    let stick = match SlowDrive::make(model, &room, 400 << 20, |_| {}) {
        Ok(stick) => stick,
        Err(error) => return left_out(format!("no slow drive could be made: {error}")),
    };
    for (name, sizes) in [("small", vec![30_000; 1500]), ("large", vec![20_000_000; 3])] {
        let source = trees.source.join(name);
        for (at, size) in sizes.iter().enumerate() {
            let folder = source.join(format!("{}", at / 100));
            fs::create_dir_all(&folder).unwrap();
            fs::write(folder.join(at.to_string()), vec![7; *size]).unwrap();
        }
        let all = sizes.iter().sum::<usize>() as u64;
        let places = Places::new(vec![source], stick.folder().join(name));
        let request = Request::new(Task::Copy, places);
        let session = Session::open(&Linux, &request).unwrap();
        let plan = session.plan(&NoObserver).unwrap();
        let (told, concluded) = (AtomicU64::new(0), AtomicU64::new(0));
        let counts = Counts { plan: &plan, told, concluded };
        let before = stick.done().written;
        std::thread::scope(|scope| {
            let run = scope.spawn(|| {
                let outcome = session.execute(&plan, &counts);
                assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
            });
            while !run.is_finished() {
                std::thread::sleep(Duration::from_millis(50));
                let told = counts.told.load(Ordering::Relaxed);
                let concluded = counts.concluded.load(Ordering::Relaxed);
                let written = stick.done().written - before;
                assert!(told <= written, "{name}: {told} bytes told, {written} written");
                let on_their_way = concluded.saturating_sub(written);
                assert!(on_their_way <= 2 * A_SECOND, "{name}: {on_their_way} bytes on their way");
            }
        });
        assert_eq!(counts.told.into_inner(), all);
    }
}

#[test]
fn content_of_the_drive_is_told_apart_from_cached_content() {
    for kind in [DriveKind::Ext4, DriveKind::ExFat, DriveKind::Ntfs] {
        what_a_drive_of_this_kind_holds_is_told(kind);
    }
}

fn what_a_drive_of_this_kind_holds_is_told(kind: DriveKind) {
    let trees = Trees::new();
    let drive = match MountedDrive::make(kind, trees.base.path()) {
        Ok(drive) => drive,
        Err(error) => return left_out(format!("no drive could be made: {error}")),
    };
    let logged = b"the lamp of Snuffer Point was lit at four\n".repeat(2000);
    fs::write(trees.source.join("log.csv"), &logged).unwrap();
    fs::write(trees.source.join("tide.csv"), b"high at six\n").unwrap();
    let there = drive.folder().join("echo");
    let places = Places::new(vec![trees.source.clone()], there);
    let mut copy = Request::new(Task::Copy, places.clone());
    copy.carry = [Attribute::Content].into_iter().collect();
    let outcome = apply(&Linux, &copy);
    assert!(outcome.problems.is_empty(), "{:?}", outcome.problems);
    // A driver in user space whose device is not for this user.
    let denied = Tampering::FailAll("driver_device", rustix::io::Errno::ACCESS.raw_os_error());
    let verify = |tampering: Tampering, reading| {
        let mut verify = Request::new(Task::Verify, places.clone());
        verify.carry = copy.carry;
        (verify.changed.by, verify.changed.reading) = (CompareBy::Content, reading);
        plan_of(&Tampered::new(tampering), &verify)
    };
    verify(denied, Reading::FromDrive);
    // Below the file system one byte of it is changed.
    let image = fs::read(drive.image()).unwrap();
    let at = image.windows(4096).step_by(512).position(|part| logged.starts_with(part)).unwrap();
    let file = fs::File::options().write(true).open(drive.image()).unwrap();
    file.write_all_at(b"X", at as u64 * 512 + 99).unwrap();
    let ways = [
        (Tampering::Nothing, Reading::AsCached, 0, None),
        (
            denied,
            Reading::FromDrive,
            usize::from(kind == DriveKind::Ext4),
            Some(&Note::ReadFromMemory(4)),
        ),
        (Tampering::Nothing, Reading::FromDrive, 1, None),
    ];
    for (tampering, reading, expected, note) in ways {
        let plan = verify(tampering, reading);
        assert!(plan.problems.is_empty(), "{:?}", plan.problems);
        let is_reported = |note: &&Note| matches!(note, Note::ReadFromMemory(_));
        assert_eq!(plan.notes.iter().find(is_reported), note, "{kind:?} {reading:?}");
        assert_eq!(plan.steps().count(), expected, "{kind:?} {reading:?}");
    }
}
