//! Places: a path, or a path on a drive that is called by its name instead of its mount point.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use anyhow::Result;
use clap::builder::{PathBufValueParser, TypedValueParser};
use utter_echo_core::drives::{self, NamedDrive};
use utter_echo_core::os::Linux;

use crate::exit::{DriveMissing, WrongCall};
use crate::terminal::names;

/// Parses a place; nothing is looked up.
pub(crate) fn location() -> impl TypedValueParser<Value = Location> {
    PathBufValueParser::new().try_map(Location::read)
}

/// A path as it was typed: one that leads somewhere by itself, or one on a drive that is called by its name, like
/// `label=NAME/…` and `uuid=ID/…`. It is looked up when it is used, since the drive may be mounted by then.
#[derive(Clone, Debug)]
pub(crate) struct Location {
    typed: PathBuf,
    on: Option<DrivePath>,
}

#[derive(Clone, Debug)]
struct DrivePath {
    drive: DriveName,
    /// The path on it, without a slash at the beginning.
    below: PathBuf,
}

/// What a drive is called.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum DriveName {
    Label(String),
    Uuid(String),
}

impl Location {
    pub(crate) fn read(typed: PathBuf) -> Result<Self, String> {
        let bytes = typed.as_os_str().as_bytes();
        let (named, rest): (fn(String) -> DriveName, _) =
            match (bytes.strip_prefix(b"label="), bytes.strip_prefix(b"uuid=")) {
                (Some(rest), _) => (DriveName::Label, rest),
                (None, Some(rest)) => (DriveName::Uuid, rest),
                (None, None) => return Ok(Self { typed, on: None }),
            };
        let end = rest.iter().position(|byte| *byte == b'/').unwrap_or(rest.len());
        let (name, below) = rest.split_at(end);
        let below = below.iter().position(|byte| *byte != b'/').map_or(&[][..], |at| &below[at..]);
        let below = PathBuf::from(OsStr::from_bytes(below));
        match std::str::from_utf8(name) {
            Ok("") => {
                Err("the drive has no name here; write it like label=LANTERN/saltmere".to_owned())
            }
            Err(_) => {
                Err("the name of a drive must be UTF-8\n  name it by its UUID or its mount point"
                    .to_owned())
            }
            Ok(name) => {
                Ok(Self { on: Some(DrivePath { drive: named(name.to_owned()), below }), typed })
            }
        }
    }

    /// True for a path that begins with the name of a drive.
    pub(crate) fn names_drive(path: &Path) -> bool {
        Self::read(path.to_owned()).map_or(true, |location| location.on.is_some())
    }

    /// As it was typed.
    pub(crate) fn typed(&self) -> &Path {
        &self.typed
    }

    /// The drive that it names.
    pub(crate) fn drive(&self) -> Option<&DriveName> {
        self.on.as_ref().map(|on| &on.drive)
    }

    /// Its path, if its drive is mounted now.
    pub(crate) fn find(&self) -> Result<PathBuf> {
        let Some(DrivePath { drive, below }) = &self.on else { return Ok(self.typed.clone()) };
        let mounted_at = drive.find(&self.typed)?;
        // An empty rest would add a slash, which would change the meaning.
        let is_top = below.as_os_str().is_empty();
        Ok(if is_top { mounted_at } else { mounted_at.join(below) })
    }

    /// Its path as far as it is known now, to be shown.
    pub(crate) fn now(&self) -> PathBuf {
        self.find().unwrap_or_else(|_| self.typed.clone())
    }
}

impl DriveName {
    /// The label or UUID itself.
    pub(crate) fn text(&self) -> &str {
        match self {
            Self::Label(name) | Self::Uuid(name) => name,
        }
    }

    /// As `mount` takes it.
    pub(crate) fn for_mount(&self) -> OsString {
        match self {
            Self::Label(label) => format!("LABEL={label}").into(),
            Self::Uuid(uuid) => format!("UUID={uuid}").into(),
        }
    }

