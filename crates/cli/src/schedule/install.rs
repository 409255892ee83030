//! Installing units for systemd, and lines in the table of cron.

use std::fs;
use std::io::{self, ErrorKind, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use tempfile::NamedTempFile;

use crate::exit::WrongCall;
use crate::schedule::systemd::{MARK, Unit, UnitKind};
use crate::terminal::names;
use crate::user_folders::config_folder;

/// The systemd of the machine, or the user's own.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Manager {
    Machine,
    User,
}

/// What failed, with what to do next.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotInstalled {
    #[error("'{}' already exists, and 'utter schedule' did not write it; nothing was changed\n  move it away, or give the job another name", names::path(.0))]
    Foreign(PathBuf),
    #[error("cannot write '{}': {}", names::path(.0), .1)]
    Unwritable(PathBuf, io::Error),
    #[error("the units are in '{}', but '{}' {}\n  run that command again once the cause is fixed", names::path(.0), .1, .2)]
    NotStarted(PathBuf, String, String),
    #[error("nothing is scheduled for this job in '{}'", names::path(.0))]
    NotThere(PathBuf),
    #[error("'crontab' {0}; nothing was changed\n  install cron, or leave out --cron")]
    NoCron(String),
}

impl NotInstalled {
    /// As the error of the command: a wrong call if nothing was changed.
    pub(crate) fn into_error(self) -> anyhow::Error {
        match self {
            Self::Foreign(_) | Self::NotThere(_) | Self::NoCron(_) => {
                WrongCall(self.to_string()).into()
            }
            Self::Unwritable(..) | Self::NotStarted(..) => self.into(),
        }
    }
}

impl Manager {
    pub(crate) fn of_caller() -> Self {
        if rustix::process::geteuid().is_root() { Self::Machine } else { Self::User }
    }

    /// The folder of its units.
    pub(crate) fn folder(self) -> Option<PathBuf> {
        match self {
            Self::Machine => Some(PathBuf::from("/etc/systemd/system")),
            Self::User => Some(config_folder()?.join("systemd/user")),
        }
    }

    /// Writes units to their folder, and enables the last of them.
    pub(crate) fn install(
        self,
        folder: &Path,
        units: &[Unit],
        starts: bool,
    ) -> Result<(), NotInstalled> {
        for unit in units {
            refuse_foreign(&folder.join(&unit.name))?;
        }
        for unit in units {
            let path = folder.join(&unit.name);
            write(folder, unit).map_err(|error| NotInstalled::Unwritable(path, error))?;
        }
        let Some(last) = units.last().filter(|_| starts) else { return Ok(()) };
        self.call(folder, &["daemon-reload"])?;
        // A service starts with its mount, a timer at once.
        let words: &[&str] = match last.kind {
            UnitKind::Timer => &["enable", "--now", &last.name],
            UnitKind::Service => &["enable", &last.name],
        };
        self.call(folder, words)
    }

    /// Stops and removes the existing units of a job.
    pub(crate) fn remove(self, folder: &Path, name: &str, stops: bool) -> Result<(), NotInstalled> {
        let all = [format!("{name}.timer"), format!("{name}.service")];
        let there: Vec<&String> = all.iter().filter(|unit| folder.join(unit).exists()).collect();
        if there.is_empty() {
            return Err(NotInstalled::NotThere(folder.to_owned()));
        }
        for unit in &there {
            refuse_foreign(&folder.join(unit))?;
        }
        let stopped =
            if stops { self.call(folder, &["disable", "--now", there[0]]) } else { Ok(()) };
        for unit in there {
            let path = folder.join(unit);
            fs::remove_file(&path).map_err(|error| NotInstalled::Unwritable(path, error))?;
        }
        stopped?;
        if stops { self.call(folder, &["daemon-reload"]) } else { Ok(()) }
    }

    fn call(self, folder: &Path, words: &[&str]) -> Result<(), NotInstalled> {
        let own: &[&str] = match self {
            Self::Machine => &[],
            Self::User => &["--user"],
        };
        let line =
            ["systemctl"].iter().chain(own).chain(words).copied().collect::<Vec<_>>().join(" ");
        let failed = |why| NotInstalled::NotStarted(folder.to_owned(), line.clone(), why);
        match Command::new("systemctl").args(own).args(words).stdin(Stdio::null()).output() {
            Ok(output) if output.status.success() => Ok(()),
            Ok(output) => {
                let told = String::from_utf8_lossy(&output.stderr);
                let told = told.lines().next().unwrap_or_default().trim().to_owned();
                Err(failed(format!("failed: {told}")))
            }
            Err(error) => Err(failed(format!("cannot be run: {error}"))),
        }
    }
}

fn refuse_foreign(path: &Path) -> Result<(), NotInstalled> {
    match fs::read_to_string(path) {
        Ok(text) if text.starts_with(MARK) => Ok(()),
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(()),
        _ => Err(NotInstalled::Foreign(path.to_owned())),
    }
}

fn write(folder: &Path, unit: &Unit) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    let mut file = NamedTempFile::new_in(folder)?;
    file.write_all(unit.text.as_bytes())?;
    file.as_file().set_permissions(fs::Permissions::from_mode(0o644))?;
    file.persist(folder.join(&unit.name))?;
    Ok(())
}

/// Replaces the user's table of cron by the result of `change`.
pub(crate) fn change_table(change: impl FnOnce(&str) -> String) -> Result<(), NotInstalled> {
    let no_cron = |error: io::Error| NotInstalled::NoCron(format!("cannot be run: {error}"));
    let listed =
        Command::new("crontab").arg("-l").stdin(Stdio::null()).output().map_err(no_cron)?;
    // Listing fails if there is no table.
    let table = if listed.status.success() { listed.stdout } else { Vec::new() };
    let told = String::from_utf8_lossy(&listed.stderr).to_lowercase();
    if !listed.status.success() && !told.contains("no crontab") {
        return Err(NotInstalled::NoCron(format!("failed: {}", told.trim())));
    }
    let table = String::from_utf8(table)
        .map_err(|_| NotInstalled::NoCron("has lines that are not UTF-8".to_owned()))?;
    let mut writing =
        Command::new("crontab").arg("-").stdin(Stdio::piped()).spawn().map_err(no_cron)?;
    if let Some(mut stdin) = writing.stdin.take() {
        stdin.write_all(change(&table).as_bytes()).map_err(no_cron)?;
    }
    match writing.wait().map_err(no_cron)? {
        status if status.success() => Ok(()),
        status => Err(NotInstalled::NoCron(format!("failed: {status}"))),
    }
}
