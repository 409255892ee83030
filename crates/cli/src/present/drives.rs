//! Mounted drives, for people and for programs.

use std::io::{self, Write};

use anstyle::Style;
use serde::Serialize;
use utter_echo_core::abilities::{Abilities, Ability, Folding, Letters};
use utter_echo_core::drives::Drive;

use super::{names, streams, units, words};
use crate::args::Format;

const HEADING: Style = Style::new().bold();
const FAINT: Style = Style::new().dimmed();

/// Prints every drive in the form that was asked for.
pub(crate) fn drives(drives: &[Drive], format: Format) -> io::Result<()> {
    let mut out = io::BufWriter::new(streams::out());
    for (at, drive) in drives.iter().enumerate() {
        match format {
            Format::Json => {
                serde_json::to_writer(&mut out, &Line::from(drive))?;
                writeln!(out)?;
            }
            Format::Text | Format::Csv => {
                if at > 0 {
                    writeln!(out)?;
                }
                text(&mut out, drive)?;
            }
        }
    }
    out.flush()
}

fn text(out: &mut impl Write, drive: &Drive) -> io::Result<()> {
    let shown = |path: &std::path::Path| names::shown(path.as_os_str().as_encoded_bytes());
    let label =
        drive.label.as_ref().map(|label| format!(" \"{}\"", names::shown(label.as_bytes())));
    writeln!(out, "{HEADING}{}{HEADING:#}{}", shown(&drive.mounted_at), label.unwrap_or_default())?;
    let id = drive.uuid.as_ref().map(|uuid| format!(", {uuid}")).unwrap_or_default();
    let kind = names::shown(drive.kind.as_bytes());
    writeln!(out, "  {FAINT}what{FAINT:#}   {kind} on {}{id}", shown(&drive.device))?;
    let (free, total) = (units::bytes(drive.space.bytes), units::bytes(drive.space.total));
    writeln!(out, "  {FAINT}room{FAINT:#}   {free} free of {total}")?;
    let Some(abilities) = &drive.abilities else {
        let why =
            if drive.writable { "it could not be tried out" } else { "it is mounted read-only" };
        return writeln!(out, "  {FAINT}holds{FAINT:#}  not known: {why}");
    };
    let (held, lacking): (Vec<_>, Vec<_>) =
        shown_abilities().partition(|ability| abilities.holds(*ability));
    // Those that root alone can set are worth a word only where they are apart from the users'.
    let apart = |ability: &Ability| {
        let for_root = matches!(ability, Ability::TrustedXattrs | Ability::SecurityXattrs);
        !for_root || abilities.holds(*ability) != abilities.holds(Ability::UserXattrs)
    };
    let worded = |abilities: Vec<Ability>| {
        abilities.into_iter().filter(apart).filter_map(|a| Some(words_of(a)?.0)).collect::<Vec<_>>()
    };
    let (mut held, mut lacking) = (worded(held), worded(lacking));
    if abilities.flags.is_empty() { &mut lacking } else { &mut held }.push("flags");
    if !held.is_empty() {
        writeln!(out, "  {FAINT}holds{FAINT:#}  {}", held.join(", "))?;
    }
    if !lacking.is_empty() {
        writeln!(out, "  {FAINT}lacks{FAINT:#}  {}", lacking.join(", "))?;
    }
    writeln!(out, "  {FAINT}times{FAINT:#}  to {}", words::grain(abilities.grain))?;
    let limits = limits(abilities);
    if !limits.is_empty() {
        writeln!(out, "  {FAINT}names{FAINT:#}  {}", limits.join(", "))?;
    }
    Ok(())
}

fn shown_abilities() -> impl Iterator<Item = Ability> {
    Ability::ALL.into_iter().filter(|ability| !ability.is_inner())
}

