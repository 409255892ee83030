//! Guarantee: for any combination of options the program does what its dry run said, and its counts, exit codes and
//! a second run agree with the trees. The cases are those of the core's random test, as command lines.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use std::process::Command;

use crate::common::{UTTER, ran};
use proptest::test_runner::{Config, TestCaseError, TestCaseResult, TestError, TestRunner};
use serde_json::Value;
use utter_echo_core::plan::Verb;
use utter_echo_core::request::Task;
use utter_echo_lab::model::{select, tally};
use utter_echo_lab::snapshot;
use utter_echo_lab::world::{self, Options, Other, Tree, World};

macro_rules! ensure {
    ($holds:expr, $($why:tt)*) => {
        if !$holds {
            return Err(TestCaseError::fail(format!($($why)*)));
        }
    };
}

struct Said {
    code: i32,
    lines: Vec<Value>,
    err: String,
}

impl Said {
    fn of(&self, kind: &str) -> Vec<&Value> {
        self.lines.iter().filter(|line| line["kind"] == kind).collect()
    }

    fn steps(&self) -> Vec<String> {
        let shown = |s: &&Value| format!("{} {} {}", s["verb"], s["path"], s["reason"]);
        self.of("step").iter().map(shown).collect()
    }
}

fn utter(world: &World, command: &str, words: &[String]) -> Said {
    let mut call = Command::new(UTTER);
    // Of the tests nothing stays in the records of whoever runs them.
    call.env("XDG_STATE_HOME", world.base.path().join("state"));
    call.arg(command).args(words).arg("--format=json").args([&world.source, &world.destination]);
    let ran = ran(&call.output().unwrap());
    let lines: Vec<Value> =
        ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let kinds: Vec<_> = lines.iter().map(|line| line["kind"].as_str().unwrap()).collect();
    assert_eq!(
        (kinds.first(), kinds.last()),
        (Some(&"head"), Some(&"totals")),
        "{words:?}: {}",
        ran.err
    );
    Said { code: ran.code, lines, err: ran.err }
}

fn holds(source: &Tree, other: &Other, options: &Options) -> TestCaseResult {
    let world = World::grow(source, other, options.mounts);
    let (from, before) = (snapshot(&world.source), snapshot(&world.destination));
    let selected = select(options, &from, &before);
    let words = options.words();
    let command = options.task.name();
    if options.task == Task::Verify {
        let verdict = utter(&world, command, &words);
        let found = !verdict.of("difference").is_empty();
        let problems = !verdict.of("problem").is_empty();
        let code = if problems { 3 } else { i32::from(found) };
        ensure!(verdict.code == code, "verify ends with {}: {}", verdict.code, verdict.err);
        return Ok(());
    }
    let waived = |extra: &[&str]| -> Vec<String> {
        let waived = ["--waive=removals,empty-source", "--flush=none", "--yes"];
        let all = words.iter().cloned();
        all.chain(waived.iter().chain(extra).map(|word| (*word).to_owned())).collect()
    };
    let dry = utter(&world, command, &waived(&["--dry-run"]));
    ensure!(before == snapshot(&world.destination), "a dry run changed something");
    let totals = dry.of("totals");
    ensure!(totals.len() == 1, "{} lines of totals: {}", totals.len(), dry.err);
    let planned = &totals[0]["plan"];
    let side = &planned["source"];
    let count = |name: &str| side[name].as_u64().unwrap();
    let counted = ["folders", "files", "links", "others", "bytes"].map(count);
    ensure!(counted == tally(&selected.source, &from), "the source is counted as {side}");
    let problems = dry.of("problem").len();
    let code = if problems > 0 { 3 } else { 0 };
    ensure!(dry.code == code, "the dry run ends with {}: {}", dry.code, dry.err);
    let run = utter(&world, command, &waived(&[]));
    ensure!(run.code == code, "the run ends with {}, not {code}: {}", run.code, run.err);
    ensure!(run.steps() == dry.steps(), "{:#?}, not {:#?}", run.steps(), dry.steps());
    let done = run.of("step").iter().all(|step| step["outcome"] == "done");
    ensure!(done, "not all is done: {:#?}", run.of("step"));
    ensure!(from == snapshot(&world.source), "the source changed");
    let held = ["held_back", "left_newer"].map(|name| planned[name].as_u64().unwrap());
    let again = utter(&world, command, &waived(&["--dry-run"]));
    let adjusts = again.of("step").iter().all(|step| step["verb"] == "adjust");
    ensure!(
        again.steps().is_empty() || held != [0, 0] && adjusts,
        "a second run would do {:#?}",
        again.steps()
    );
    ensure!(again.of("problem").len() == problems, "other problems the second time");
    let everything = options.steps.len() == Verb::ALL.len() && problems == 0 && held == [0, 0];
    if everything && options.task == Task::Mirror && !options.drop_unselected {
        let unknown = |word: &String| word.starts_with("--steps") || word == "--leave-newer";
        let spoken = words.iter().filter(|word| !unknown(word)).cloned();
        let verdict = utter(&world, "verify", &spoken.collect::<Vec<_>>());
        let named = verdict.of("difference");
        ensure!(verdict.code == 0, "mirrored, and different: {named:#?} {}", verdict.err);
    }
    Ok(())
}

#[test]
fn the_program_does_what_its_dry_run_said_with_any_options() {
    let count = std::env::var("UTTER_CASES").ok().and_then(|count| count.parse().ok());
    let cases = count.unwrap_or(500_u32).div_ceil(5);
    let config = Config { cases, failure_persistence: None, ..Config::default() };
    let tasks = &[Task::Copy, Task::Mirror, Task::Verify];
    let case = (world::tree(), world::other(), world::options(tasks));
    let tried = TestRunner::new(config).run(&case, |(s, o, options)| holds(&s, &o, &options));
    match tried {
        Err(TestError::Fail(why, case)) => panic!("{why}\nat least with {case:?}"),
        Err(error) => panic!("{error}"),
        Ok(()) => {}
    }
}