    /// Where a drive of that name, or a part of it, is mounted.
    pub(crate) fn mounted_at(&self) -> Option<PathBuf> {
        let all = drives::named(&Linux).unwrap_or_default();
        all.into_iter().find(|drive| self.is_of(drive)).map(|drive| drive.mounted_at)
    }

    fn is_of(&self, drive: &NamedDrive) -> bool {
        match self {
            Self::Label(label) => drive.label.as_ref() == Some(label),
            Self::Uuid(uuid) => {
                drive.uuid.as_ref().is_some_and(|known| known.eq_ignore_ascii_case(uuid))
            }
        }
    }

    /// Where all of the drive is mounted. `typed` is the place that names it.
    fn find(&self, typed: &Path) -> Result<PathBuf> {
        let all = drives::named(&Linux).unwrap_or_default();
        let fitting: Vec<&NamedDrive> = all.iter().filter(|drive| self.is_of(drive)).collect();
        let what = match self {
            Self::Label(label) => format!("the label '{}'", names::shown(label.as_bytes())),
            Self::Uuid(uuid) => format!("the UUID '{}'", names::shown(uuid.as_bytes())),
        };
        let lines = |what: String, listed: &[&NamedDrive], advice: &str| {
            let listed = listed.iter().map(|drive| described(drive));
            let all = [what].into_iter().chain(listed).chain([advice.to_owned()]);
            all.collect::<Vec<_>>().join("\n  ")
        };
        match &*fitting {
            [drive] if drive.is_whole => Ok(drive.mounted_at.clone()),
            [part] => {
                let what = format!("only a part of the drive with {what} is mounted");
                let advice = "name its mount point, or mount the whole drive; nothing was touched";
                Err(DriveMissing(lines(what, &[part], advice)).into())
            }
            [] => {
                let what = format!("no mounted drive has {what}");
                let advice = format!(
                    "mount it, or write './{}' for a folder of that name; nothing was touched",
                    names::path(typed)
                );
                let all: Vec<&NamedDrive> = all.iter().collect();
                Err(DriveMissing(lines(what, &all, &advice)).into())
            }
            several => {
                let what = format!("several drives have {what}");
                let advice = "name one of them by its UUID or its mount point";
                Err(WrongCall(lines(what, several, advice)).into())
            }
        }
    }
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
        let parts = |path: &str| {
            let on = Location::read(path.into()).unwrap().on?;
            Some((on.drive.for_mount(), on.below.to_str().unwrap().to_owned()))
        };
        let on = |drive: &str, below: &str| Some((drive.into(), below.to_owned()));
        assert_eq!(parts("label=LANTERN/salt/mere"), on("LABEL=LANTERN", "salt/mere"));
        assert_eq!(parts("uuid=12-34//x"), on("UUID=12-34", "x"));
        assert_eq!(parts("label=LANTERN"), on("LABEL=LANTERN", ""));
        assert_eq!(parts("label=L/x/"), on("LABEL=L", "x/"));
        assert_eq!(parts("./label=LANTERN/x"), None);
        assert_eq!(parts("/label=LANTERN"), None);
        assert!(Location::read("label=/x".into()).is_err());
    }

    #[test]
    fn an_unknown_drive_is_missing_and_the_mounted_ones_are_listed() {
        let found = |path: &str| Location::read(path.into()).unwrap().find();
        let missing = found("label=no such drive/x").unwrap_err();
        let told = missing.to_string();
        assert!(missing.is::<DriveMissing>());
        assert!(told.starts_with("no mounted drive has the label 'no such drive'\n"), "{told}");
        let advice =
            "write './label=no such drive/x' for a folder of that name; nothing was touched";
        assert!(told.ends_with(advice), "{told}");
        assert_eq!(found("plain/x").unwrap(), Path::new("plain/x"));
    }
}
