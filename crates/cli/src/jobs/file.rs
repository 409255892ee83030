//! The job file as a whole.

use std::ffi::OsString;
use std::ops::Range;
use std::path::{Path, PathBuf};

use clap::Command;
use jiff::Zoned;
use toml_edit::{Document, Item, Key, Table, TableLike, Value};

use crate::context::Program;
use crate::exit::WrongCall;
use crate::jobs::expand::Variables;
use crate::jobs::spot::{Source, nearest};
use crate::jobs::words::Setting;
use crate::jobs::{find, words};
use crate::options::values;
use crate::real::real;
use crate::records::RecordRetention;
use crate::schedule::When;

/// The settings for records.
pub(super) const RECORDS: [&str; 3] = ["keep", "at-most", "group"];

/// The commands of jobs.
pub(super) const COMMANDS: [&str; 4] = ["copy", "mirror", "move", "verify"];

/// The job file.
pub(crate) struct JobFile {
    pub(super) source: Source,
    pub(super) folder: PathBuf,
    pub(super) document: Document<String>,
    pub(super) variables: Variables,
    /// When its jobs start.
    pub(super) now: Zoned,
    /// The commands of its calls.
    pub(super) program: Program,
}

/// A job that is ready to run.
#[derive(Debug)]
pub(crate) struct Job {
    pub(crate) name: String,
    pub(crate) description: Option<String>,
    pub(crate) enabled: bool,
    /// When it starts.
    pub(crate) at: Option<When>,
    pub(crate) tags: Vec<String>,
    /// Jobs to run after it if it succeeded.
    pub(crate) then: Vec<String>,
    /// Its destination may be shared with other jobs.
    pub(crate) shares_destination: bool,
    /// The arguments of each call, from the command on; one call for each pair of paths.
    pub(crate) calls: Vec<Vec<OsString>>,
}

impl JobFile {
    /// Reads the given or found file. Errors in a job are reported when that job is read.
    pub(crate) fn read(
        given: Option<&Path>,
        now: &Zoned,
        program: Program,
    ) -> Result<Self, WrongCall> {
        Self::of(find::read(find::path(given))?, now, program)
    }

    pub(super) fn of(source: Source, now: &Zoned, program: Program) -> Result<Self, WrongCall> {
        let document = Document::parse(source.text.clone()).map_err(|error| {
            let at = error.span().unwrap_or(0..0);
            source.wrong(&at, &format!("this is not valid TOML: {}", error.message()), "")
        })?;
        let folder = find::folder(&source.path);
        let variables = variables(&source, &document)?;
        let file = Self { source, folder, document, variables, now: now.clone(), program };
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

    /// Checks the names of tables and of jobs.
    fn check_tables(&self) -> Result<(), WrongCall> {
        for (name, item) in self.document.iter() {
            let known = ["variables", "defaults", "records", "job"];
            let at = key_span(self.document.as_table(), name);
            if !known.contains(&name) {
                let what = format!("'{name}' is not a part of a job file");
                let advice = "the parts are [variables], [defaults], [records] and a [job.NAME] for each job";
                let advice = nearest(name, known.into_iter(), advice);
                return Err(self.source.wrong(&at, &what, &advice));
            }
            if item.as_table_like().is_none() {
                let what = format!("'{name}' must be a table");
                return Err(self.source.wrong(&at, &what, &format!("write [{name}]")));
            }
        }
        self.keep()?;
        for setting in self.defaults() {
            if !COMMANDS
                .iter()
                .any(|does| words::option(&command(self.program, does), setting.key).is_some())
            {
                return Err(words::unknown(&self.source, &setting, None));
            }
        }
        Ok(())
    }

    /// How long records of its jobs are kept.
    pub(crate) fn keep(&self) -> Result<RecordRetention, WrongCall> {
        let file = Some(real(self.path()));
        let mut kept = RecordRetention { always: true, file, ..RecordRetention::default() };
        let table = self.document.get("records").and_then(Item::as_table_like);
        for setting in table.map(settings).unwrap_or_default() {
            let (key, at) = (setting.key, setting.value_at());
            let Item::Value(Value::String(text)) = setting.value else {
                let what = format!("'{key}' takes a text");
                return Err(self.source.wrong(&at, &what, &format!("write {key} = \"…\"")));
            };
            let text = text.value();
            let wrong = |why: String| self.source.wrong(&at, &why, "write it like 180d or 2GiB");
            match key {
                "keep" => kept.time = values::duration(text).map_err(wrong)?,
                "group" => {
                    let group = uzers::get_group_by_name(text).map(|group| group.gid());
                    let what = || format!("there is no group '{text}'");
                    let none = || self.source.wrong(&at, &what(), "'getent group' lists them");
                    kept.group = Some(group.ok_or_else(none)?);
                }
                "at-most" => kept.at_most = values::bytes(text).map_err(wrong)?,
                _ => {
                    let what = format!("'{key}' is not a setting of records");
                    let advice =
                        nearest(key, RECORDS.into_iter(), "they are 'keep', 'at-most' and 'group'");
                    return Err(self.source.wrong(&setting.at, &what, &advice));
                }
            }
        }
        Ok(kept)
    }

    pub(super) fn defaults(&self) -> Vec<Setting<'_>> {
        let defaults = self.document.get("defaults").and_then(Item::as_table_like);
        defaults.map(settings).unwrap_or_default()
    }
}

/// The keys and values of a table, in the order of the file.
pub(super) fn settings<'f>(table: &'f (dyn TableLike + 'f)) -> Vec<Setting<'f>> {
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

fn variables(source: &Source, document: &Document<String>) -> Result<Variables, WrongCall> {
    let mut own = Variables::new();
    let table = document.get("variables").and_then(Item::as_table_like);
    for setting in table.map(settings).unwrap_or_default() {
        let (key, at) = (setting.key, setting.value_at());
        let text = match setting.value {
            Item::Value(Value::String(text)) => text.value().clone(),
            Item::Value(Value::Integer(number)) => number.value().to_string(),
            _ => {
                let what = format!("the variable '{key}' must be a text or a number");
                return Err(source.wrong(&at, &what, &format!("write {key} = \"…\"")));
            }
        };
        own.insert(key.to_owned(), (text, at));
    }
    Ok(own)
}

/// A command and the definition of its arguments.
pub(super) fn command(program: Program, name: &str) -> Command {
    (program.command_line)().find_subcommand(name).cloned().unwrap_or_default()
}
