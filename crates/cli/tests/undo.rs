//! Guarantee: what a run set aside is reported, found under the path it had, and restored by `undo` except where
//! the run's result was changed since; and a folder that is no such run is refused, and nothing is touched.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs;

use crate::common::{NOBODY, Ran, Room};

/// A mirror that replaced, adjusted, added and removed, and the folder of its run.
fn mirrored() -> (Room, String) {
    let room = Room::new()
        .with("saltmere/lens.svg", "<svg/>")
        .with("saltmere/tide.csv", "1,2,3")
        .with("keeper/lens.svg", "<svg></svg>")
        .with("keeper/old/ledger.txt", "old");
    let run = room.run("mirror --yes --set-aside aside saltmere keeper");
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(room.list("keeper"), ["lens.svg", "tide.csv"]);
    let told = run.out.lines().find_map(|line| line.strip_prefix("Undo this run: utter undo "));
    (room, told.unwrap().to_owned())
}

#[test]
fn a_run_has_one_name_in_undo_and_in_history() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("keeper/lens.svg", "older");
    assert_eq!(room.run("copy --set-aside aside saltmere keeper").code, 0);
    assert_eq!(room.run("verify saltmere keeper").code, 0);
    let folder = format!("aside/{}", room.list("aside")[0].trim_end_matches(".notes"));
    let by_number = room.run("history 1");
    let by_folder = room.run(&format!("history {folder}"));
    assert_eq!((by_number.code, &by_number.out), (0, &by_folder.out), "{by_folder:?}");
    let shown = room.run("undo --show 1");
    // From elsewhere the folder has another path.
    assert!(shown.code == 0 && shown.out.contains(&folder), "{shown:?}");
    assert_eq!(room.run("undo --dry-run 1").code, 0);
    assert_eq!(room.run("undo --yes 1").code, 0);
    assert_eq!(room.read("keeper/lens.svg"), "older");
    for (line, told) in [
        ("undo 2", "run 2 set nothing aside"),
        ("undo 77", "there is no record of a run 77"),
        ("history 77", "there is no record of a run 77"),
        ("history keeper", "there is no record of a run keeper"),
    ] {
        let ran = room.run(line);
        assert!(ran.code == 2 && ran.err.contains(told), "{line}: {ran:?}");
    }
}

#[test]
fn a_run_is_shown_and_undone() {
    let (room, run) = mirrored();
    assert_eq!(room.list(&run), ["lens.svg", "old/", "old/ledger.txt"]);
    assert_eq!(room.read(&format!("{run}/lens.svg")), "<svg></svg>");
    let shown = room.run(&format!("undo --dry-run {run}"));
    assert_eq!(shown.code, 0, "{shown:?}");
    for line in ["replace  lens.svg", "add      old/ledger.txt", "remove   tide.csv"] {
        assert!(shown.out.contains(line), "{line} is missing: {shown:?}");
    }
    assert_eq!(room.list("keeper"), ["lens.svg", "tide.csv"]);
    let undone = room.run(&format!("undo {run}/"));
    assert_eq!(undone.code, 0, "{undone:?}");
    assert!(undone.out.contains("\nUndone "), "{undone:?}");
    assert_eq!(room.list("keeper"), ["lens.svg", "old/", "old/ledger.txt"]);
    assert_eq!(room.read("keeper/lens.svg"), "<svg></svg>");
    assert!(room.list("aside").is_empty());
    assert_eq!(room.run(&format!("undo {run}")).code, 2);
}

#[test]
fn what_changed_since_is_reported_and_left_alone() {
    let (room, run) = mirrored();
    room.write("keeper/lens.svg", "<svg>mine</svg>");
    let refused = room.run(&format!("undo --all-or-nothing {run}"));
    assert_eq!(refused.code, 4, "{refused:?}");
    let undone = room.run(&format!("undo {run}"));
    assert_eq!(undone.code, 3, "{undone:?}");
    let names = |ran: &Ran| ran.err.lines().any(|line| line.contains("lens.svg: "));
    assert!(names(&refused) && names(&undone), "{undone:?}");
    assert_eq!(room.read("keeper/lens.svg"), "<svg>mine</svg>");
    assert_eq!(room.list("keeper"), ["lens.svg", "old/", "old/ledger.txt"]);
    assert_eq!(room.read(&format!("{run}/lens.svg")), "<svg></svg>");
}

