//! Guarantee: one rule decides where entries go, a slash at the end only says that a new place is a folder, and a
//! command that cannot be meant is refused with a hint before anything is touched.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test stops there, or says what it left out"
)]

use crate::common::Room;

fn room() -> Room {
    Room::new()
        .with("lens/drawing.svg", "rings")
        .with("lens/old/first.svg", "ring")
        .with("fog/gull.wav", "tone")
        .with("note.txt", "lit at four")
        .with("list.txt", "lamps")
        .with("full/there.txt", "there")
        .with("full/lens/drawing.svg", "an older one")
        .with("empty/", "")
}

/// A call, and what must lie where afterwards.
const CALLS: [(&str, &str, &[&str]); 17] = [
    ("copy lens echo", "echo", &["drawing.svg", "old/", "old/first.svg"]),
    ("copy lens/ echo", "echo", &["drawing.svg", "old/", "old/first.svg"]),
    ("copy lens echo/", "echo", &["drawing.svg", "old/", "old/first.svg"]),
    ("copy lens a/b/c", "a", &["b/", "b/c/", "b/c/drawing.svg", "b/c/old/", "b/c/old/first.svg"]),
    ("copy lens empty", "empty", &["drawing.svg", "old/", "old/first.svg"]),
    (
        "copy lens empty --inside",
        "empty",
        &["lens/", "lens/drawing.svg", "lens/old/", "lens/old/first.svg"],
    ),
    (
        "copy lens/ empty/ --inside",
        "empty",
        &["lens/", "lens/drawing.svg", "lens/old/", "lens/old/first.svg"],
    ),
    ("copy fog lens echo --only *.wav", "echo", &["fog/", "fog/gull.wav"]),
    ("copy note.txt fog echo", "echo", &["fog/", "fog/gull.wav", "note.txt"]),
    ("copy note.txt empty", "empty", &["note.txt"]),
    ("copy note.txt new/folder/", "new", &["folder/", "folder/note.txt"]),
    ("copy note.txt empty/renamed.txt", "empty", &["renamed.txt"]),
    ("copy note.txt new/deep/renamed.txt", "new", &["deep/", "deep/renamed.txt"]),
    ("copy note.txt echo --inside", "echo", &["note.txt"]),
    ("copy lens echo --depth 1", "echo", &["drawing.svg", "old/"]),
    ("copy lens echo --depth 1 --no-empty-folders", "echo", &["drawing.svg"]),
    ("mirror lens full", "full", &["drawing.svg", "old/", "old/first.svg"]),
];

#[test]
fn options_may_stand_between_the_paths() {
    let room = Room::new().with("lens/lens.svg", "<svg/>").with("tides/tide.csv", "1,2");
    let words = ["lens", "tides", "keeper"];
    for command in ["copy", "move"] {
        for at in 0..=words.len() {
            for option in [
                &["--quiet"][..],
                &["--exclude", "*.tmp"],
                &["--retries=1"],
                &["-q", "--depth", "9"],
            ] {
                let dry = if command == "move" { &["--dry-run"][..] } else { &[] };
                let line = [&[command], dry, &words[..at], option, &words[at..]].concat().join(" ");
                let ran = room.run(&line);
                assert_eq!((ran.code, &*ran.err), (0, ""), "{line}: {ran:?}");
            }
        }
    }
    assert_eq!(room.list("keeper"), ["lens/", "lens/lens.svg", "tides/", "tides/tide.csv"]);
}

#[test]
fn each_entry_goes_where_the_rule_says() {
    for (call, folder, expected) in CALLS {
        let room = room();
        let ran = room.run(call);
        assert_eq!(ran.code, 0, "{call}: {ran:?}");
        assert_eq!(room.list(folder), expected, "{call}");
        let again = room.run(call);
        assert!(
            again.out.starts_with("Nothing to do:") || again.out.contains("matched nothing"),
            "{call}: {again:?}"
        );
        let verify = call.replacen("copy", "verify", 1).replacen("mirror", "verify", 1);
        // Verify takes one source.
        if verify.split(' ').filter(|word| !word.starts_with('-')).count() <= 4
            && !call.contains("fog")
        {
            assert_eq!(room.run(&verify).code, 0, "{verify}");
        }
    }
}