/// The word for people and the stable one for programs; none for what is not shown.
fn words_of(ability: Ability) -> Option<(&'static str, &'static str)> {
    Some(match ability {
        Ability::Links => ("links", "links"),
        Ability::Hardlinks => ("hard links", "hardlinks"),
        Ability::Fifos => ("FIFOs and sockets", "fifos"),
        Ability::Devices => ("devices", "devices"),
        Ability::Modes => ("modes", "mode"),
        Ability::Owners => ("owners", "owner"),
        Ability::Acl => ("access lists", "acl"),
        Ability::UserXattrs => ("extended attributes", "user-xattr"),
        Ability::TrustedXattrs => ("trusted attributes", "trusted-xattr"),
        Ability::SecurityXattrs => ("security attributes", "security-xattr"),
        Ability::Holes => ("holes", "holes"),
        Ability::Sharing => ("shared content", "sharing"),
        _ => return None,
    })
}

fn limits(abilities: &Abilities) -> Vec<String> {
    let names = &abilities.names;
    let mut limits = Vec::new();
    if names.folding != Folding::Never {
        limits.push("large and small letters are the same".to_owned());
    }
    if !names.forbidden.is_empty() {
        let characters: Vec<_> = names.forbidden.iter().map(char::to_string).collect();
        limits.push(format!("none with {}", characters.join(" ")));
    }
    if names.no_control {
        limits.push("no control characters".to_owned());
    }
    match names.letters {
        Letters::Any => {}
        Letters::Utf8 => limits.push("only UTF-8".to_owned()),
        Letters::Ascii => limits.push("only ASCII".to_owned()),
    }
    if names.firm_end {
        limits.push("no dot or space at the end".to_owned());
    }
    if let Some(bytes) = abilities.largest_file {
        limits.push(format!("no file over {}", units::bytes(bytes)));
    }
    limits
}

#[derive(Serialize)]
struct Line<'a> {
    kind: &'static str,
    mounted_at: String,
    device: String,
    #[serde(rename = "type")]
    file_system: &'a str,
    label: Option<&'a str>,
    uuid: Option<&'a str>,
    bytes: u64,
    bytes_free: u64,
    writable: bool,
    holds: Option<Holds>,
}

#[derive(Serialize)]
struct Holds {
    abilities: Vec<&'static str>,
    flags: Vec<&'static str>,
    time_grain_nanoseconds: u64,
    forbidden_in_names: Vec<char>,
    names_no_control: bool,
    names_letters: &'static str,
    names_firm_end: bool,
    names_fold_case: bool,
    largest_file: Option<u64>,
}

impl<'a> From<&'a Drive> for Line<'a> {
    fn from(drive: &'a Drive) -> Self {
        Self {
            kind: "drive",
            mounted_at: drive.mounted_at.to_string_lossy().into_owned(),
            device: drive.device.to_string_lossy().into_owned(),
            file_system: &drive.kind,
            label: drive.label.as_deref(),
            uuid: drive.uuid.as_deref(),
            bytes: drive.space.total,
            bytes_free: drive.space.bytes,
            writable: drive.writable,
            holds: drive.abilities.as_ref().map(Holds::from),
        }
    }
}

impl From<&Abilities> for Holds {
    fn from(abilities: &Abilities) -> Self {
        let held = shown_abilities().filter(|ability| abilities.holds(*ability));
        Self {
            abilities: held.filter_map(|ability| Some(words_of(ability)?.1)).collect(),
            flags: abilities.flags.names().collect(),
            time_grain_nanoseconds: abilities.grain,
            forbidden_in_names: abilities.names.forbidden.clone(),
            names_no_control: abilities.names.no_control,
            names_letters: match abilities.names.letters {
                Letters::Any => "any",
                Letters::Utf8 => "utf-8",
                Letters::Ascii => "ascii",
            },
            names_firm_end: abilities.names.firm_end,
            names_fold_case: abilities.names.folding != Folding::Never,
            largest_file: abilities.largest_file,
        }
    }
}