#[test]
fn what_was_declined_can_still_be_undone() {
    let (room, run) = mirrored();
    // In tree order: what was replaced, what was removed, what was added.
    let declined = room.on_a_terminal(&format!("undo --ask=each {run}"), "no\nyes\n");
    assert_eq!(declined.code, 0, "{declined:?}");
    assert!(declined.out.contains("can still be undone"), "{declined:?}");
    assert_eq!(room.read("keeper/lens.svg"), "<svg/>");
    assert_eq!(room.read("keeper/old/ledger.txt"), "old");
    let rest = room.run(&format!("undo {run}"));
    assert_eq!(rest.code, 0, "{rest:?}");
    assert_eq!(room.list("keeper"), ["lens.svg", "old/", "old/ledger.txt"]);
    assert_eq!(room.read("keeper/lens.svg"), "<svg></svg>");
    assert!(room.list("aside").is_empty());
}

/// The folder of the run that a call with `--format json` made.
fn run_of(ran: &Ran) -> String {
    let totals: serde_json::Value = serde_json::from_str(ran.out.lines().last().unwrap()).unwrap();
    totals["run_totals"]["set_aside"].as_str().unwrap().to_owned()
}

#[test]
fn folders_of_the_run_are_removed_and_those_around_have_their_times_restored() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("fog/gull.wav", "tone");
    let run = room.run("copy --set-aside aside --format json saltmere new/deep/keeper");
    let undone = room.run(&format!("undo {}", run_of(&run)));
    assert_eq!(undone.code, 0, "{undone:?}");
    assert!(!room.path("new").exists());
    // Two sources, one of which has nothing to give, go into one folder.
    room.write("keeper/", "");
    let old = fs::File::open(room.path("keeper")).unwrap();
    old.set_modified(std::time::UNIX_EPOCH).unwrap();
    let run = room.run("copy --set-aside aside --format json --only *.svg saltmere fog keeper");
    assert_eq!(room.list("keeper"), ["saltmere/", "saltmere/lens.svg"]);
    let undone = room.run(&format!("undo {}", run_of(&run)));
    assert_eq!(undone.code, 0, "{undone:?}");
    assert!(room.list("keeper").is_empty());
    let modified = fs::metadata(room.path("keeper")).unwrap().modified().unwrap();
    assert_eq!(modified, std::time::UNIX_EPOCH);
}

#[test]
fn with_any_umask_the_run_can_be_undone() {
    let room = Room::new()
        .with("saltmere/seasons/lens.svg", "<svg/>")
        .with("keeper/seasons/lens.svg", "<svg></svg>")
        .with("keeper/old/ledger.txt", "old");
    if utter_echo_lab::is_root() {
        for name in ["", "saltmere", "keeper"] {
            let chown = std::process::Command::new("chown")
                .args(["-R", &NOBODY.to_string()])
                .arg(room.path(name))
                .status();
            assert!(chown.unwrap().success());
        }
    }
    fs::copy(crate::common::UTTER, room.path("utter")).unwrap();
    let line = "umask 0277; ./utter mirror --yes --set-aside deep/aside saltmere keeper && \
                ./utter undo --yes deep/aside/*Z";
    let mut shell = std::process::Command::new("sh");
    shell.args(["-c", line]).current_dir(room.path("")).env("XDG_STATE_HOME", room.path("state"));
    if utter_echo_lab::is_root() {
        std::os::unix::process::CommandExt::uid(&mut shell, NOBODY);
    }
    let ran = crate::common::ran(&shell.output().unwrap());
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(room.read("keeper/seasons/lens.svg"), "<svg></svg>");
    assert_eq!(room.list("keeper"), ["old/", "old/ledger.txt", "seasons/", "seasons/lens.svg"]);
}

#[test]
fn runs_are_undone_one_after_the_other() {
    let room = Room::new()
        .with("saltmere/", "")
        .with("keeper/old/ledger.txt", "old")
        .with("keeper/tide.csv", "1,2");
    let line =
        "mirror --set-aside aside --format json --waive empty-source,removals saltmere keeper";
    let first = run_of(&room.run(line));
    room.write("saltmere/lens.svg", "<svg/>");
    let second = run_of(&room.run(line));
    assert_eq!(room.list("keeper"), ["lens.svg"]);
    for run in [second, first] {
        let undone = room.run(&format!("undo {run}"));
        assert_eq!(undone.code, 0, "{undone:?}");
    }
    assert_eq!(room.list("keeper"), ["old/", "old/ledger.txt", "tide.csv"]);
}

