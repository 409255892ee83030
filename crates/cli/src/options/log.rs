//! The log for people.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use anyhow::Result;
use clap::Args;
use jiff::tz::TimeZone;

use crate::context::Context;
use crate::exit::wrong_call;
use crate::location::{Location, location};
use crate::options::values;
use crate::options::values::KeepRuns;
use crate::placeholders::Placeholders;
use crate::terminal::{names, streams};

#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct Logging {
    /// Also append the output to this file, with timestamps
    ///
    /// {date}, {time}, {job}, {host} and {user} in the name are filled in; {job} is the command if it is not a job.
    /// Missing folders are created. Default: no log.
    #[arg(long, value_name = "FILE", hide_short_help = true, value_parser = location())]
    log: Option<Location>,
    /// Keep only the newest N logs, or those of the last DURATION, like 10 or 30d
    ///
    /// The name of the log must contain {date}, by which old logs are found. Default: all are kept.
    #[arg(long, value_name = "N|DURATION", requires = "log", value_parser = values::keep, hide_short_help = true)]
    log_keep: Option<KeepRuns>,
}

impl Logging {
    /// The log, if there is one.
    pub(super) fn path(&self) -> Option<PathBuf> {
        self.log.as_ref().map(Location::now)
    }

    /// Fails if old logs could not be found by their names.
    pub(super) fn check(&self) -> Result<()> {
        let has_date = |path: &PathBuf| {
            path.file_name().is_some_and(|name| name.to_string_lossy().contains("{date}"))
        };
        if self.log_keep.is_some() && !self.path().as_ref().is_some_and(has_date) {
            wrong_call!(
                "--log-keep needs {{date}} in the name of the log\n  use a name like night-{{date}}.log"
            );
        }
        Ok(())
    }

    /// Opens the log, if asked for; `command` stands for a missing job name. The error says why there is none.
    pub(super) fn open(&self, command: &str, context: &Context) -> Option<Result<File, String>> {
        let path = match self.log.as_ref()?.find() {
            Ok(path) => path,
            Err(error) => {
                let told = error.to_string();
                let why = told.lines().next().unwrap_or_default();
                return Some(Err(format!("the log cannot be written: {why}")));
            }
        };
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let job = context.job().map_or(command, |job| &*job.name);
        let now = context.began.to_zoned(TimeZone::system());
        let placeholders = Placeholders::new(job, &now);
        let filled = PathBuf::from(placeholders.fill(&path.to_string_lossy()));
        let shown = names::path(&filled);
        let file = match open(&filled) {
            Ok(file) => file,
            Err(error) => {
                let why = streams::without_error_number(&error.to_string());
                return Some(Err(format!("the log '{shown}' cannot be written: {why}")));
            }
        };
        if let Some(keep) = self.log_keep {
            let since = match keep {
                KeepRuns::Newest(_) => None,
                KeepRuns::For(duration) => Some((&now - duration).date().to_string()),
            };
            // A log that cannot be removed is tried again the next time.
            let _ = LogFamily { name, placeholders: &placeholders }.prune(
                &filled,
                keep,
                since.as_deref(),
            );
        }
        Some(Ok(file))
    }
}

fn open(path: &Path) -> io::Result<File> {
    if let Some(above) = path.parent().filter(|above| !above.as_os_str().is_empty()) {
        fs::create_dir_all(above)?;
    }
    OpenOptions::new().append(true).create(true).mode(0o600).open(path)
}

/// Logs whose names differ only in date and time.
struct LogFamily<'f> {
    name: &'f str,
    placeholders: &'f Placeholders,
}

impl LogFamily<'_> {
    /// Removes old logs from the folder of a log, never that log itself.
    fn prune(&self, own: &Path, keep: KeepRuns, since: Option<&str>) -> io::Result<()> {
        let above = own.parent().filter(|above| !above.as_os_str().is_empty());
        let above = above.unwrap_or(Path::new("."));
        let mut dated: Vec<(String, PathBuf)> = Vec::new();
        for entry in fs::read_dir(above)? {
            let entry = entry?;
            let name = entry.file_name();
            let date = name.to_str().and_then(|name| self.date_of(name));
            dated.extend(date.map(|date| (date, above.join(&name))));
        }
        dated.sort();
        let old = match keep {
            KeepRuns::Newest(count) => dated.len().saturating_sub(count),
            KeepRuns::For(_) => dated.partition_point(|(date, _)| Some(&**date) < since),
        };
        for (_, path) in
            dated.iter().take(old).filter(|(_, path)| path.file_name() != own.file_name())
        {
            fs::remove_file(path)?;
        }
        Ok(())
    }

    /// The date and time in the name of such a log.
    fn date_of(&self, name: &str) -> Option<String> {
        let mut parts = Vec::new();
        let (mut form, mut rest) = (self.name, name);
        while !form.is_empty() {
            let (marked, length) = match self.placeholders.first_of(form) {
                Some((marked @ ("{date}" | "{time}"), value)) => (marked, value.len()),
                Some((marked, value)) => {
                    rest = rest.strip_prefix(value)?;
                    (marked, 0)
                }
                None => {
                    let first = form.chars().next()?;
                    rest = rest.strip_prefix(first)?;
                    form = &form[first.len_utf8()..];
                    continue;
                }
            };
            form = &form[marked.len()..];
            let (value, after) = rest.split_at_checked(length)?;
            let is_right = value.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-');
            // Sorted by date first.
            let order = usize::from(marked != "{date}");
            parts.extend((is_right && length > 0).then(|| (order, value.to_owned())));
            if length > 0 && !is_right {
                return None;
            }
            rest = after;
        }
        parts.sort();
        let date: Vec<String> = parts.into_iter().map(|(_, value)| value).collect();
        rest.is_empty().then(|| date.join(" "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Zoned;

    #[test]
    fn logs_are_recognised_by_their_names_only() {
        let placeholders = Placeholders::new("papers", &Zoned::now());
        let family =
            LogFamily { name: "{job} at {time} of {date}.log", placeholders: &placeholders };
        let date = |name: &str| family.date_of(name);
        let own = date("papers at 23-59-01 of 2026-01-31.log");
        assert_eq!(own.as_deref(), Some("2026-01-31 23-59-01"));
        for other in [
            "shop at 23-59-01 of 2026-01-31.log",
            "papers at 23-59-01 of 2026-01-31.log.old",
            "papers at 23:59:01 of 2026-01-31.log",
            "papers at 23-59-01 of 2026-01-31",
            "papers",
            "papers at 23-59-01 of 2026-01-\u{e9}1.log",
        ] {
            assert_eq!(date(other), None, "{other}");
        }
    }
}
