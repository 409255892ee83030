//! Every option, typed and as a job, comes to the same.

use std::ffi::OsString;
use std::sync::LazyLock;

use clap::{Arg, Command};
use jiff::Zoned;
use toml_edit::Value;

use super::file::{COMMANDS, command};
use super::words::is_path;
use super::*;
use crate::call;
use crate::commands::PROGRAM;
use crate::exit::WrongCall;

/// Texts of which every option takes some.
const SAMPLES: [&str; 12] = [
    "3",
    "30%",
    "1K..",
    "5d..",
    "2001-01-31..",
    "22:00..06:00",
    "content",
    "file",
    "removals",
    "add",
    "7d",
    "x",
];

fn job_of(does: &str, setting: &str) -> Result<Job, WrongCall> {
    let room = tempfile::tempdir().unwrap();
    let path = room.path().join("utter.toml");
    let places = "source = \"/saltmere\"\ndestination = \"/lantern\"";
    std::fs::write(&path, format!("[job.a]\ncommand = \"{does}\"\n{places}\n{setting}\n")).unwrap();
    JobFile::read(Some(&path), &Zoned::now(), PROGRAM).unwrap().job("a")
}

fn typed(does: &str, options: &[&str]) -> Result<String, clap::Error> {
    let words = [&["utter", does], options, &["/saltmere", "/lantern"]].concat();
    call::parse(PROGRAM, words.into_iter().map(OsString::from)).map(|called| called.understood())
}

fn understood(job: &Job) -> String {
    let words = [OsString::from("utter")].into_iter().chain(job.calls[0].iter().cloned());
    call::parse(PROGRAM, words).unwrap().understood()
}

fn options(does: &Command) -> impl Iterator<Item = (&str, &Arg)> {
    let named = does.get_arguments().filter_map(|arg| Some((arg.get_long()?, arg)));
    named.filter(|(key, _)| words::option(does, key).is_some())
}

/// What an option means nothing without.
fn required_with(key: &str) -> (&'static str, &'static [&'static str]) {
    match key {
        "set-aside-keep" => ("set-aside = \"/aside\"\n", &["--set-aside=/aside"]),
        "log-keep" => ("log = \"/{date}.log\"\n", &["--log=/{date}.log"]),
        _ => ("", &[]),
    }
}

/// A value that an option takes.
fn fitting(does: &str, key: &str, arg: &Arg) -> String {
    let known = arg.get_possible_values().first().map(|value| value.get_name().to_owned());
    let mut all = known.into_iter().chain(SAMPLES.map(str::to_owned));
    let fits = |value: &String| {
        let option = format!("--{key}={value}");
        typed(does, &[required_with(key).1, &[&*option]].concat()).is_ok()
    };
    let value = all.find(fits).unwrap_or_else(|| panic!("no sample fits --{key}"));
    if is_path(arg) { format!("/{value}") } else { value }
}

#[test]
fn every_option_of_a_job_is_understood_as_if_it_were_typed() {
    let mut tried = 0;
    for does in COMMANDS.map(|does| command(PROGRAM, does)) {
        let name = does.get_name();
        for (key, arg) in options(&does) {
            let (setting, option) = if arg.get_action().takes_values() {
                let value = fitting(name, key, arg);
                (format!("{key} = \"{value}\""), format!("--{key}={value}"))
            } else {
                (format!("{key} = true"), format!("--{key}"))
            };
            let (settings, options) = required_with(key);
            let wanted = typed(name, &[options, &[&*option]].concat());
            let wanted = wanted.unwrap_or_else(|error| panic!("{option}: {error}"));
            let job = job_of(name, &format!("{settings}{setting}"));
            let job = job.unwrap_or_else(|error| panic!("{setting}: {error}"));
            assert_eq!(understood(&job), wanted, "{setting}");
            let written = format!("{settings}{setting}");
            assert!(is_in_schema(name, &written), "{written}");
            if key != "dry-run" {
                let added = added(name, &[options, &[&*option]].concat());
                assert_eq!(understood(&added), wanted, "added: {option}");
            }
            tried += 1;
        }
    }
    assert!(tried > 100, "{tried}");
    assert!(!is_in_schema("copy", "exclud = \"x\"") && !is_in_schema("copy", "yes = 1"));
}

/// The job that such a line becomes.
fn added(does: &str, options: &[&str]) -> Job {
    let room = tempfile::tempdir().unwrap();
    let path = room.path().join("utter.toml");
    let words = [&["utter", does], options, &["/saltmere", "/lantern"]].concat();
    let called = call::parse(PROGRAM, words.into_iter().map(OsString::from)).unwrap();
    NewJob::of(PROGRAM, "a", called.typed()).unwrap().add_to(Some(&path)).unwrap();
    JobFile::read(Some(&path), &Zoned::now(), PROGRAM).unwrap().job("a").unwrap()
}

static SCHEMA: LazyLock<jsonschema::Validator> =
    LazyLock::new(|| jsonschema::validator_for(schema(PROGRAM).as_value()).unwrap());

fn is_in_schema(does: &str, setting: &str) -> bool {
    let places = "source = \"/saltmere\"\ndestination = \"/lantern\"";
    let file = format!("[job.a]\ncommand = \"{does}\"\n{places}\n{setting}\n");
    let document: toml_edit::DocumentMut = file.parse().unwrap();
    let job = document["job"]["a"].as_table().unwrap();
    let job = job.iter().map(|(key, item)| (key.to_owned(), as_json(item.as_value().unwrap())));
    let file = serde_json::json!({
        "job": { "a": job.collect::<serde_json::Map<_, _>>() },
    });
    SCHEMA.is_valid(&file)
}

fn as_json(value: &Value) -> serde_json::Value {
    match value {
        Value::Boolean(on) => (*on.value()).into(),
        Value::Integer(number) => (*number.value()).into(),
        Value::Array(all) => all.iter().map(as_json).collect(),
        other => other.as_str().unwrap().into(),
    }
}

#[test]
fn what_is_wrong_when_typed_is_wrong_in_a_job_with_its_place() {
    let mut refused = 0;
    for does in COMMANDS.map(|does| command(PROGRAM, does)) {
        let name = does.get_name();
        for (key, _) in options(&does).filter(|(_, arg)| arg.get_action().takes_values()) {
            let option = format!("--{key}=\u{1f56f}");
            let Err(error) = typed(name, &[required_with(key).1, &[&*option]].concat()) else {
                continue;
            };
            let setting = format!("{key} = \"\u{1f56f}\"\n{}", required_with(key).0);
            let told = job_of(name, &setting).unwrap_err().to_string();
            let place = format!("utter.toml:5:{}: ", key.len() + 4);
            let (what, _) = call::explained(&error);
            let what = what.lines().next().unwrap_or_default();
            assert!(told.contains(&(place + what)), "{told}\n{error}");
            refused += 1;
        }
    }
    assert!(refused > 40, "{refused}");
}
