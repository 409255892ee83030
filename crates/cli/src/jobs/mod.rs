//! Jobs: calls that are written down in a file, to be made by their names.
//!
//! They are no second way to call something: the keys of a job become the words of a command line, and those are read
//! as any other. So an option can stand there as soon as there is one.

mod add;
mod expand;
mod find;
mod schema;
mod spot;
mod words;

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::ops::Range;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use clap::{Command, CommandFactory as _};
use jiff::Zoned;
use toml_edit::{Document, Item, Key, Table, TableLike, Value};

use crate::call;
use crate::commands::Arguments;
use crate::options::begins_with_drive;
use expand::{GIVEN, Values};
use spot::{Source, nearest};
use words::Setting;

pub(crate) use add::NewJob;
pub(crate) use schema::schema;
pub(crate) use spot::Wrong;

/// Keys of a job that are no options.
const OWN: [&str; 9] = [
    "about",
    "does",
    "source",
    "destination",
    "pairs",
    "enabled",
    "tags",
    "then",
    DESTINATION_SHARED,
];
const DESTINATION_SHARED: &str = "shares-destination";

/// What a job can do.
const DOES: [&str; 4] = ["copy", "mirror", "move", "verify"];

/// The job file.
pub(crate) struct JobFile {
    source: Source,
    folder: PathBuf,
    document: Document<String>,
    values: Values,
}

/// A job that can be called.
#[derive(Debug)]
pub(crate) struct Job {
    pub(crate) name: String,
    pub(crate) about: Option<String>,
    pub(crate) enabled: bool,
    pub(crate) tags: Vec<String>,
    /// Jobs to be run after it, if it went well.
    pub(crate) then: Vec<String>,
    /// Others may write to where it writes, too.
    pub(crate) shares_destination: bool,
    /// The words of each call, from the command on; one for each pair of places.
    pub(crate) calls: Vec<Vec<OsString>>,
}

impl JobFile {
    /// Reads the file that was given, or the one that is found. What is wrong in a single job is told when that is
    /// asked for.
    pub(crate) fn read(given: Option<&Path>, now: &Zoned) -> Result<Self, Wrong> {
        Self::of(find::read(find::path(given))?, now)
    }

    fn of(source: Source, now: &Zoned) -> Result<Self, Wrong> {
        let document = Document::parse(source.text.clone()).map_err(|error| {
            let at = error.span().unwrap_or(0..0);
            source.wrong(&at, &format!("this is no TOML: {}", error.message()), "")
        })?;
        let folder = find::folder(&source.path);
        let values = Values::new(own_values(&source, &document)?, now);
        let file = Self { source, folder, document, values };
        file.check_tables()?;
        Ok(file)
    }

    pub(crate) fn path(&self) -> &Path {
        &self.source.path
    }

