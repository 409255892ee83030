//! Guarantee: output never affects a run. If it is closed or full, a run does the same and ends with the same code;
//! only commands whose sole purpose is output report that it was lost. Questions go to the terminal, wherever the
//! streams go.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::fs::{self, File};
use std::process::{Child, Stdio};
use std::time::Duration;

use crate::common::{Ran, Room, ran};

/// A folder in which everything can be tried, with a saved plan and a run to undo.
fn prepared() -> (Room, String) {
    let room = Room::new()
        .with("saltmere/lens.svg", "<svg/>")
        .with("saltmere/tide.csv", "1,2,3")
        .with("keeper/lens.svg", "<svg></svg>")
        .with("keeper/old/ledger.txt", "old")
        .with("before/lens.svg", "<svg></svg>");
    // More than is written at a time.
    for at in 0..200 {
        room.write(&format!("saltmere/logbooks/a page of the keeper's logbook {at}"), "fog");
    }
    assert_eq!(
        room.run("mirror --yes --flush none --set-aside aside --quiet saltmere before").code,
        0
    );
    assert_eq!(room.run("copy --dry-run --save-plan plan saltmere third").code, 0);
    let run = room.list("aside").into_iter().find(|name| name.ends_with("Z/")).unwrap();
    (room, format!("aside/{run}"))
}

/// Runs a line with stdout as given, or read for one byte and then closed.
fn with_output(room: &Room, line: &str, out: Option<Stdio>) -> Ran {
    let mut command = room.command(line);
    command.stdin(Stdio::null()).stderr(Stdio::piped());
    let pipe = out.is_none();
    let mut child: Child = command.stdout(out.unwrap_or_else(Stdio::piped)).spawn().unwrap();
    if pipe {
        let mut byte = [0];
        let _ = std::io::Read::read(&mut child.stdout.take().unwrap(), &mut byte);
    }
    ran(&child.wait_with_output().unwrap())
}

#[test]
fn lost_output_does_not_change_a_run() {
    let lines = [
        "copy saltmere new",
        "copy --verbose saltmere new",
        "copy --format json saltmere new",
        "mirror --yes --waive removals saltmere keeper",
        "mirror --yes --waive removals --verbose saltmere keeper",
        "execute --yes plan",
        "execute --yes --format json plan",
        "undo --yes --verbose RUN",
        "undo --yes --format json RUN",
        "copy --dry-run saltmere new",
        "mirror --dry-run --waive removals --format json saltmere keeper",
    ];
    for line in lines {
        let outcomes = ["read", "full", "closed"].map(|how| {
            let (room, run) = prepared();
            let line = line.replace("RUN", &run);
            let line = line.replacen(' ', " --flush none ", 1);
            let full = || Stdio::from(File::options().write(true).open("/dev/full").unwrap());
            let ran = match how {
                "read" => room.run(&line),
                "full" => with_output(&room, &line, Some(full())),
                _ => with_output(&room, &line, None),
            };
            let told = ran.err.matches("the rest of the output could not be written").count();
            assert!(told <= 1 && (how == "read") <= (told == 0), "{line}, {how}: {ran:?}");
            let trees = ["new", "keeper", "third", "before"].map(|tree| {
                fs::metadata(room.path(tree)).map(|_| room.list(tree)).unwrap_or_default()
            });
            (ran.code, trees)
        });
        assert_eq!(outcomes[0], outcomes[1], "{line}, full");
        assert_eq!(outcomes[0], outcomes[2], "{line}, closed");
        assert_eq!(outcomes[0].0, 0, "{line}");
    }
}

#[test]
fn commands_that_only_print_report_lost_output() {
    let (room, _) = prepared();
    for line in [
        "verify saltmere keeper",
        "verify --format json saltmere keeper",
        "verify --format csv saltmere keeper",
        "explain saltmere",
        "explain --format json saltmere logbooks",
        "drives",
        "drives --format json",
        "undo",
        "undo --format json",
    ] {
        let full = File::options().write(true).open("/dev/full").unwrap();
        let cut = with_output(&room, line, Some(full.into()));
        assert_eq!(cut.code, 6, "{line}: {cut:?}");
        assert!(cut.err.contains("the rest of the output could not be written"), "{line}: {cut:?}");
        assert_ne!(room.run(line).code, 6, "{line}");
    }
}