#[test]
fn nothing_is_restored_if_the_drive_is_not_mounted() {
    if !utter_echo_lab::is_root() {
        return utter_echo_lab::left_out("a drive to unmount, since only root mounts drives");
    }
    let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("drive/", "");
    let drive = room.path("drive");
    let mount = |program: &str, words: &[&str]| {
        let status = std::process::Command::new(program).args(words).arg(&drive).status();
        assert!(status.unwrap().success(), "{program}");
    };
    mount("mount", &["-t", "tmpfs", "tmpfs"]);
    room.write("drive/tide.csv", "1,2");
    let run =
        run_of(&room.run("mirror --set-aside aside --format json --waive removals saltmere drive"));
    let kept = room.list(&run);
    // Another test may be starting a process, which holds all that is open for a moment.
    mount("umount", &["--lazy"]);
    let refused = room.run(&format!("undo {run}"));
    assert_eq!(refused.code, 4, "{refused:?}");
    assert!(refused.err.contains("--waive drive"), "{refused:?}");
    assert!(room.list("drive").is_empty());
    assert_eq!(room.list(&run), kept);
}

#[test]
fn an_undo_can_restore_a_part_and_later_the_rest() {
    let (room, run) = mirrored();
    let none = room.run(&format!("undo --only fog {run}"));
    assert_eq!(none.code, 2, "{none:?}");
    let some = room.run(&format!("undo --yes --only *.txt {run}"));
    assert_eq!(some.code, 0, "{some:?}");
    assert!(some.out.contains("can still be undone"), "{some:?}");
    // With the folder that it lies in.
    assert_eq!(room.list("keeper"), ["lens.svg", "old/", "old/ledger.txt", "tide.csv"]);
    assert_eq!(room.read("keeper/lens.svg"), "<svg/>");
    let rest = room.run(&format!("undo --yes {run}"));
    assert_eq!(rest.code, 0, "{rest:?}");
    assert_eq!(room.list("keeper"), ["lens.svg", "old/", "old/ledger.txt"]);
    assert!(room.list("aside").is_empty());
}

#[test]
fn runs_are_listed_and_their_space_is_freed() {
    let (room, run) = mirrored();
    let list = |words: &str| {
        let listed = room.run(&format!("undo {words}"));
        assert_eq!(listed.code, 0, "{listed:?}");
        listed.out
    };
    let shown = list("");
    for part in [&*run, "mirror to /", "replaced 1 (11 B)", "removed 2 (3 B)", "1 run, "] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let line: serde_json::Value =
        serde_json::from_str(list("--format json").lines().nth(1).unwrap()).unwrap();
    assert_eq!(line["state"], "complete", "{line}");
    assert_eq!(line["removed"]["entries"], 2, "{line}");
    assert_eq!(line["destination"], room.path("keeper").to_str().unwrap());
    // Another that is older, of which only a beginning is left.
    let notes = fs::read(room.path(&format!("{run}.notes"))).unwrap();
    fs::create_dir(room.path("aside/2020-01-31T00-00-00Z")).unwrap();
    fs::write(room.path("aside/2020-01-31T00-00-00Z.notes"), &notes[..30]).unwrap();
    let shown = list("");
    assert!(
        shown.find(&run) < shown.find("2020-01-31") && shown.contains("never started"),
        "{shown}"
    );

    for (call, code, word) in [
        (format!("undo --discard {run}"), 2, "use --yes"),
        ("undo --discard keeper".into(), 2, "is not the folder of a set-aside run"),
        ("undo --discard aside".into(), 2, "is not the folder of a set-aside run"),
        (format!("undo --dry-run --discard {run}.notes"), 0, ""),
        ("undo --yes --discard-older soon".into(), 2, "a length of time"),
        (format!("undo --discard {run} {run}"), 2, "cannot be used with"),
        ("undo --dry-run --discard-older 1000d".into(), 0, ""),
        ("undo --yes --discard-older 5000d".into(), 0, ""),
    ] {
        let refused = room.run(&call);
        assert_eq!(refused.code, code, "{call}: {refused:?}");
        assert!(refused.err.contains(word), "{call}: {refused:?}");
        assert_eq!(list("").lines().count(), 6, "{call}");
    }
    let none = room.run("undo --yes --discard-older 5000d");
    assert!(none.out.contains("no run began longer ago"), "{none:?}");
    assert_eq!(room.run("undo --yes --discard-older 1000d").code, 0);
    assert!(!room.path("aside/2020-01-31T00-00-00Z.notes").exists());
    let declined = room.on_a_terminal(&format!("undo --discard {run}"), "n\n");
    assert_eq!(declined.code, 4, "{declined:?}");
    assert_eq!(list("").lines().count(), 4);
    assert_eq!(room.on_a_terminal(&format!("undo --discard {run}"), "y\n").code, 0);
    assert!(room.list("aside").is_empty());
    assert!(list("").contains("no run with a set-aside folder is known"), "{}", list(""));
    assert_eq!(room.list("keeper"), ["lens.svg", "tide.csv"]);
    // A folder that is not there any more is passed over, in words.
    fs::remove_dir(room.path("aside")).unwrap();
    let without = room.run("undo");
    assert!(without.code == 0 && without.out.contains("mount"), "{without:?}");
}

