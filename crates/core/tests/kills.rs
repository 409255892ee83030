//! Guarantee: on every kind of drive, wherever a run that sets aside or moves is killed, or its undo, or the run
//! after that: no content is lost, the same command finishes the work, and an undo that reports success has
//! restored everything.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use fastrand::Rng;
use utter_echo_core::attribute::Attribute;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::{Linux, System};
use utter_echo_core::plan::Verbs;
use utter_echo_core::request::{
    Flush, Guard, Keeping, MoveOptions, OnConflict, Places, Request, SetAside, Task, Workers,
};
use utter_echo_core::{Ending, PastRun, Session};
use utter_echo_lab::{DriveKind, MountedDrive, Tampered, Tampering, left_out};

/// The number of kills on each kind of drive; with `UTTER_NIGHTLY=1` there are more.
const CASES: u64 = 14;
const CASES_AT_NIGHT: u64 = 350;

/// Two sides and a set-aside folder, of which at least one is on the drive.
struct Case {
    source: PathBuf,
    destination: PathBuf,
    store: PathBuf,
    task: Task,
    workers: usize,
    /// The runs so far.
    runs: u32,
}

/// The content of files by path; none for a folder.
type Contents = BTreeMap<PathBuf, Option<Vec<u8>>>;

fn contents(root: &Path) -> Contents {
    let mut all = Contents::new();
    let mut waiting = vec![root.to_path_buf()];
    while let Some(folder) = waiting.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            let path = entry.path();
            let kind = entry.file_type().unwrap();
            if kind.is_dir() {
                waiting.push(path.clone());
            }
            let content = kind.is_file().then(|| fs::read(&path).unwrap());
            all.insert(path.strip_prefix(root).unwrap().to_path_buf(), content);
        }
    }
    all
}

/// Without what killed runs left under hidden names.
fn shown(root: &Path) -> Contents {
    let is_hidden = |path: &Path| path.to_string_lossy().contains(".utter-");
    contents(root).into_iter().filter(|(path, _)| !is_hidden(path)).collect()
}

/// Folders and files: some are on both sides, some in another state.
fn grow(case: &Case, rng: &mut Rng) {
    let mut number = 0;
    for folder in ["", "log", "log/1931", "lens", "empty"] {
        fs::create_dir_all(case.source.join(folder)).unwrap();
        if folder == "empty" || rng.u8(0..4) == 0 {
            continue;
        }
        fs::create_dir_all(case.destination.join(folder)).unwrap();
        for name in ["fog", "tide", "lamp", "wind"] {
            number += 1;
            let mut content = |side: &str| {
                // Other tests cover different files of equal size and time.
                let length = if rng.u8(0..12) == 0 { 1_500_000 } else { rng.usize(20..6000) };
                let length = length * 2 + usize::from(side == "source");
                format!("{side} {number} ").into_bytes().into_iter().cycle().take(length).collect()
            };
            let (here, there): (Vec<u8>, Vec<u8>) = (content("source"), content("destination"));
            let name = format!("{folder}/{name}");
            let name = name.trim_start_matches('/');
            let (here_is, there_is) = (case.source.join(name), case.destination.join(name));
            match rng.u8(0..5) {
                0 => fs::write(here_is, here).unwrap(),
                1 => fs::write(there_is, there).unwrap(),
                2 => {
                    fs::write(&here_is, &here).unwrap();
                    fs::write(there_is, here).unwrap();
                }
                // Only a mirror puts a file in the place of a folder.
                3 if case.task == Task::Mirror => {
                    fs::write(here_is, here).unwrap();
                    fs::create_dir(&there_is).unwrap();
                    fs::write(there_is.join("inside"), there).unwrap();
                }
                _ => {
                    fs::write(here_is, here).unwrap();
                    fs::write(there_is, there).unwrap();
                }
            }
        }
    }
}

impl Case {
    fn request(&mut self) -> Request {
        self.runs += 1;
        let places = Places::new(vec![self.source.clone()], self.destination.clone());
        let mut request = Request::new(self.task, places);
        request.carry = [Attribute::Content, Attribute::Times].into_iter().collect();
        request.running.flush = Flush::None;
        request.running.workers = Workers::Fixed(self.workers);
        request.changed.steps = Verbs::ALL;
        request.moving = MoveOptions { on_conflict: OnConflict::Replace, ..MoveOptions::default() };
        let run = format!("2026-11-23T14-{:02}-09Z", self.runs);
        let (folder, what) = (self.store.clone(), Keeping::Displaced);
        request.safety.set_aside = Some(SetAside { folder, run, keep: None, what });
        request.safety.waived = vec![
            Guard::Loss,
            Guard::Space,
            Guard::Removals,
            Guard::EmptySource,
            Guard::Nesting,
            Guard::Swapped,
        ];
        request
    }

    /// The same command again.
    fn run(&mut self, system: &dyn System) -> Result<(), String> {
        let request = self.request();
        let shown = |error: &dyn std::fmt::Display| error.to_string();
        let session = Session::open(system, &request).map_err(|error| shown(&error))?;
        let mut plan = session.plan(&NoObserver).map_err(|error| shown(&error))?;
        if session.recover(&plan).map_err(|refusal| shown(&refusal))? {
            plan = session.plan(&NoObserver).map_err(|error| shown(&error))?;
        }
        session.guard(&plan, &[]).map_err(|refusal| shown(&refusal))?;
        let outcome = session.execute(&plan, &NoObserver);
        let is_complete = matches!(outcome.ending, Ending::Complete);
        if plan.problems.is_empty() && outcome.problems.is_empty() && is_complete {
            return Ok(());
        }
        Err(format!("{:?} {:?} {:?}", plan.problems, outcome.problems, outcome.ending))
    }