/// A call that is refused, its exit code, and a word that the message must hold.
const REFUSED: [(&str, i32, &str); 65] = [
    ("", 2, "Usage"),
    ("copy lens", 2, "the destination is missing"),
    ("copy", 2, "the source and the destination are missing"),
    ("copi lens echo", 2, "copy"),
    ("copy --no-such lens echo", 2, "--no-such"),
    ("copy nowhere echo", 2, "does not exist\n  check the spelling"),
    ("mirror nowhere full", 2, "does not exist"),
    ("mirror note.txt full", 2, "use copy"),
    ("copy lens note.txt", 2, "is not a folder"),
    ("copy lens note.txt/below", 2, "is not a folder"),
    ("mirror lens note.txt", 2, "is not a folder"),
    ("copy lens missing/../../echo", 2, "without '..'"),
    ("copy lens full/lens echo", 2, "would both become 'lens'"),
    ("copy note.txt ./note.txt echo", 2, "would both become"),
    ("copy / echo --inside", 2, "has no name to use inside"),
    ("verify lens nowhere", 2, "nothing to compare"),
    ("verify nowhere lens", 2, "does not exist"),
    ("copy lens lens", 4, "overlap"),
    ("copy lens lens/inside", 4, "overlap"),
    ("copy lens lens/new/deep", 4, "overlap"),
    ("mirror lens/old lens", 4, "overlap"),
    ("mirror lens/../lens lens", 4, "overlap"),
    ("mirror lens link", 4, "overlap"),
    ("copy lens link/below", 4, "overlap"),
    ("copy lens . --inside", 4, "overlap"),
    ("copy note.txt .", 4, "overlap"),
    ("mirror empty full", 4, "--waive empty-source"),
    ("mirror fog full --removal-limit 1", 4, "--removal-limit 3"),
    ("mirror fog full --removal-limit 40%", 4, "the limit is 40 %"),
    ("mirror lens full --removal-limit many", 2, "number of entries"),
    ("copy lens echo --waive overlap", 2, "cannot be switched off"),
    ("copy lens echo --ask", 2, "needs a terminal"),
    ("copy lens echo --ask --yes", 2, "cannot be used with"),
    ("copy lens echo --quiet --verbose", 2, "cannot be used with"),
    ("copy lens echo --depth 0", 2, "--depth"),
    ("verify --by content --sample 5% lens full", 2, "reads every byte already"),
    ("verify --format csv --quiet lens full", 2, "exclude each other"),
    ("verify --format csv --suggest lens full", 2, "exclude each other"),
    ("verify --quiet --limit 3 lens full", 2, "cannot be used with"),
    ("copy --quiet --progress bar lens echo", 2, "--quiet and --progress exclude each other"),
    ("copy --format csv lens echo", 2, "works with 'verify', 'history' and 'status' only"),
    ("explain --cross-drives lens", 2, "is about the destination"),
    (
        "explain --inside lens",
        2,
        "'utter explain' has no option '--inside'\n  it is an option of 'utter copy', 'utter mirror', 'utter move'",
    ),
    // The parser's own names for what it misses say nothing to a user.
    ("copy --age soon lens echo", 2, "invalid value 'soon' for --age: "),
    ("copy lens label=nowhere/x", 7, "no mounted drive has the label 'nowhere'"),
    ("mirror lens full /archive", 2, "unexpected argument '/archive'\n  put names"),
    // Paths are not looked up among the words of the trade.
    (
        "mirror lens full archive",
        2,
        "put names with spaces, and patterns, in quotes\n  'utter mirror -h'",
    ),
    ("undo --ask", 2, "the run to undo is missing"),
    ("help safety --schema", 2, "is for the topic json"),
    ("help lamps", 2, "neither a command nor a topic"),
    ("sync lens echo", 2, "'utter mirror' makes the destination the same"),
    ("copy --delete lens echo", 2, "'utter copy' removes nothing"),
    ("verify --checksum lens full", 2, "--by content compares every byte"),
    ("schedule --all", 2, "it is an option of 'utter run'"),
    ("run --log night.log papers", 2, "it is an option of 'utter copy'"),
    ("mirror --exlude x lens full", 2, "did you mean '--exclude'?"),
    ("mirror lens full extra", 2, "unexpected argument 'extra'"),
    ("copy lens/* echo", 2, "only outside quotes"),
    ("copy ~/lens echo", 2, "by your home folder only outside quotes"),
    ("copy far:lens echo", 2, "mount the network share"),
    ("copy lens keeper@far:/srv/echo", 2, "mount the network share"),
    (
        "copy --exclude note.txt list.txt lens echo",
        2,
        "put the pattern in quotes: --exclude '*.txt'",
    ),
    ("copy --size -5.. lens echo", 2, "'utter copy' has no option '-5'"),
    ("copy --retries -1 lens echo", 2, "-1 is not in 0..=1000"),
    ("copy lens echo --carry paint", 2, "'paint' is not an attribute"),
];