    /// The names of all jobs, in the order of the file.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        let jobs = self.document.get("job").and_then(Item::as_table_like);
        jobs.into_iter().flat_map(|jobs| jobs.iter().map(|(name, _)| name))
    }

    /// What is known of a job by its name alone, and everything else that is in the file.
    fn check_tables(&self) -> Result<(), Wrong> {
        for (name, item) in self.document.iter() {
            let known = ["values", "defaults", "job"];
            let at = key_span(self.document.as_table(), name);
            if !known.contains(&name) {
                let what = format!("'{name}' is no part of a job file");
                let advice = "its parts are [values], [defaults] and a [job.NAME] for each job";
                let advice = nearest(name, known.into_iter(), advice);
                return Err(self.source.wrong(&at, &what, &advice));
            }
            if item.as_table_like().is_none() {
                let what = format!("'{name}' has to be a table");
                return Err(self.source.wrong(&at, &what, &format!("write [{name}]")));
            }
        }
        for setting in self.defaults() {
            if !DOES.iter().any(|does| words::option(&command(does), setting.key).is_some()) {
                return Err(words::unknown(&self.source, &setting, &command(DOES[0])));
            }
        }
        Ok(())
    }

    fn defaults(&self) -> Vec<Setting<'_>> {
        let defaults = self.document.get("defaults").and_then(Item::as_table_like);
        defaults.map(settings).unwrap_or_default()
    }

    /// Follows the jobs that run after one: each must be there, and none may lead back.
    pub(crate) fn check_order(&self, job: &Job) -> Result<(), Wrong> {
        let mut chain = vec![job.name.clone()];
        self.check_below(job, &mut chain)
    }

    fn check_below(&self, job: &Job, chain: &mut Vec<String>) -> Result<(), Wrong> {
        for name in &job.then {
            chain.push(name.clone());
            if chain[..chain.len() - 1].contains(name) {
                let what =
                    format!("has jobs that run after each other in a circle: {}", chain.join(", "));
                return Err(Wrong::of_file(self.path(), &what, "take one out of its 'then'"));
            }
            self.check_below(&self.job(name)?, chain)?;
            chain.pop();
        }
        Ok(())
    }

    /// A job by its name.
    pub(crate) fn job(&self, name: &str) -> Result<Job, Wrong> {
        let jobs = self.document.get("job").and_then(Item::as_table_like);
        let Some((key, item)) = jobs.and_then(|jobs| jobs.get_key_value(name)) else {
            let what = format!("has no job '{name}'");
            let advice = nearest(name, self.names(), "'utter jobs' lists those that it has");
            return Err(Wrong::of_file(self.path(), &what, &advice));
        };
        let at = key.span().unwrap_or(0..0);
        let Some(table) = item.as_table_like() else {
            let what = format!("job '{name}' has to be a table");
            return Err(self.source.wrong(&at, &what, &format!("write [job.{name}]")));
        };
        Reading { file: self, name, at, settings: settings(table) }.job()
    }
}

/// A job while it is read.
struct Reading<'f> {
    file: &'f JobFile,
    name: &'f str,
    at: Range<usize>,
    settings: Vec<Setting<'f>>,
}