    /// The newest run that has a set-aside folder or a journal.
    fn newest(&self) -> Option<PathBuf> {
        let runs = fs::read_dir(&self.store).ok()?.flatten().map(|entry| entry.path());
        let notes = runs.filter(|path| path.extension().is_some_and(|end| end == "notes"));
        notes.max().map(|notes| notes.with_extension(""))
    }

    fn everything(&self) -> BTreeSet<Vec<u8>> {
        let all = [&self.source, &self.destination, &self.store].map(|root| contents(root));
        all.into_iter().flat_map(BTreeMap::into_values).flatten().collect()
    }
}

fn kill(rng: &mut Rng) -> Tampered<'static> {
    let most = [40, 200, 600][rng.usize(0..3)];
    Tampered::new(Tampering::KillAt(rng.usize(0..most)))
}

fn kills(kind: DriveKind) {
    let room = tempfile::tempdir().unwrap();
    let drive = match MountedDrive::make(kind, room.path()) {
        Ok(drive) => drive,
        Err(reason) => return left_out(reason),
    };
    let night = std::env::var_os("UTTER_NIGHTLY").is_some();
    let first = u64::try_from(crate::common::seed()).unwrap();
    let (mut undone, mut finished) = (0, 0);
    for seed in first..first + if night { CASES_AT_NIGHT } else { CASES } {
        let mut rng = Rng::with_seed(seed);
        let (here, there) = (room.path().join("here"), drive.folder().join("there"));
        let sides = [(&there, &there), (&here, &there), (&there, &here)][rng.usize(0..3)];
        let mut case = Case {
            source: sides.0.join("source"),
            destination: sides.1.join("destination"),
            store: [sides.1, &here][rng.usize(0..2)].join("store"),
            task: [Task::Copy, Task::Mirror, Task::Move][rng.usize(0..3)],
            workers: rng.usize(1..4),
            runs: 0,
        };
        grow(&case, &mut rng);
        let when = format!("{}, seed {seed:x}: {:?}", kind.name(), case.task);
        let (all, before) = (case.everything(), [shown(&case.source), shown(&case.destination)]);
        let check = |case: &Case, what: &str| {
            let now = case.everything();
            let gone: Vec<_> = all
                .difference(&now)
                .map(|it| String::from_utf8_lossy(&it[..20.min(it.len())]).into_owned())
                .collect();
            assert!(gone.is_empty(), "{when}, after {what}: {gone:?} is nowhere");
        };
        let _ = case.run(&kill(&mut rng));
        check(&case, "the run");
        for _ in 0..rng.usize(0..4) {
            if let Some(run) = case.newest().filter(|_| rng.bool()) {
                let _ = crate::common::undo(&kill(&mut rng), &run);
                check(&case, "an undo");
            } else {
                let _ = case.run(&kill(&mut rng));
                check(&case, "a further run");
            }
        }
        if rng.bool() {
            let well = case.run(&Linux);
            check(&case, "the last run");
            well.unwrap_or_else(|why| panic!("{when}: {why}"));
            let (here, there) = (shown(&case.source), shown(&case.destination));
            let came = before[0].iter().all(|(path, content)| there.get(path) == Some(content));
            assert!(came, "{when}: not all of {:?} is in {:?}", before[0].keys(), there.keys());
            assert!(case.task != Task::Move || here.is_empty(), "{when}: {:?}", here.keys());
            finished += 1;
        } else {
            let mut well = true;
            while let Some(run) = case.newest().filter(|_| well) {
                let never = matches!(
                    PastRun::open(&Linux, &run),
                    Err(utter_echo_core::BadRun::NeverBegun(_))
                );
                if never {
                    fs::remove_file(run.with_extension("notes")).unwrap();
                    let _ = fs::remove_dir_all(run);
                    continue;
                }
                well = crate::common::undo(&Linux, &run).is_ok();
                check(&case, "the last undo");
            }
            if well {
                let now = [shown(&case.source), shown(&case.destination)];
                assert!(
                    now == before,
                    "{when}: not back:\n{:?}\n{:?}",
                    before.each_ref().map(BTreeMap::keys),
                    now.each_ref().map(BTreeMap::keys)
                );
                undone += 1;
            }
        }
        for folder in [&here, &there] {
            let _ = fs::remove_dir_all(folder);
        }
    }
    assert!(finished > 2 && (undone > 2 || kind == DriveKind::Fat), "{finished} {undone}");
}

#[test]
fn of_ext4_nothing_is_lost() {
    kills(DriveKind::Ext4);
}

#[test]
fn of_xfs_nothing_is_lost() {
    kills(DriveKind::Xfs);
}

#[test]
fn of_btrfs_nothing_is_lost() {
    kills(DriveKind::Btrfs);
}

#[test]
fn of_exfat_nothing_is_lost() {
    kills(DriveKind::ExFat);
}

#[test]
fn of_ntfs_nothing_is_lost() {
    kills(DriveKind::Ntfs);
}

#[test]
fn of_fat_nothing_is_lost() {
    kills(DriveKind::Fat);
}
