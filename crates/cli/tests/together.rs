//! Guarantee: two runs on nested places exclude each other, whichever comes first, and neither loses what the other
//! is making. A run that only reads blocks no other, and no other blocks it.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{NOBODY, Room, ran};

/// A run that takes its time, killed at the latest with the test.
struct SlowRun(Child);

impl Drop for SlowRun {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A source with a file that takes its time, and one that does not.
fn room() -> Room {
    let room = Room::new().with("other/log", "lit").with("source/tide.csv", "1,2");
    fs::write(room.path("source/season.wav"), vec![7; 4 << 20]).unwrap();
    room
}

/// Starts a run, and waits until it is at work in this folder.
fn start(room: &Room, line: &str, works_in: &str) -> SlowRun {
    let mut run = room.command(line);
    let run = SlowRun(run.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
    let begun = Instant::now();
    // It holds its locks before it writes the first thing.
    while !room.path(works_in).exists() || room.list(works_in).is_empty() {
        assert!(begun.elapsed() < Duration::from_secs(60), "nothing was done: {line}");
        std::thread::sleep(Duration::from_millis(5));
    }
    run
}

#[test]
fn a_run_in_or_above_or_below_the_place_of_another_is_refused() {
    for (first, works_in, second) in [
        ("copy --rate 200K source echo", "echo", "copy other echo"),
        ("copy --rate 200K source echo/below", "echo/below", "copy other echo"),
        ("copy --rate 200K source echo/below", "echo/below", "mirror --yes other echo"),
        ("copy --rate 200K source echo", "echo", "copy other echo/new"),
        ("copy --rate 200K source echo", "echo", "move other echo/new"),
        ("move --rate 200K source echo", "echo", "move source third"),
        ("move --rate 200K source echo", "echo", "copy other source/new"),
    ] {
        let room = room().with("echo/", "");
        // On one drive a move is a rename, which is over at once.
        let first = first.replace("move", "move --steps all,-rename --by content");
        let slow = start(&room, &first, works_in);
        for looks in ["verify other echo", "copy -n other echo", "mirror -n other echo"] {
            let looked = room.run(looks);
            assert!(!looked.err.contains("other-run"), "{first}, {looks}: {looked:?}");
        }
        let refused = room.run(second);
        assert_eq!(refused.code, 4, "{first}, {second}: {refused:?}");
        assert!(refused.err.contains("the guard 'other-run'"), "{refused:?}");
        assert!(refused.err.contains("--waive other-run"), "{refused:?}");
        drop(slow);
        // However it ended, its locks are gone with it.
        let after = room.run(second);
        assert!(!after.err.contains("other-run"), "{first}, {second}: {after:?}");
    }
}

#[test]
fn an_unfinished_entry_of_a_run_is_no_leftover_for_one_above() {
    let room = room();
    (0..40).for_each(|at| room.write(&format!("many/{at}"), &"x".repeat(4000)));
    let mut below = room.command("copy --rate 80K --workers 1 many echo/below");
    let below = below.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let begun = Instant::now();
    while !below_exists(&room) && begun.elapsed() < Duration::from_secs(60) {
        std::thread::sleep(Duration::from_millis(2));
    }
    let above = room.run("copy other echo");
    let below = ran(&below.wait_with_output().unwrap());
    assert_eq!((above.code, below.code), (4, 0), "{above:?}\n{below:?}");
    assert_eq!(room.list("echo/below").len(), 40);
    assert_eq!(room.run("copy other echo").code, 0);
    assert_eq!(room.list("echo/below").len(), 40);
}

fn below_exists(room: &Room) -> bool {
    room.path("echo/below").exists()
}

#[test]
fn runs_side_by_side_in_one_folder_do_not_wait_for_each_other() {
    let room = room().with("echo/", "");
    let slow = start(&room, "copy --rate 200K source echo/one", "echo/one");
    let beside = room.run("copy other echo/two");
    assert_eq!(beside.code, 0, "{beside:?}");
    drop(slow);
}

#[test]
fn several_places_of_one_run_do_not_conflict() {
    let room =
        Room::new().with("a/log", "1").with("b/log", "2").with("c.txt", "3").with("d.txt", "4");
    for line in [
        "move --steps all,-rename a b echo",
        "move c.txt d.txt echo",
        "copy echo/a echo/b echo/c.txt again",
        "copy echo/c.txt echo/d.txt echo/a",
    ] {
        let run = room.run(line);
        assert_eq!(run.code, 0, "{line}: {run:?}");
    }
}

#[test]
fn a_lock_of_a_user_who_cannot_write_there_is_ignored_and_reported() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root becomes another user");
    }
    let room = Room::new().with("source/log", "lit").with("above/echo/", "");
    fs::set_permissions(room.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    let lock = |place: &str, user: u32| {
        let mut holder = Command::new("flock");
        holder.args(["--exclusive", "--no-fork"]).arg(room.path(place)).args(["sleep", "60"]);
        let holder = SlowRun(holder.uid(user).gid(user).spawn().unwrap());
        let begun = Instant::now();
        let is_free = || {
            let mut free = Command::new("flock");
            free.args(["--nonblock", "--exclusive"]).arg(room.path(place)).arg("true");
            free.status().unwrap().success()
        };
        while is_free() {
            assert!(begun.elapsed() < Duration::from_secs(60), "it locks nothing");
            std::thread::sleep(Duration::from_millis(5));
        }
        holder
    };
    for place in ["above", "above/echo"] {
        let foreign = lock(place, NOBODY);
        let passed = room.run("copy source above/echo");
        assert_eq!(passed.code, 0, "{place}: {passed:?}");
        let named = format!("process {} has locked", foreign.0.id());
        assert!(passed.out.contains(&named), "{place}: {passed:?}");
        drop(foreign);
        let own = lock(place, 0);
        let refused = room.run("copy source above/echo");
        assert_eq!(refused.code, 4, "{place}: {refused:?}");
        assert_eq!(room.run("copy --waive other-run source above/echo").code, 0);
        drop(own);
    }
}

/// What two runs do at once: to `S`, `D` and what an earlier run set aside.
const LINES: [&str; 7] = [
    "copy --set-aside aside S D",
    "mirror --set-aside aside --yes --waive removals,nesting,swapped S D",
    "move --on-conflict replace --set-aside aside S D",
    "move --steps all,-rename --on-conflict keep-both S D",
    "undo --yes EARLIER",
    "verify --by content S D",
    "mirror --dry-run S D",
];

/// Where: the same place, one in the other, what one makes as the source of the other, one source.
const NESTED: [[(&str, &str); 2]; 5] = [
    [("one", "echo"), ("two", "echo")],
    [("one", "echo"), ("two", "echo/log")],
    [("one", "echo/log"), ("two", "echo")],
    [("one", "echo"), ("echo", "third")],
    [("one", "echo"), ("one", "third")],
];

/// What all files below a folder hold.
fn contents(folder: &Path) -> BTreeSet<Vec<u8>> {
    let mut all = BTreeSet::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        // What is listed may be gone when its turn comes, but for the state of the program.
        if entry.file_type().unwrap().is_dir() {
            all.extend(contents(&entry.path()));
        } else if let Ok(content) = fs::read(entry.path()) {
            all.insert(content);
        }
    }
    all
}