impl Reading<'_> {
    fn job(&self) -> Result<Job, Wrong> {
        let does = self.command()?;
        let mut pairs = Vec::new();
        if let Some(setting) = self.setting("pairs") {
            for pair in self.pairs(setting)? {
                pairs.push(self.places(&does, &pair, &setting.at)?);
            }
        } else {
            pairs.push(self.places(&does, &self.settings, &self.at)?);
        }
        let options = self.options(&does)?;
        let calls = pairs.into_iter().map(|places| {
            let mut words = vec![OsString::from(does.get_name())];
            words.extend(options.iter().cloned());
            words.push("--".into());
            words.extend(places.into_iter().map(OsString::from));
            words
        });
        let job = Job {
            name: self.name.to_owned(),
            about: self.text("about")?,
            enabled: self.switch("enabled")?.unwrap_or(true),
            tags: self.texts("tags")?,
            then: self.texts("then")?,
            shares_destination: self.switch(DESTINATION_SHARED)?.unwrap_or(false),
            calls: calls.collect(),
        };
        job.calls.iter().try_for_each(|words| self.check_call(words))?;
        Ok(job)
    }

    fn wrong(&self, at: &Range<usize>, what: &str, advice: &str) -> Wrong {
        self.file.source.wrong(at, what, advice)
    }

    fn setting(&self, key: &str) -> Option<&Setting<'_>> {
        self.settings.iter().find(|setting| setting.key == key)
    }

    fn expand(&self, text: (&str, &Range<usize>)) -> Result<String, Wrong> {
        self.file.values.expand(&self.file.source, text, self.name)
    }

    fn command(&self) -> Result<Command, Wrong> {
        let all = "a job does copy, mirror, move or verify";
        let Some(setting) = self.setting("does") else {
            let what = format!("job '{}' does not say what it does", self.name);
            return Err(self.wrong(
                &self.at,
                &what,
                "write does = \"mirror\", or copy, move or verify",
            ));
        };
        let does = self.text("does")?.unwrap_or_default();
        if !DOES.contains(&&*does) {
            let advice = nearest(&does, DOES.into_iter(), all);
            return Err(self.wrong(&setting.value_at(), &format!("no job does '{does}'"), &advice));
        }
        Ok(command(&does))
    }

    fn text(&self, key: &str) -> Result<Option<String>, Wrong> {
        let Some(setting) = self.setting(key) else { return Ok(None) };
        let Item::Value(Value::String(text)) = setting.value else {
            let what = format!("'{key}' takes a text");
            return Err(self.wrong(&setting.value_at(), &what, &format!("write {key} = \"…\"")));
        };
        self.expand((text.value(), &setting.value_at())).map(Some)
    }

    fn switch(&self, key: &str) -> Result<Option<bool>, Wrong> {
        let Some(setting) = self.setting(key) else { return Ok(None) };
        let Item::Value(Value::Boolean(on)) = setting.value else {
            let what = format!("'{key}' is either true or false");
            return Err(self.wrong(&setting.value_at(), &what, &format!("write {key} = true")));
        };
        Ok(Some(*on.value()))
    }

    /// One text, or a list of them.
    fn texts(&self, key: &str) -> Result<Vec<String>, Wrong> {
        self.setting(key).map_or_else(|| Ok(Vec::new()), |setting| self.texts_of(setting))
    }

    fn texts_of(&self, setting: &Setting<'_>) -> Result<Vec<String>, Wrong> {
        let (key, at) = (setting.key, setting.value_at());
        let wrong = |at: &Range<usize>| {
            let advice = format!("write {key} = \"…\" or {key} = [\"…\", \"…\"]");
            self.wrong(at, &format!("'{key}' takes a text, or a list of texts"), &advice)
        };
        let one = |value: &Value| {
            let at = value.span().unwrap_or_else(|| at.clone());
            let Value::String(text) = value else { return Err(wrong(&at)) };
            self.expand((text.value(), &at))
        };
        match setting.value {
            Item::Value(Value::Array(several)) => several.iter().map(one).collect(),
            Item::Value(value) => Ok(vec![one(value)?]),
            _ => Err(wrong(&setting.at)),
        }
    }

    /// Of a list of pairs, each as settings of its own.
    fn pairs<'s>(&self, setting: &'s Setting<'_>) -> Result<Vec<Vec<Setting<'s>>>, Wrong> {
        let form = "write pairs = [{ source = \"…\", destination = \"…\" }, …]";
        if let Some(both) = self.setting("source").or(self.setting("destination")) {
            let what = format!("'{}' and 'pairs' exclude each other", both.key);
            return Err(self.wrong(&both.at, &what, "leave out one of them"));
        }
        let tables: Option<Vec<&dyn TableLike>> = match setting.value {
            Item::Value(Value::Array(all)) => {
                all.iter().map(|one| one.as_inline_table().map(|table| table as _)).collect()
            }
            Item::ArrayOfTables(all) => Some(all.iter().map(|table| table as _).collect()),
            _ => None,
        };
        let tables = tables.filter(|tables| !tables.is_empty());
        let tables = tables.ok_or_else(|| {
            self.wrong(&setting.value_at(), "'pairs' takes a list of places", form)
        })?;
        let pairs: Vec<_> = tables.into_iter().map(settings).collect();
        let odd = |one: &&Setting<'_>| !["source", "destination"].contains(&one.key);
        match pairs.iter().flatten().find(odd) {
            Some(other) => {
                let what = format!("a pair has no '{}'", other.key);
                Err(self.wrong(&other.at, &what, form))
            }
            None => Ok(pairs),
        }
    }

    /// The places among some settings, which stand here.
    fn places(
        &self,
        does: &Command,
        among: &[Setting<'_>],
        here: &Range<usize>,
    ) -> Result<Vec<PathBuf>, Wrong> {
        let mut places = Vec::new();
        let takes_several = does.get_positionals().any(|arg| arg.get_id() == "sources");
        for key in ["source", "destination"] {
            let Some(setting) = among.iter().find(|setting| setting.key == key) else {
                let what = format!("job '{}' has no {key}", self.name);
                return Err(self.wrong(here, &what, &format!("write {key} = \"…\"")));
            };
            let texts = self.texts_of(setting)?;
            let is_right = match texts.len() {
                1 => true,
                0 => false,
                _ => key == "source" && takes_several,
            };
            if !is_right {
                let (name, count) = (does.get_name(), texts.len());
                let what = format!("{name} takes one {key}, and here are {count}");
                let advice =
                    "for several, write pairs = [{ source = \"…\", destination = \"…\" }, …]";
                return Err(self.wrong(&setting.value_at(), &what, advice));
            }
            places.extend(texts.iter().map(|text| words::path_in(&self.file.folder, text)));
        }
        Ok(places)
    }

    /// The words of all options; the job's own take the place of the defaults.
    fn options(&self, does: &Command) -> Result<Vec<OsString>, Wrong> {
        let is_own = |key: &str| self.settings.iter().any(|setting| setting.key == key);
        let defaults = self.file.defaults();
        let defaults = defaults
            .iter()
            .filter(|setting| !is_own(setting.key) && words::option(does, setting.key).is_some());
        let own = self.settings.iter().filter(|setting| !OWN.contains(&setting.key));
        let mut all = Vec::new();
        for setting in defaults.chain(own) {
            let Some(arg) = words::option(does, setting.key) else {
                return Err(words::unknown(&self.file.source, setting, does));
            };
            let expand = |text: (&str, &Range<usize>)| self.expand(text);
            let (source, folder) = (&self.file.source, &*self.file.folder);
            all.extend(words::words_of(source, folder, setting, arg, &expand)?);
        }
        Ok(all)
    }

    /// Lets the parser of command lines have its say, and tells it of the place in the file.
    fn check_call(&self, words: &[OsString]) -> Result<(), Wrong> {
        // Whether a drive is mounted is asked when the job is to run.
        let words = words.iter().map(|word| without_drive(word));
        let line = [OsString::from("utter")].into_iter().chain(words);
        let Err(error) = call::parse(line) else { return Ok(()) };
        let key = call::option_of(&error);
        let defaults = self.file.defaults();
        let mut all = self.settings.iter().chain(&defaults);
        let setting = all.find(|setting| key.as_deref() == Some(setting.key));
        let at = setting.map_or_else(|| self.at.clone(), Setting::value_at);
        let (told, similar) = call::told(&error);
        let (what, more) = told.split_once('\n').unwrap_or((&told, ""));
        let advice = similar.unwrap_or_else(|| more.trim().to_owned());
        Err(self.wrong(&at, what, &advice))
    }
}

