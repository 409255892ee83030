//! Adding a command line to the job file.

use std::ffi::{OsStr, OsString};
use std::fs;
use std::io::{self, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

use clap::parser::ValueSource;
use clap::{Arg, ArgAction, ArgMatches};
use toml_edit::{Array, DocumentMut, Item, Table, Value};

use crate::context::Program;
use crate::exit::WrongCall;
use crate::jobs::file::{COMMANDS, JobFile, command};
use crate::jobs::find;
use crate::jobs::spot::{Source, wrong_file};
use crate::jobs::words::is_path;
use crate::location::Location;
use crate::terminal::names;

/// A job as a table of the file.
pub(crate) struct NewJob {
    /// The command that it calls.
    program: Program,
    name: String,
    table: Table,
}

impl NewJob {
    /// From a parsed call. The error names what a job file cannot hold.
    pub(crate) fn of(program: Program, name: &str, typed: &ArgMatches) -> Result<Self, String> {
        let called = typed.subcommand().filter(|(does, _)| COMMANDS.contains(does));
        let Some((does, typed)) = called else {
            return Err("the command of a job is copy, mirror, move or verify".to_owned());
        };
        let mut table = Table::new();
        table.insert("command", does.into());
        let does = command(program, does);
        // The two sides come first; options that only look, like a dry run, are not part of a job.
        let options = does.get_arguments().filter(|arg| !arg.is_positional());
        for arg in does.get_positionals().chain(options) {
            let id = arg.get_id().as_str();
            let given = typed.try_contains_id(id).is_ok()
                && typed.value_source(id) == Some(ValueSource::CommandLine);
            let Some(key) = key_of(arg).filter(|key| given && *key != "dry-run") else { continue };
            let values = typed.get_raw(id).into_iter().flatten();
            let texts = values.map(|value| text_of(arg, value)).collect::<Result<Vec<_>, _>>()?;
            table.insert(key, item_of(arg, texts));
        }
        Ok(Self { program, name: name.to_owned(), table })
    }

    /// Appends the job to the file, which otherwise stays unchanged; creates a missing file.
    pub(crate) fn add_to(self, given: Option<&Path>) -> Result<PathBuf, WrongCall> {
        let path = find::path(given);
        // Writes to the target of a link.
        let path = fs::canonicalize(&path).unwrap_or(path);
        let before = match path.try_exists() {
            Ok(false) => String::new(),
            _ => find::read(path.clone())?.text,
        };
        let cannot = |what: String| wrong_file(&path, &what, "nothing was changed");
        let mut document: DocumentMut = before.parse().map_err(|error: toml_edit::TomlError| {
            cannot(format!("is not valid TOML: {}", error.message()))
        })?;
        let jobs = document.entry("job").or_insert_with(|| {
            let mut jobs = Table::new();
            // It holds only tables.
            jobs.set_implicit(true);
            Item::Table(jobs)
        });
        let Some(jobs) = jobs.as_table_mut() else {
            return Err(cannot("has its jobs in one line".to_owned()));
        };
        if jobs.contains_key(&self.name) {
            let what = format!("has a job '{}' already", self.name);
            return Err(wrong_file(&path, &what, "give the new one another name"));
        }
        let mut table = self.table;
        if !before.is_empty() {
            table.decor_mut().set_prefix("\n");
        }
        jobs.insert(&self.name, Item::Table(table));
        let text = document.to_string();
        // The result must parse again.
        let now = jiff::Zoned::now();
        let source = Source { path: path.clone(), text: text.clone() };
        JobFile::of(source, &now, self.program)?.job(&self.name)?;
        write(&path, &text).map_err(|error| cannot(format!("cannot be written: {error}")))?;
        Ok(path)
    }
}

fn key_of(arg: &Arg) -> Option<&str> {
    match arg.get_id().as_str() {
        "sources" => Some("source"),
        place @ ("source" | "destination") => Some(place),
        _ => arg.get_long(),
    }
}

fn text_of(arg: &Arg, value: &OsStr) -> Result<String, String> {
    let is_place = arg.is_positional();
    let is_somewhere = is_place || is_path(arg);
    let value = if is_somewhere && !Location::names_drive(Path::new(value)) {
        // The working folder of a later run is unknown.
        let path = std::path::absolute(value).map_err(|error| error.to_string())?;
        let keeps_slash = value.as_encoded_bytes().ends_with(b"/");
        if keeps_slash { path.join("").into_os_string() } else { path.into_os_string() }
    } else {
        OsString::from(value)
    };
    let text = value.into_string().map_err(|value| {
        let shown = names::shown(value.as_encoded_bytes());
        format!("'{shown}' is not UTF-8, as a job file must be")
    })?;
    Ok(text.replace("${", "$${"))
}

fn item_of(arg: &Arg, mut texts: Vec<String>) -> Item {
    if !arg.get_action().takes_values() {
        return true.into();
    }
    let one = if texts.len() == 1 { texts.pop() } else { None };
    match one {
        Some(text) => text.into(),
        // An option without a value is written with its default.
        None if texts.is_empty() => true.into(),
        None if matches!(arg.get_action(), ArgAction::Append) || arg.is_positional() => {
            Value::Array(texts.into_iter().collect::<Array>()).into()
        }
        None => texts.join(",").into(),
    }
}

/// Replaces the file atomically, writable by its owner only.
fn write(path: &Path, text: &str) -> io::Result<()> {
    let above = path.parent().filter(|above| !above.as_os_str().is_empty());
    let above = above.unwrap_or(Path::new("."));
    fs::create_dir_all(above)?;
    let mut new = tempfile::NamedTempFile::new_in(above)?;
    new.write_all(text.as_bytes())?;
    let mode = fs::metadata(path).map_or(0o600, |meta| meta.permissions().mode() & 0o7777);
    new.as_file().set_permissions(fs::Permissions::from_mode(mode))?;
    new.as_file().sync_all()?;
    new.persist(path)?;
    Ok(())
}