#[test]
fn whatever_two_runs_do_at_once_on_nested_places_nothing_is_lost() {
    let night = std::env::var_os("UTTER_NIGHTLY").is_some();
    let seed = std::env::var("UTTER_SEED").unwrap_or_default();
    let mut rng = fastrand::Rng::with_seed(u64::from_str_radix(&seed, 16).unwrap_or_default());
    let all = LINES.iter().flat_map(|one| LINES.iter().map(move |other| [*one, *other]));
    for pair in all {
        for places in &NESTED {
            if !night && rng.u8(0..5) > 0 {
                continue;
            }
            let room = Room::new();
            let mut grow = |root: &str| {
                for name in ["fog", "tide", "log/fog", "log/1931/lamp"] {
                    if root != "zero" || name != "tide" {
                        room.write(&format!("{root}/{name}"), &format!("{name} of {root}"));
                    }
                }
                let long: Vec<u8> = (0..400_000).map(|_| rng.u8(..)).collect();
                fs::write(room.path(root).join("season.wav"), long).unwrap();
            };
            ["zero", "one", "two", "echo"].into_iter().for_each(&mut grow);
            let before = contents(&room.path(""));
            let earlier =
                room.run("mirror --set-aside aside --yes --waive nesting,swapped zero echo");
            assert_eq!(earlier.code, 0, "{earlier:?}");
            let run = fs::read_dir(room.path("aside")).unwrap().flatten();
            let run = run.map(|run| run.path()).find(|run| run.is_dir()).unwrap();
            let lines = [0, 1].map(|at| {
                let (source, destination) = places[at];
                let line = pair[at].replace('S', source).replace('D', destination);
                line.replace("EARLIER", run.to_str().unwrap())
            });
            let start = |line: &String| {
                let mut command = room.command(line);
                command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
            };
            let first = start(&lines[0]);
            std::thread::sleep(Duration::from_millis(rng.u64(0..12)));
            let second = start(&lines[1]);
            for (child, line) in [first, second].into_iter().zip(&lines) {
                let ended = ran(&child.wait_with_output().unwrap());
                assert!((0..=5).contains(&ended.code), "{lines:?}, {line}: {ended:?}");
            }
            let lost = |when: &str| {
                let now = contents(&room.path(""));
                let lost: Vec<_> = before.difference(&now).map(Vec::len).collect();
                assert!(lost.is_empty(), "{lines:?}, {when}: files of {lost:?} bytes are nowhere");
            };
            lost("together");
            for line in &lines {
                room.run(line);
            }
            lost("after both once more");
        }
    }
}