/// A word of a line, of which a path that begins with the name of a drive is replaced by one that does not.
fn without_drive(word: &OsStr) -> OsString {
    let bytes = word.as_bytes();
    let begin = bytes.starts_with(b"--").then(|| bytes.iter().position(|byte| *byte == b'='));
    let (option, value) = bytes.split_at(begin.flatten().map_or(0, |at| at + 1));
    if !begins_with_drive(Path::new(OsStr::from_bytes(value))) {
        return word.to_owned();
    }
    let mut replaced = OsStr::from_bytes(option).to_owned();
    replaced.push("/");
    replaced
}

/// The keys of a table with their values, in the order of the file.
fn settings<'f>(table: &'f (dyn TableLike + 'f)) -> Vec<Setting<'f>> {
    let mut settings: Vec<Setting<'f>> = table
        .iter()
        .filter_map(|(key, _)| {
            let (key, value) = table.get_key_value(key)?;
            Some(Setting { key: key.get(), at: key.span().unwrap_or(0..0), value })
        })
        .collect();
    settings.sort_by_key(|setting| setting.at.start);
    settings
}

fn key_span(table: &Table, name: &str) -> Range<usize> {
    let key = table.get_key_value(name).and_then(|(key, _): (&Key, _)| key.span());
    key.unwrap_or(0..0)
}

fn own_values(
    source: &Source,
    document: &Document<String>,
) -> Result<HashMap<String, (String, Range<usize>)>, Wrong> {
    let mut own = HashMap::new();
    let table = document.get("values").and_then(Item::as_table_like);
    for setting in table.map(settings).unwrap_or_default() {
        let (key, at) = (setting.key, setting.value_at());
        if GIVEN.contains(&key) {
            let what = format!("'{key}' is a value that utter gives itself");
            return Err(source.wrong(&setting.at, &what, "give yours another name"));
        }
        let text = match setting.value {
            Item::Value(Value::String(text)) => text.value().clone(),
            Item::Value(Value::Integer(number)) => number.value().to_string(),
            _ => {
                let what = format!("the value '{key}' has to be a text or a number");
                return Err(source.wrong(&at, &what, &format!("write {key} = \"…\"")));
            }
        };
        own.insert(key.to_owned(), (text, at));
    }
    Ok(own)
}

/// A command, as its arguments are defined.
fn command(name: &str) -> Command {
    let mut all = Arguments::command();
    all.build();
    all.find_subcommand(name).cloned().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Arg;
    use std::any::TypeId;
    use std::sync::LazyLock;

    /// Texts of which every option takes some.
    const SAMPLES: [&str; 11] = [
        "3",
        "30%",
        "1K..",
        "5d..",
        "2001-01-31..",
        "content",
        "file",
        "removals",
        "add",
        "7d",
        "x",
    ];

    fn job_of(does: &str, setting: &str) -> Result<Job, Wrong> {
        let room = tempfile::tempdir().unwrap();
        let path = room.path().join("utter.toml");
        let places = "source = \"/saltmere\"\ndestination = \"/lantern\"";
        std::fs::write(&path, format!("[job.a]\ndoes = \"{does}\"\n{places}\n{setting}\n"))
            .unwrap();
        JobFile::read(Some(&path), &Zoned::now()).unwrap().job("a")
    }

    fn typed(does: &str, options: &[&str]) -> Result<String, clap::Error> {
        let words = [&["utter", does], options, &["/saltmere", "/lantern"]].concat();
        call::parse(words.into_iter().map(OsString::from)).map(|called| called.understood())
    }

    fn understood(job: &Job) -> String {
        let words = [OsString::from("utter")].into_iter().chain(job.calls[0].iter().cloned());
        call::parse(words).unwrap().understood()
    }

    fn options(does: &Command) -> impl Iterator<Item = (&str, &Arg)> {
        let named = does.get_arguments().filter_map(|arg| Some((arg.get_long()?, arg)));
        named.filter(|(key, _)| words::option(does, key).is_some())
    }

    /// What an option means nothing without.
    fn beside(key: &str) -> (&'static str, &'static [&'static str]) {
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
            typed(does, &[beside(key).1, &[&*option]].concat()).is_ok()
        };
        let value = all.find(fits).unwrap_or_else(|| panic!("no sample fits --{key}"));
        let is_path = arg.get_value_parser().type_id() == TypeId::of::<PathBuf>();
        if is_path { format!("/{value}") } else { value }
    }

    #[test]
    fn every_option_of_a_job_is_understood_as_if_it_were_typed() {
        let mut tried = 0;
        for does in DOES.map(command) {
            let name = does.get_name();
            for (key, arg) in options(&does) {
                let (setting, option) = if arg.get_action().takes_values() {
                    let value = fitting(name, key, arg);
                    (format!("{key} = \"{value}\""), format!("--{key}={value}"))
                } else {
                    (format!("{key} = true"), format!("--{key}"))
                };
                let (settings, options) = beside(key);
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
        let called = call::parse(words.into_iter().map(OsString::from)).unwrap();
        NewJob::of("a", called.typed()).unwrap().add_to(Some(&path)).unwrap();
        JobFile::read(Some(&path), &Zoned::now()).unwrap().job("a").unwrap()
    }

    static SCHEMA: LazyLock<jsonschema::Validator> =
        LazyLock::new(|| jsonschema::validator_for(&schema()).unwrap());

    fn is_in_schema(does: &str, setting: &str) -> bool {
        let places = "source = \"/saltmere\"\ndestination = \"/lantern\"";
        let file = format!("[job.a]\ndoes = \"{does}\"\n{places}\n{setting}\n");
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
    fn what_is_wrong_when_typed_is_wrong_in_a_job_and_its_place_is_told() {
        let mut refused = 0;
        for does in DOES.map(command) {
            let name = does.get_name();
            for (key, _) in options(&does).filter(|(_, arg)| arg.get_action().takes_values()) {
                let option = format!("--{key}=\u{1f56f}");
                let Err(error) = typed(name, &[beside(key).1, &[&*option]].concat()) else {
                    continue;
                };
                let setting = format!("{key} = \"\u{1f56f}\"\n{}", beside(key).0);
                let told = job_of(name, &setting).unwrap_err().to_string();
                let place = format!("utter.toml:5:{}: ", key.len() + 4);
                let (what, _) = call::told(&error);
                let what = what.lines().next().unwrap_or_default();
                assert!(told.contains(&(place + what)), "{told}\n{error}");
                refused += 1;
            }
        }
        assert!(refused > 40, "{refused}");
    }
}
