//! Guarantee: runs that build on each other are undone in turn, the newest first, each as if it were the only one.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;
use std::path::{Path, PathBuf};

use fastrand::Rng;
use utter_echo_core::Session;
use utter_echo_core::observe::NoObserver;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::{Verb, Verbs};
use utter_echo_core::request::{
    CompareBy, Guard, Keeping, OnConflict, Places, Request, Safety, SetAside, Task,
};
use utter_echo_lab::{Gardener, Snapshot, differences, snapshot};

use crate::common::{execute, group_anew, undo};

/// Three folders, of which the first is only read, and where runs set aside.
struct Chain {
    source: PathBuf,
    others: [PathBuf; 2],
    store: PathBuf,
}

impl Chain {
    fn seen(&self) -> Vec<Snapshot> {
        let seen = |root: &PathBuf| {
            let mut all = if root.exists() { snapshot(root) } else { Snapshot::default() };
            group_anew(&mut all);
            all
        };
        self.others.iter().map(seen).collect()
    }

    /// A run with random options, between two of the folders.
    fn request(&self, number: usize, rng: &mut Rng) -> Request {
        let [one, two] = &self.others;
        let (task, from, to) = match rng.u8(0..6) {
            0 => (Task::Move, one, two),
            1 => (Task::Move, two, one),
            2 => (Task::Copy, &self.source, one),
            3 => (Task::Copy, &self.source, two),
            4 => (Task::Mirror, &self.source, two),
            _ => (Task::Mirror, &self.source, one),
        };
        let places = Places::new(vec![from.clone()], to.clone());
        let aside = SetAside {
            folder: self.store.clone(),
            run: format!("2026-11-23T14-05-{number:02}Z"),
            keep: None,
            what: Keeping::Displaced,
        };
        let safety = Safety {
            set_aside: Some(aside),
            waived: vec![Guard::Loss, Guard::Space, Guard::Removals, Guard::EmptySource],
            ..Safety::default()
        };
        let mut request = Request::new(task, places).guarded(safety);
        request.moving.on_conflict = OnConflict::Replace;
        if rng.u8(0..2) == 0 {
            request.changed.by = CompareBy::Content;
        }
        // What is below a folder that is renamed as a whole is in no journal.
        if task == Task::Move || rng.u8(0..3) == 0 {
            request.changed.steps = Verbs::ALL.without(Verb::Rename);
        }
        request
    }
}

/// True if the run changed something, and can be undone.
fn run(request: &Request) -> bool {
    let Ok(session) = Session::open(&Linux, request) else { return false };
    let plan = session.plan(&NoObserver).unwrap();
    session.guard(&plan, &[]).unwrap();
    // Folders may be in the way of files, which is named.
    let _ = execute(&session, &plan);
    !plan.is_empty()
}

fn chain(seed: u64, base: &Path, elsewhere: &Path) {
    let mut rng = Rng::with_seed(seed);
    let mut place =
        |name: &str| if rng.u8(0..3) == 0 { elsewhere.join(name) } else { base.join(name) };
    let chain = Chain {
        source: base.join("source"),
        others: [place("harbour"), place("quay")],
        store: place("store"),
    };
    fs::create_dir(&chain.source).unwrap();
    Gardener::new(seed).grow(&chain.source, 12);
    let mut done = Vec::new();
    for number in 0..5 {
        let before = chain.seen();
        let request = chain.request(number, &mut rng);
        if run(&request) {
            done.push((request, before));
        }
        Gardener::new(seed * 10 + number as u64).change(&chain.source, 6);
    }
    let tasks: Vec<_> = done.iter().map(|(request, _)| (request.task, &request.places)).collect();
    for (request, before) in done.iter().rev() {
        let when = format!("seed {seed}: {:?} of {tasks:?}", request.places);
        let aside = request.safety.set_aside.as_ref().unwrap();
        let lost = undo(&Linux, &aside.folder.join(&aside.run));
        assert_eq!(lost.map(|lost| format!("{lost:?}")), Ok("{}".to_owned()), "{when}");
        for (was, now) in before.iter().zip(chain.seen()) {
            let left = differences(was, &now);
            assert!(left.is_empty(), "{when}: {left}");
        }
    }
}

#[test]
fn runs_are_undone_in_turn() {
    let count = std::env::var("UTTER_CASES").ok().and_then(|count| count.parse().ok());
    for seed in 0..count.map_or(40, |count: u64| count / 10) {
        let base = utter_echo_lab::folder_in_memory().unwrap();
        let elsewhere = tempfile::tempdir().unwrap();
        chain(seed, base.path(), elsewhere.path());
    }
}

#[test]
fn an_older_run_is_told_although_somebody_looks_at_it() {
    let base = utter_echo_lab::folder_in_memory().unwrap();
    let [source, destination, store] =
        ["source", "quay", "store"].map(|name| base.path().join(name));
    fs::create_dir(&source).unwrap();
    let runs = ["05", "06"].map(|second| format!("2026-11-23T14-05-{second}Z"));
    for (name, text) in runs.iter().zip(["first", "the second"]) {
        fs::write(source.join("keeper.log"), text).unwrap();
        let places = Places::new(vec![source.clone()], destination.clone());
        let what = Keeping::Displaced;
        let aside = SetAside { folder: store.clone(), run: name.clone(), keep: None, what };
        let safety = Safety { set_aside: Some(aside), ..Safety::default() };
        assert!(run(&Request::new(Task::Mirror, places).guarded(safety)));
    }
    let looked_at = fs::File::open(store.join(&runs[0])).unwrap();
    looked_at.lock().unwrap();
    std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(std::time::Duration::from_millis(300));
            looked_at.unlock().unwrap();
        });
        assert!(undo(&Linux, &store.join(&runs[1])).unwrap().is_empty());
    });
    assert!(undo(&Linux, &store.join(&runs[0])).unwrap().is_empty());
    assert!(!destination.exists());
}