#[test]
fn a_wrong_command_touches_nothing_and_says_what_to_do() {
    for (call, code, word) in REFUSED {
        let room = room();
        std::os::unix::fs::symlink("lens", room.path("link")).unwrap();
        // What is remembered of runs is beside what they are about.
        std::fs::create_dir(room.path("state")).unwrap();
        let snapshot = || {
            let mut all = utter_echo_lab::snapshot(&room.path("."));
            all.retain(|path, _| !path.starts_with(b"state"));
            all
        };
        let before = snapshot();
        let ran = room.run(call);
        assert_eq!(ran.code, code, "{call}: {ran:?}");
        assert!(ran.err.contains(word), "{call}: {ran:?}");
        assert!(call.is_empty() || ran.err.starts_with("utter: "), "{call}: {ran:?}");
        let differences = utter_echo_lab::differences(&before, &snapshot());
        assert!(differences.is_empty(), "{call} touched:\n{differences}");
    }
}

#[test]
fn a_bad_pattern_is_shown_with_its_place() {
    let room = room();
    let ran = room.run("copy lens echo --exclude old/[a-");
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("--exclude 'old/[a-'"), "{ran:?}");
    assert!(ran.err.contains("\n    old/[a-\n        ^"), "{ran:?}");
}

#[test]
fn a_pattern_that_matches_nothing_is_reported() {
    let room = room();
    let ran = room.run("copy lens echo --exclude *.bak --exclude *.svg");
    assert_eq!(ran.code, 0);
    assert!(ran.out.contains("--exclude '*.bak' matched nothing"), "{ran:?}");
    assert!(!ran.out.contains("'*.svg' matched nothing"), "{ran:?}");
}

#[test]
fn a_bind_mount_hides_no_overlap() {
    let room = room();
    room.write("other/", "");
    let (from, to) = (room.path("lens"), room.path("other"));
    let mounted = std::process::Command::new("mount").arg("--bind").args([&from, &to]).status();
    if !mounted.is_ok_and(|status| status.success()) {
        return utter_echo_lab::left_out("this test needs the right to mount");
    }
    let same = room.run("mirror lens other");
    let below = room.run("copy lens other/old/below");
    let unmounted = std::process::Command::new("umount").arg("--lazy").arg(&to).status().unwrap();
    assert!(unmounted.success());
    assert_eq!((same.code, below.code), (4, 4), "{same:?} {below:?}");
}

/// Mounts a folder in another place as long as it lives.
struct Bound(std::path::PathBuf);

impl Bound {
    fn new(room: &Room, from: &str, to: &str) -> Self {
        let to = room.path(to);
        let mut mount = std::process::Command::new("mount");
        let mount = mount.arg("--bind").arg(room.path(from)).arg(&to);
        assert!(mount.status().unwrap().success());
        Self(to)
    }
}

impl Drop for Bound {
    fn drop(&mut self) {
        let done = std::process::Command::new("umount").arg("--lazy").arg(&self.0).status();
        assert!(done.unwrap().success());
    }
}

#[test]
fn a_folder_of_one_side_that_is_mounted_in_the_other_is_an_overlap() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("only root mounts folders in other places");
    }
    let room = Room::new().with("source/a/log", "lit").with("source/b/lens", "<svg/>");
    let room = room.with("echo/a/", "").with("echo/c/chart", "old").with("source/d/", "");
    let listed = || (room.list("source/b"), room.list("echo/c"));
    let before = listed();
    // Saved while all was well, carried out once it is not.
    assert_eq!(room.run("mirror -n --save-plan early.plan source echo").code, 0);
    for (from, to) in [("source/b", "echo/a"), ("echo/c", "source/d"), ("echo", "source/d")] {
        let bound = Bound::new(&room, from, to);
        for line in ["mirror --yes source echo", "copy source echo", "mirror -n source echo"] {
            let run = room.run(line);
            assert_eq!(run.code, 4, "{from} at {to}: {run:?}");
            assert!(run.err.contains("overlap"), "{run:?}");
        }
        let executed = room.run("execute --yes early.plan");
        assert_eq!(executed.code, 4, "{from} at {to}: {executed:?}");
        assert_eq!(room.list("source/b"), before.0, "{from} at {to}");
        drop(bound);
    }
    assert_eq!(room.run("mirror --yes source echo").code, 0);
}
