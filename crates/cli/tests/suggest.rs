//! Guarantee: the command that `verify --suggest` prints can be pasted into any POSIX shell and does what it says:
//! afterwards the same verification finds no difference.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::ffi::OsString;
use std::fs;
use std::os::unix::ffi::OsStringExt as _;
use std::path::Path;
use std::process::Command;

use crate::common::{Ran, Room, UTTER, ran, set_time};
use proptest::test_runner::{Config, TestCaseError, TestCaseResult, TestError, TestRunner};
use utter_echo_core::request::Task;
use utter_echo_lab::world::{self, Options, Other, Tree, World};

/// Runs a line as somebody would who pastes it.
fn pasted(line: &str, folder: &Path) -> Ran {
    let programs = Path::new(UTTER).parent().unwrap().to_str().unwrap();
    let path = format!("{programs}:{}", std::env::var("PATH").unwrap());
    let mut shell = Command::new("dash");
    let state = tempfile::tempdir().unwrap();
    shell.args(["-c", line]).current_dir(folder).env("PATH", path);
    shell.env("XDG_STATE_HOME", state.path());
    ran(&shell.output().unwrap())
}

/// The line that a verification suggests; none if it found nothing.
fn suggested(verdict: &Ran) -> Option<&str> {
    let at = verdict.out.find("\nTo make them identical: ")?;
    Some(verdict.out[at..].trim_start_matches("\nTo make them identical: ").trim_end_matches('\n'))
}

#[test]
fn a_suggestion_is_right_for_whatever_was_verified() {
    let newline = OsString::from_vec(b"new\nline \xff\n".to_vec());
    for (words, line) in [
        ("saltmere keeper", "utter mirror --all-attributes saltmere keeper"),
        ("saltmere keeper --ignore-extra", "utter copy --all-attributes saltmere keeper"),
        (
            "saltmere keeper --all-attributes --limit 1",
            "utter mirror --all-attributes saltmere keeper",
        ),
        (
            "--sample 100% --limit=2 --exclude old saltmere keeper --by=size",
            "utter mirror --by content --exclude old saltmere keeper",
        ),
        ("saltmere/lens.svg keeper/lens.svg", "utter copy saltmere/lens.svg keeper/lens.svg"),
        ("saltmere/lens.svg keeper/ --progress none", "utter copy saltmere/lens.svg keeper/"),
        (
            "--only {lens.svg,it's} --time-slack 2s saltmere keeper",
            "utter mirror --only \"{lens.svg,it's}\" --time-slack 2s saltmere keeper",
        ),
        ("--by content saltmere keeper", "utter mirror --by content saltmere keeper"),
        ("-- -saltmere NEWLINE", "utter mirror -- -saltmere \"$(printf 'new"),
    ] {
        let room = Room::new();
        for source in ["saltmere", "-saltmere"] {
            room.write(&format!("{source}/lens.svg"), "<svg/>");
            room.write(&format!("{source}/it's"), "new");
            room.write(&format!("{source}/log.csv"), "lit");
            room.write(&format!("{source}/old"), "old");
        }
        let echoes = [room.path("keeper"), room.path("").join(&newline)];
        for echo in &echoes {
            fs::create_dir(echo).unwrap();
            fs::write(echo.join("lens.svg"), "<svg>.").unwrap();
            fs::write(echo.join("log.csv"), "unl").unwrap();
            set_time(&echo.join("log.csv"), 1_000_000_000);
            fs::write(echo.join("extra.csv"), "extra").unwrap();
        }
        // Whether the roots agree is not left to the clock.
        set_time(&room.path("keeper"), 1_000_000_001);
        for root in [room.path("saltmere"), room.path("-saltmere"), echoes[1].clone()] {
            set_time(&root, 1_000_000_000);
        }
        let words = words.split(' ').map(|word| match word {
            "NEWLINE" => newline.clone(),
            other => other.into(),
        });
        let words: Vec<OsString> = words.collect();
        let verify =
            |more: &[&str]| ran(&room.command("verify").args(more).args(&words).output().unwrap());
        let verdict = verify(&["--suggest"]);
        assert_eq!(verdict.code, 1, "{words:?}: {verdict:?}");
        let suggestion = suggested(&verdict).unwrap();
        assert!(suggestion.contains(line), "{words:?}: {suggestion}");
        let mended = pasted(&format!("{suggestion} --waive=nesting"), &room.path(""));
        let mended = if mended.code == 2 { pasted(suggestion, &room.path("")) } else { mended };
        assert_eq!(mended.code, 0, "{suggestion}: {mended:?}");
        assert_eq!(verify(&[]).code, 0, "{words:?}: {:?}", verify(&[]));
    }
}

fn holds(source: &Tree, other: &Other, options: &Options) -> TestCaseResult {
    let world = World::grow(source, other, (None, None));
    let verify = || {
        let mut call = Command::new(UTTER);
        call.args(["verify", "--suggest"]).args(options.words());
        ran(&call.args([&world.source, &world.destination]).output().unwrap())
    };
    let verdict = verify();
    let Some(line) = suggested(&verdict) else { return Ok(()) };
    let mut mended = pasted(line, &world.source);
    if mended.code == 4 {
        // A guard may refuse; the test waives it.
        let waived = line.replacen(
            "utter mirror",
            "utter mirror --waive=removals,empty-source,nesting,swapped",
            1,
        );
        mended = pasted(&waived, &world.source);
    }
    let again = verify();
    let has_problems = verdict.code == 3 || mended.code == 3 || again.code == 3;
    if (mended.code, again.code) != (0, 0) && !has_problems {
        return Err(TestCaseError::fail(format!("{line}\n{mended:?}\n{again:?}")));
    }
    Ok(())
}

#[test]
fn after_a_suggestion_nothing_differs_whatever_the_options() {
    let count = std::env::var("UTTER_CASES").ok().and_then(|count| count.parse().ok());
    let cases = count.unwrap_or(500_u32).div_ceil(5);
    let config = Config { cases, failure_persistence: None, ..Config::default() };
    let case = (world::tree(), world::other(), world::options(&[Task::Verify]));
    match TestRunner::new(config).run(&case, |(s, o, options)| holds(&s, &o, &options)) {
        Err(TestError::Fail(why, case)) => panic!("{why}\nat least with {case:?}"),
        Err(error) => panic!("{error}"),
        Ok(()) => {}
    }
}
