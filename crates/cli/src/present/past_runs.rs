//! Runs that set something aside, for people and for programs.

use std::fmt::Write as _;
use std::io::{self, Write};
use std::path::Path;
use std::time::Duration;

use anstyle::Style;
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use serde::Serialize;
use utter_echo_core::path::TreePath;
use utter_echo_core::plan::Count;
use utter_echo_core::{Overview, Standing};

use super::{json, names, streams, units};
use crate::args::{Format, RUN_FORM};

const HEADING: Style = Style::new().bold();

/// Prints every run in the form that was asked for, or what it means that there is `none`.
pub(crate) fn past_runs(format: Format, runs: &[Overview], none: &str) -> io::Result<()> {
    let mut out = io::BufWriter::new(streams::out());
    match format {
        Format::Json => {
            for run in runs {
                serde_json::to_writer(&mut out, &Line::from(run))?;
                writeln!(out)?;
            }
        }
        Format::Text | Format::Csv if runs.is_empty() => writeln!(out, "{none}")?,
        Format::Text | Format::Csv => text(&mut out, runs)?,
    }
    out.flush()
}

/// A folder that was remembered and cannot be looked into.
pub(crate) fn passed_over(folder: &Path, error: &io::Error) {
    let shown = names::shown(folder.as_os_str().as_encoded_bytes());
    // Nobody is told if nobody can be.
    let _ = writeln!(
        streams::err(),
        "utter: '{shown}' is passed over: {error}\n  if it lies on a drive, mount that to see its runs"
    );
}

fn text(out: &mut impl Write, runs: &[Overview]) -> io::Result<()> {
    for run in runs {
        let shown = names::shown(run.path.as_os_str().as_encoded_bytes());
        writeln!(out, "{HEADING}{shown}{HEADING:#}")?;
        let room = run.room.map(|bytes| format!("; takes {}", units::bytes(bytes)));
        writeln!(out, "  {}{}{}", age(&run.name), story(run), room.unwrap_or_default())?;
    }
    let room: u64 = runs.iter().filter_map(|run| run.room).sum();
    let count = units::counted(runs.len() as u64, "run", "runs");
    writeln!(
        out,
        "{count}, {} in all\nTo take one back: utter undo RUN; to free its room: utter undo --discard RUN",
        units::bytes(room)
    )
}

/// How long ago a run began, by its name.
fn age(name: &str) -> String {
    let ago = began(name).map(|began| Timestamp::now().duration_since(began));
    match ago.and_then(|ago| Duration::try_from(ago).ok()) {
        Some(ago) if ago.as_secs() == 0 => "just now: ".to_owned(),
        Some(ago) => format!("{} ago: ", units::span(Duration::from_secs(ago.as_secs()))),
        None => String::new(),
    }
}

fn began(name: &str) -> Option<Timestamp> {
    const LENGTH: usize = "0000-00-00T00-00-00Z".len();
    let time = DateTime::strptime(RUN_FORM, name.get(..LENGTH)?).ok()?;
    time.to_zoned(TimeZone::UTC).ok().map(|zoned| zoned.timestamp())
}

fn story(run: &Overview) -> String {
    let (standing, about) = match &run.known {
        Ok(known) => known,
        Err(why) => return format!("{why}; what it set aside lies in its folder"),
    };
    let Some(about) = about else { return "never begun, nothing to take back".to_owned() };
    let place = about.destination();
    let place = names::shown(place.as_os_str().as_encoded_bytes());
    let mut story = format!("{} to {place}", about.task.name());
    for (verb, Count { entries, bytes }) in
        [("replaced", about.replaced), ("removed", about.removed)]
    {
        if entries > 0 {
            let (entries, bytes) = (units::count(entries), units::bytes(bytes));
            let _ = write!(story, ", {verb} {entries} ({bytes})");
        }
    }
    story
        + match standing {
            Standing::NeverBegun => "; never begun, nothing to take back",
            Standing::CutShort => "; cut short, or still going on",
            Standing::Complete => "",
            Standing::BeingUndone => "; not all of it is back yet",
            Standing::Undone => "; all of it is back",
        }
}

#[derive(Serialize)]
struct Line {
    kind: &'static str,
    #[serde(flatten)]
    path: json::Path,
    began: Option<String>,
    standing: &'static str,
    command: Option<&'static str>,
    #[serde(flatten)]
    destination: Option<Destination>,
    replaced: Option<json::Amount>,
    removed: Option<json::Amount>,
    bytes_on_drive: Option<u64>,
}

#[derive(Serialize)]
struct Destination {
    destination: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    destination_base64: Option<String>,
}

impl From<&Overview> for Line {
    fn from(run: &Overview) -> Self {
        let about = run.known.as_ref().ok().and_then(|(_, about)| about.as_ref());
        let standing = run.known.as_ref().map_or("unreadable", |(standing, _)| match standing {
            Standing::NeverBegun => "never-begun",
            Standing::CutShort => "cut-short",
            Standing::Complete => "complete",
            Standing::BeingUndone => "being-undone",
            Standing::Undone => "undone",
        });
        let destination = about.map(|about| {
            let place = TreePath::from(about.destination().as_os_str().as_encoded_bytes());
            let (destination, destination_base64) = json::Path::from(&place).parts();
            Destination { destination, destination_base64 }
        });
        Self {
            kind: "run",
            path: (&TreePath::from(run.path.as_os_str().as_encoded_bytes())).into(),
            began: began(&run.name).map(|began| began.to_string()),
            standing,
            command: about.map(|about| about.task.name()),
            destination,
            replaced: about.map(|about| about.replaced.into()),
            removed: about.map(|about| about.removed.into()),
            bytes_on_drive: run.room,
        }
    }
}