#[test]
fn help_without_a_request_is_no_error() {
    let ran = Room::new().run("");
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(
        ran.err.starts_with("Copy, mirror, move and verify") && ran.err.contains("Usage:"),
        "{ran:?}"
    );
}

#[test]
fn an_error_without_output_still_has_its_exit_code() {
    let room = Room::new();
    let full = || Stdio::from(File::options().write(true).open("/dev/full").unwrap());
    for line in ["copy nowhere there", "verify nowhere there", "undo nowhere"] {
        let status = room.command(line).stdout(full()).stderr(full()).status().unwrap();
        assert_eq!(status.code(), Some(2), "{line}");
    }
}

#[test]
fn a_prompt_goes_to_the_terminal_whatever_the_streams_are() {
    for (answer, left) in [("n", vec!["old.csv"]), ("y", vec!["lens.svg"])] {
        let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("keeper/old.csv", "1");
        let line = "mirror --waive nesting saltmere keeper >out 2>err </dev/null";
        let asked = room.on_a_terminal(line, &format!("{answer}\n"));
        assert!(asked.out.contains("Remove 1 entry"), "{asked:?}");
        assert_eq!(room.list("keeper"), left, "{asked:?}");
    }
    // Nobody is in front of it.
    let room = Room::new().with("saltmere/lens.svg", "<svg/>").with("keeper/old.csv", "1");
    let ran = room.run("mirror saltmere keeper");
    assert_eq!((ran.code, room.list("keeper")), (0, vec!["lens.svg".to_owned()]), "{ran:?}");
    assert!(ran.out.contains("without asking"), "{ran:?}");
}

#[test]
fn a_closed_terminal_ends_the_run_cleanly() {
    for (signal, code) in [("-HUP", 143), ("-TERM", 143), ("-INT", 130)] {
        let room = Room::new().with("saltmere/season.wav", &"~".repeat(4 << 20));
        let mut child = room
            .command_that_hears("copy --rate 1M --flush none saltmere keeper")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        // Until it is under way.
        while !room.path("keeper").exists() {
            std::thread::sleep(Duration::from_millis(5));
        }
        let mut kill = std::process::Command::new("kill");
        assert!(kill.args([signal, &child.id().to_string()]).status().unwrap().success());
        assert_eq!(child.wait().unwrap().code(), Some(code), "{signal}");
    }
}

#[test]
fn no_name_in_an_error_steers_the_terminal() {
    let room = Room::new().with("saltmere/lens.svg", "<svg/>");
    let trick = "nowhere\u{1b}[31m\u{202e}\u{200b}";
    room.write("rules", &format!("/etc/{trick}[\n"));
    for words in [
        &["copy", trick, "keeper"][..],
        &["copy", "saltmere", "saltmere/lens.svg", trick, "x"],
        &["mirror", trick, "keeper"],
        &["verify", "saltmere", trick],
        &["explain", trick],
        &["explain", "saltmere", "--rules", trick],
        &["explain", "saltmere", "--rules", "rules"],
        &["explain", "saltmere", &format!("../{trick}")],
        &["execute", trick],
        &["undo", trick],
        &["undo", "--yes", "--discard", trick],
        &["drives", trick],
        &["copy", &format!("--{trick}"), "saltmere", "keeper"],
        &["copy", "--size", trick, "saltmere", "keeper"],
        &["copy", "--exclude", &format!("{trick}["), "saltmere", "keeper"],
    ] {
        let output = room.command("").args(words).stdin(Stdio::null()).output().unwrap();
        let ran = ran(&output);
        assert_ne!(ran.code, 0, "{words:?}: {ran:?}");
        assert!(ran.err.starts_with("utter: "), "{words:?}: {ran:?}");
        let steers = |c: char| c != '\n' && (c.is_control() || c == '\u{202e}' || c == '\u{200b}');
        assert!(!ran.err.contains(steers), "{words:?}: {ran:?}");
    }
}
