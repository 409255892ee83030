//! Turning the keys of a job into arguments.

use std::any::TypeId;
use std::ffi::OsString;
use std::ops::Range;
use std::path::{Path, PathBuf};

use clap::{Arg, ArgAction, Command};
use toml_edit::{Item, Value};

use crate::exit::WrongCall;
use crate::location::Location;

use crate::jobs::spot::{Source, nearest};

/// Keys of a job that are not options.
pub(super) const OWN: [&str; 10] = [
    "description",
    "at",
    "command",
    "source",
    "destination",
    "pairs",
    "enabled",
    "tags",
    "then",
    DESTINATION_SHARED,
];
pub(super) const DESTINATION_SHARED: &str = "shares-destination";

/// A key, its value, and their positions.
pub(super) struct Setting<'f> {
    pub(super) key: &'f str,
    pub(super) at: Range<usize>,
    pub(super) value: &'f Item,
}

impl Setting<'_> {
    /// The position of the value.
    pub(super) fn value_at(&self) -> Range<usize> {
        self.value.span().unwrap_or_else(|| self.at.clone())
    }
}

/// Expands the names in a value at these bytes of the file.
pub(super) type Expand<'e> = dyn Fn((&str, &Range<usize>)) -> Result<String, WrongCall> + 'e;

/// The option of a key.
pub(super) fn option<'c>(command: &'c Command, key: &str) -> Option<&'c Arg> {
    command.get_arguments().find(|arg| arg.get_long() == Some(key) && !asks_for_help(arg))
}

fn asks_for_help(arg: &Arg) -> bool {
    let action = arg.get_action();
    matches!(
        action,
        ArgAction::Help | ArgAction::HelpShort | ArgAction::HelpLong | ArgAction::Version
    )
}

/// The arguments of one option; `expand` expands names in its values.
pub(super) fn words_of(
    source: &Source,
    folder: &Path,
    setting: &Setting<'_>,
    arg: &Arg,
    expand: &Expand<'_>,
) -> Result<Vec<OsString>, WrongCall> {
    let (key, at) = (setting.key, setting.value_at());
    let values = match setting.value {
        Item::Value(Value::Array(several)) => several.iter().collect(),
        Item::Value(one) => vec![one],
        _ => {
            let advice = "write key = value, or move the table to another place";
            return Err(source.wrong(&setting.at, &format!("'{key}' is not a table"), advice));
        }
    };
    let takes_value = arg.get_action().takes_values();
    let is_alone_enough = arg.get_num_args().is_some_and(|count| count.min_values() == 0);
    let is_list = matches!(setting.value, Item::Value(Value::Array(_)));
    if is_list && !matches!(arg.get_action(), ArgAction::Append) {
        let what = format!("'{key}' takes one value, not a list");
        return Err(source.wrong(&at, &what, "remove the brackets"));
    }
    let mut words = Vec::new();
    for value in values {
        let at = value.span().unwrap_or_else(|| at.clone());
        let word = match value {
            Value::Boolean(on) if !takes_value || is_alone_enough => {
                if *on.value() {
                    words.push(format!("--{key}").into());
                }
                continue;
            }
            Value::String(text) if takes_value => expand((text.value(), &at))?,
            Value::Integer(number) if takes_value => number.value().to_string(),
            Value::Float(number) if takes_value => number.value().to_string(),
            Value::Datetime(time) if takes_value => time.value().to_string(),
            _ if !takes_value => {
                let what = format!("'{key}' is either true or false");
                return Err(source.wrong(&at, &what, &format!("write {key} = true")));
            }
            _ => {
                let what = format!("'{key}' takes a text or a number");
                let example = arg.get_value_names().and_then(|names| names.first());
                let example = example.map_or_else(|| "…".to_owned(), ToString::to_string);
                let advice = format!("write it like {key} = \"{example}\"");
                return Err(source.wrong(&at, &what, &advice));
            }
        };
        let mut whole = OsString::from(format!("--{key}="));
        whole.push(if is_path(arg) { path_in(folder, &word).into() } else { OsString::from(word) });
        words.push(whole);
    }
    Ok(words)
}

/// True for an option that takes a path.
pub(super) fn is_path(arg: &Arg) -> bool {
    arg.get_value_parser().type_id() == TypeId::of::<Location>()
}

/// A path in a job file: `~` is the home folder, and relative paths start at the folder of the file.
pub(super) fn path_in(folder: &Path, text: &str) -> PathBuf {
    if Location::names_drive(Path::new(text)) {
        return PathBuf::from(text);
    }
    let home = || std::env::var_os("HOME").map(PathBuf::from);
    let below_home = match text.strip_prefix('~') {
        Some("") => home(),
        Some(rest) => rest.strip_prefix('/').and_then(|rest| Some(home()?.join(rest))),
        None => None,
    };
    below_home.unwrap_or_else(|| folder.join(text))
}

/// Unknown option, of a command or of all.
pub(super) fn unknown(
    source: &Source,
    setting: &Setting<'_>,
    command: Option<&Command>,
) -> WrongCall {
    let whose = command
        .map_or_else(|| "jobs".to_owned(), |command| format!("'utter {}'", command.get_name()));
    let what = format!("'{}' is not an option of {whose}", setting.key);
    let options = command.into_iter().flat_map(Command::get_arguments).filter_map(Arg::get_long);
    let advice = match command {
        Some(command) => format!("'utter {} --help' lists the options", command.get_name()),
        None => "'utter help job-file' shows the settings of a job".to_owned(),
    };
    source.wrong(&setting.at, &what, &nearest(setting.key, options.chain(OWN), &advice))
}
