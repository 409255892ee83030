//! Paths that begin with the name of a drive instead of its mount point.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use clap::builder::{PathBufValueParser, TypedValueParser};
use utter_echo_core::drives::{self, NamedDrive};
use utter_echo_core::os::Linux;

use crate::terminal::names;

/// Parses a path; `label=NAME/…` and `uuid=ID/…` are on the drive of that name.
pub(crate) fn path() -> impl TypedValueParser<Value = PathBuf> {
    PathBufValueParser::new().try_map(found)
}

/// True for a path that begins with the name of a drive.
pub(crate) fn begins_with_drive(path: &Path) -> bool {
    split(path).is_some()
}

/// A way to name a drive.
#[derive(Clone, Copy)]
enum NamedPlace {
    Label,
    Uuid,
}

/// The way of naming, the name, and the path on the drive.
fn split(path: &Path) -> Option<(NamedPlace, &OsStr, &Path)> {
    let bytes = path.as_os_str().as_bytes();
    let (by, rest) = match (bytes.strip_prefix(b"label="), bytes.strip_prefix(b"uuid=")) {
        (Some(rest), _) => (NamedPlace::Label, rest),
        (None, Some(rest)) => (NamedPlace::Uuid, rest),
        (None, None) => return None,
    };
    let end = rest.iter().position(|byte| *byte == b'/').unwrap_or(rest.len());
    let (name, below) = rest.split_at(end);
    let below = below.iter().position(|byte| *byte != b'/').map_or(&[][..], |at| &below[at..]);
    Some((by, OsStr::from_bytes(name), Path::new(OsStr::from_bytes(below))))
}

/// The drives in the arguments of a call that are not mounted, in the form that `mount` takes.
pub(crate) fn drives_named_in(words: &[OsString]) -> Vec<OsString> {
    let all = drives::named(&Linux).unwrap_or_default();
    let mut named = Vec::new();
    for word in words {
        let bytes = word.as_bytes();
        let value = bytes.strip_prefix(b"--").and_then(|option| {
            let at = option.iter().position(|byte| *byte == b'=')?;
            Some(&option[at + 1..])
        });
        let value = Path::new(OsStr::from_bytes(value.unwrap_or(bytes)));
        let Some((by, name, _)) = split(value).filter(|(_, name, _)| !name.is_empty()) else {
            continue;
        };
        let mut drive = OsString::from(match by {
            NamedPlace::Label => "LABEL=",
            NamedPlace::Uuid => "UUID=",
        });
        drive.push(name);
        if !all.iter().any(|one| is_called(one, by, name)) && !named.contains(&drive) {
            named.push(drive);
        }
    }
    named
}

fn is_called(drive: &NamedDrive, by: NamedPlace, name: &OsStr) -> bool {
    match by {
        NamedPlace::Label => drive.label.as_deref().is_some_and(|label| OsStr::new(label) == name),
        NamedPlace::Uuid => {
            drive.uuid.as_deref().is_some_and(|uuid| name.eq_ignore_ascii_case(uuid))
        }
    }
}

pub(super) fn found(path: PathBuf) -> Result<PathBuf, String> {
    let Some((by, name, below)) = split(&path) else { return Ok(path) };
    let all = drives::named(&Linux).unwrap_or_default();
    let fitting: Vec<&NamedDrive> = all.iter().filter(|drive| is_called(drive, by, name)).collect();
    if let [drive] = &*fitting {
        // An empty rest would add a slash, which would change the meaning.
        let is_top = below.as_os_str().is_empty();
        return Ok(if is_top { drive.mounted_at.clone() } else { drive.mounted_at.join(below) });
    }
    if name.is_empty() {
        return Err("the drive has no name here; write it like label=LANTERN/saltmere".to_owned());
    }
    let shown = names::shown(name.as_bytes());
    let what = match by {
        NamedPlace::Label => "label",
        NamedPlace::Uuid => "UUID",
    };
    let (what, listed, advice) = if fitting.is_empty() {
        let folder = names::path(&path);
        let advice = format!("mount it, or write './{folder}' for a folder of that name");
        (format!("no mounted drive has the {what} '{shown}'"), all.iter().collect(), advice)
    } else {
        let advice = "name one of them by its UUID or its mount point".to_owned();
        (format!("several drives have the {what} '{shown}'"), fitting, advice)
    };
    let lines = [what].into_iter().chain(listed.into_iter().map(described)).chain([advice]);
    Err(lines.collect::<Vec<_>>().join("\n  "))
}

fn described(drive: &NamedDrive) -> String {
    let label =
        drive.label.as_ref().map(|label| format!("label={}", names::shown(label.as_bytes())));
    let uuid = drive.uuid.as_ref().map(|uuid| format!("uuid={uuid}"));
    let all: Vec<String> = label.into_iter().chain(uuid).collect();
    format!("{} is at {}", all.join(", "), names::path(&drive.mounted_at))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_drive_is_separated_from_the_path_on_it() {
        let parts = |path: &'static str| {
            split(Path::new(path)).map(|(_, name, below)| (name.to_str(), below.to_str()))
        };
        assert_eq!(parts("label=LANTERN/salt/mere"), Some((Some("LANTERN"), Some("salt/mere"))));
        assert_eq!(parts("uuid=12-34//x"), Some((Some("12-34"), Some("x"))));
        assert_eq!(parts("label=LANTERN"), Some((Some("LANTERN"), Some(""))));
        assert_eq!(parts("label=L/x/"), Some((Some("L"), Some("x/"))));
        assert_eq!(parts("./label=LANTERN/x"), None);
        assert_eq!(parts("/label=LANTERN"), None);
    }

    #[test]
    fn an_unknown_drive_is_refused_with_a_list_of_the_mounted_ones() {
        let told = found("label=no such drive/x".into()).unwrap_err();
        assert!(told.starts_with("no mounted drive has the label 'no such drive'\n"), "{told}");
        assert!(
            told.ends_with("write './label=no such drive/x' for a folder of that name"),
            "{told}"
        );
        assert_eq!(found("plain/x".into()).unwrap(), Path::new("plain/x"));
    }
}