#[test]
fn a_single_file_is_restored_beside_the_set_aside_folder() {
    let room = Room::new().with("tide.csv", "1,2,3").with("keeper.csv", "old");
    let copied = room.run("copy --set-aside aside tide.csv keeper.csv");
    assert_eq!((copied.code, room.read("keeper.csv")), (0, "1,2,3".into()));
    let run = room.list("aside").into_iter().find(|name| name.ends_with("Z/")).unwrap();
    let undone = room.run(&format!("undo aside/{run}"));
    assert_eq!((undone.code, room.read("keeper.csv")), (0, "old".into()), "{undone:?}");
    assert_eq!(room.read("tide.csv"), "1,2,3");
}

#[test]
fn a_bad_run_or_a_bad_place_for_one_is_refused_and_nothing_is_touched() {
    let (room, run) = mirrored();
    let notes = fs::read(room.path(&format!("{run}.notes"))).unwrap();
    let write = |name: &str, bytes: &[u8]| fs::write(room.path(name), bytes).unwrap();
    fs::create_dir(room.path("aside/edited")).unwrap();
    let at = notes.windows(8).position(|word| word == b"tide.csv").unwrap();
    write("aside/edited.notes", &[&notes[..at], b"tidy", &notes[at + 4..]].concat());
    // Cut short, with what was set aside beside it, or with nothing: only then was it never begun.
    fs::create_dir(room.path("aside/empty")).unwrap();
    write("aside/empty.notes", &notes[..at]);
    room.write("aside/cut/lens.svg", "the last copy");
    write("aside/cut.notes", &notes[..at]);
    let version = [&notes[..9], b"\x09", &notes[10..]].concat();
    fs::create_dir(room.path("aside/later")).unwrap();
    write("aside/later.notes", &version);
    for (call, code, word) in [
        ("undo nowhere", 2, "is not the folder of a set-aside run"),
        ("undo aside", 2, "but holds one\n  name the one to undo"),
        ("undo keeper", 2, "name a folder that --set-aside made"),
        ("undo aside/edited", 2, "damaged"),
        ("undo aside/empty", 2, "never started"),
        ("undo aside/cut", 2, "damaged"),
        ("undo aside/later", 2, "damaged"),
        ("mirror --set-aside keeper/aside saltmere keeper", 4, "outside both"),
        ("mirror --set-aside saltmere saltmere keeper", 4, "outside both"),
        ("mirror --set-aside saltmere/lens.svg saltmere keeper", 2, "is not a folder"),
        ("mirror --set-aside-keep 3 saltmere keeper", 2, "--set-aside FOLDER is needed, too"),
        (
            "mirror --set-aside aside --set-aside-keep 0 saltmere keeper",
            2,
            "a number of runs above 0",
        ),
    ] {
        let refused = room.run(call);
        assert_eq!(refused.code, code, "{call}: {refused:?}");
        assert!(refused.err.contains(word), "{call}: {refused:?}");
    }
    assert_eq!(room.list("keeper"), ["lens.svg", "tide.csv"]);
    assert_eq!(room.list("saltmere"), ["lens.svg", "tide.csv"]);
}

#[test]
fn a_source_that_was_never_made_does_not_prevent_the_undo_of_the_others() {
    let room = Room::new().with("1931/tide.csv", "high").with("1932/tide.csv", "low");
    let copied = room.run("copy --set-aside aside 1931 1932 echo");
    let run = copied.out.split_once("utter undo ").unwrap().1.trim();
    // As if the run had been killed before that.
    fs::remove_dir_all(room.path("echo/1932")).unwrap();
    let undone = room.run(&format!("undo --yes {run}"));
    assert_eq!(undone.code, 0, "{undone:?}");
    assert!(!room.path("echo").exists());
    // Where nothing at all is there, it may be on a drive that is not mounted.
    let copied = room.run("copy --set-aside aside 1931 1932 echo");
    let run = copied.out.split_once("utter undo ").unwrap().1.trim();
    fs::rename(room.path("echo"), room.path("elsewhere")).unwrap();
    let refused = room.run(&format!("undo --yes {run}"));
    assert!(refused.code == 2 && refused.err.contains("--discard"), "{refused:?}");
    fs::rename(room.path("elsewhere"), room.path("echo")).unwrap();
    assert_eq!(room.run(&format!("undo --yes {run}")).code, 0);
    assert!(!room.path("echo").exists());
}
