//! The record of a run that sets aside: written line by line, read back to undo the run.

use std::collections::HashMap;
use std::io::{self, BufRead, ErrorKind, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use serde::{Deserialize, Serialize};

use crate::bytes::Bytes;
use crate::os::{System, Time, is_unsupported};
use crate::plan::Plan;
use crate::problem::Cause;
use crate::saved::{self, BadPlan, Purpose};
use crate::state::{Before, State};
use crate::tree::Listing;

use super::{RECORD, prune};

/// What follows the saved plan.
#[derive(Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub(super) enum Line {
    /// Where the parts of the plan lie.
    Run { parts: Vec<Root> },
    /// An entry is about to change.
    Before {
        part: usize,
        path: Bytes,
        #[serde(flatten)]
        was: Before,
    },
    /// A step was done, and this is what it left.
    After { part: usize, path: Bytes, state: State },
}

/// The root folder of a part.
#[derive(Serialize, Deserialize)]
pub(super) struct Root {
    /// In the destination, as an absolute path.
    pub(super) folder: Bytes,
    /// In the folder of the run.
    pub(super) prefix: Bytes,
    /// What identifies the drive it lies on, as far as that can be found out.
    pub(super) drive: Option<String>,
    /// Its inode number, if it was there and its drive's numbers last.
    pub(super) inode: Option<u64>,
    /// How many of the last folders of its path the run makes.
    pub(super) made: usize,
    /// The time of the folder that it goes into with others, where that is to change for it alone.
    pub(super) above: Option<Time>,
}

/// A file that lines are added to, from any worker. They are written out together: what gates a deed is
/// flushed before it, and what a step left can be told without its line, if that is lost with the run.
pub(super) struct Record<'a> {
    system: &'a dyn System,
    file: OwnedFd,
    lines: Mutex<Lines>,
}

/// What is not written out yet, and where it goes.
#[derive(Default)]
struct Lines {
    end: u64,
    waiting: Vec<u8>,
}

/// Written out at a time.
const STRETCH: usize = 64 * 1024;

impl<'a> Record<'a> {
    pub(super) fn new(system: &'a dyn System, file: OwnedFd) -> Self {
        Self { system, file, lines: Mutex::default() }
    }

    fn lines(&self) -> MutexGuard<'_, Lines> {
        self.lines.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn write_out(&self) -> io::Result<()> {
        self.write_lines(&mut self.lines())
    }

    fn write_lines(&self, lines: &mut Lines) -> io::Result<()> {
        self.system.write_at(self.file.as_fd(), &lines.waiting, lines.end)?;
        lines.end += lines.waiting.len() as u64;
        lines.waiting.clear();
        Ok(())
    }

    pub(super) fn flush_to_drive(&self) -> io::Result<()> {
        self.write_out()?;
        match self.system.flush_file(self.file.as_fd()) {
            Err(e) if is_unsupported(&e) => Ok(()),
            other => other,
        }
    }

    pub(super) fn add(&self, line: &Line) -> io::Result<()> {
        let mut text = serde_json::to_vec(line)?;
        text.push(b'\n');
        (&*self).write_all(&text)
    }
}

impl Write for &Record<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut lines = self.lines();
        lines.waiting.extend_from_slice(bytes);
        if lines.waiting.len() >= STRETCH {
            self.write_lines(&mut lines)?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.write_out()
    }
}

/// Why a run cannot be undone at all.
#[derive(Debug, thiserror::Error)]
pub enum BadRecord {
    /// There is nothing like that.
    #[error("'{path}' is no run that was set aside: {cause}{}", hint(.runs))]
    NoRun {
        /// As the user named it.
        path: String,
        /// Why.
        cause: Cause,
        /// The runs that this folder holds, the newest last.
        runs: Vec<String>,
    },
    /// The run was killed before it was ready to change anything.
    #[error(
        "'{0}' was never begun: its run was killed before it touched anything, so there is nothing to undo\n  its folder and its record can be removed"
    )]
    NeverBegun(String),
    /// The saved plan at its beginning is not whole.
    #[error(
        "the record of '{0}' is damaged\n  what the run set aside lies in its folder, under the paths it had"
    )]
    Plan(String, BadPlan),
    /// What follows the plan is not whole.
    #[error("the record of '{path}' is damaged: line {line} after the plan: {cause}")]
    Line {
        /// As the user named it.
        path: String,
        /// Counted from 1.
        line: usize,
        /// What is wrong.
        cause: String,
    },
}

/// What to name instead: the runs that the folder holds, the newest first, as far as anybody reads on.
fn hint(runs: &[String]) -> String {
    const SHOWN: usize = 10;
    if runs.is_empty() {
        return "\n  name a folder that --set-aside made for one run".to_owned();
    }
    let newest: Vec<String> =
        runs.iter().rev().take(SHOWN).map(|run| format!("\n    {run}")).collect();
    let more = runs.len().saturating_sub(SHOWN);
    let more = if more > 0 { format!("\n    and {more} older ones") } else { String::new() };
    let count = if runs.len() == 1 { "one run" } else { "these runs, the newest first" };
    format!("\n  it holds {count}; name the one to undo:{}{more}", newest.concat())
}

/// A run as its record tells it.
#[derive(Debug)]
pub struct Recorded {
    /// What the run was for.
    pub purpose: Purpose,
    /// The folder of the run, as the user named it.
    pub path: PathBuf,
    pub(super) above: OwnedFd,
    pub(super) name: String,
    pub(super) folder: OwnedFd,
    pub(super) plan: Plan,
    pub(super) parts: Vec<RecordedPart>,
}

/// What is known of one part of the plan.
#[derive(Debug)]
pub(super) struct RecordedPart {
    pub(super) root: PathBuf,
    pub(super) drive: Option<String>,
    pub(super) inode: Option<u64>,
    pub(super) made: usize,
    pub(super) above: Option<Time>,
    pub(super) prefix: Vec<u8>,
    pub(super) before: HashMap<Vec<u8>, Before>,
    pub(super) after: HashMap<Vec<u8>, State>,
}

impl Recorded {
    /// Reads the record of the run whose folder, or record, lies at `path`. Changes nothing, but that the
    /// folder of a run of which only the record is left is made anew.
    pub fn open(system: &dyn System, path: &Path) -> Result<Self, BadRecord> {
        let shown = || path.to_string_lossy().into_owned();
        let missing = |cause: io::Error| BadRecord::NoRun {
            path: shown(),
            cause: cause.into(),
            runs: runs_below(system, path),
        };
        let given = path.file_name().ok_or_else(|| missing(ErrorKind::NotFound.into()))?;
        let name = given.to_str().ok_or_else(|| missing(ErrorKind::NotFound.into()))?;
        let name = name.strip_suffix(RECORD).unwrap_or(name).to_owned();
        let folder = path.parent().filter(|parent| !parent.as_os_str().is_empty());
        let above = system.open_root(folder.unwrap_or(Path::new("."))).map_err(missing)?;
        let record = format!("{name}{RECORD}");
        let file = system.open_file(above.as_fd(), record.as_bytes()).map_err(missing)?;
        let text = read_all(system, file.as_fd()).map_err(missing)?;
        // Of a run that was killed the last line may be cut short: what it tells of was not done.
        let whole = text.iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
        let opened = system.open_folder(above.as_fd(), name.as_bytes());
        if !is_begun(&text[..whole]) {
            // What lies in the folder of a run whose record was cut short may be the last of its kind.
            let holds_nothing = match &opened {
                Ok(folder) => Listing::read(system, folder.as_fd()).is_ok_and(|all| all.len() == 0),
                Err(error) => error.kind() == ErrorKind::NotFound,
            };
            return Err(if holds_nothing {
                BadRecord::NeverBegun(shown())
            } else {
                BadRecord::Plan(shown(), BadPlan::Damaged)
            });
        }
        let folder = opened.or_else(|error| match error.kind() {
            // It was all but discarded.
            ErrorKind::NotFound => {
                system.create_folder(above.as_fd(), name.as_bytes(), 0o700)?;
                system.open_folder(above.as_fd(), name.as_bytes())
            }
            _ => Err(error),
        });
        let folder = folder.map_err(missing)?;
        let mut lines = BufRead::split(&text[..whole], b'\n').enumerate();
        let (purpose, plan) =
            saved::read_plan(&mut lines).map_err(|e| BadRecord::Plan(shown(), e))?;
        let parts = read_parts(lines, &plan).map_err(|(line, cause)| BadRecord::Line {
            path: shown(),
            line: line + 1,
            cause,
        })?;
        let path = path.with_file_name(&name);
        Ok(Self { purpose, path, above, name, folder, plan, parts })
    }
}

/// True if the plan has its end, and the line after it that says where the run takes place: nothing is
/// touched before that is written.
fn is_begun(text: &[u8]) -> bool {
    let mut lines = text.split(|b| *b == b'\n');
    lines.any(|line| line.starts_with(b"{\"kind\":\"end\"")) && lines.any(|line| !line.is_empty())
}

type Numbered<'a> = std::iter::Enumerate<io::Split<&'a [u8]>>;

fn read_parts(lines: Numbered<'_>, plan: &Plan) -> Result<Vec<RecordedPart>, (usize, String)> {
    let mut parts: Vec<RecordedPart> = Vec::new();
    let mut last = 0;
    for (at, text) in lines {
        let bad = |cause: String| (at, cause);
        last = at;
        let text = text.map_err(|e| bad(e.to_string()))?;
        let line = serde_json::from_slice(&text).map_err(|e| bad(e.to_string()))?;
        take(&mut parts, line).map_err(bad)?;
    }
    if parts.len() == plan.parts.len() {
        Ok(parts)
    } else {
        Err((last, "it does not say where the run took place".to_owned()))
    }
}

fn take(parts: &mut Vec<RecordedPart>, line: Line) -> Result<(), String> {
    let unknown = || "it is of a part that is not there".to_owned();
    match line {
        Line::Run { parts: roots } => {
            for root in roots {
                let (folder, prefix) = (root.folder.path()?, root.prefix.relative()?);
                let (before, after) = Default::default();
                let Root { drive, inode, made, above, .. } = root;
                let root = folder;
                parts.push(RecordedPart { root, drive, inode, made, above, prefix, before, after });
            }
        }
        Line::Before { part, path, was } => {
            let part = parts.get_mut(part).ok_or_else(unknown)?;
            // What a second line of one entry tells was made by the run itself.
            part.before.entry(path.relative()?).or_insert(was);
        }
        Line::After { part, path, state } => {
            let part = parts.get_mut(part).ok_or_else(unknown)?;
            part.after.insert(path.relative()?, state);
        }
    }
    Ok(())
}

fn read_all(system: &dyn System, file: BorrowedFd<'_>) -> io::Result<Vec<u8>> {
    let (mut text, mut buffer) = (Vec::new(), vec![0; 1 << 20]);
    loop {
        match system.read_at(file, &mut buffer, text.len() as u64)? {
            0 => return Ok(text),
            length => text.extend_from_slice(&buffer[..length]),
        }
    }
}

/// The runs that a folder holds, if it is one where runs set aside.
fn runs_below(system: &dyn System, path: &Path) -> Vec<String> {
    let Ok(folder) = system.open_root(path) else { return Vec::new() };
    let Ok(folder) = system.open_folder(folder.as_fd(), b"") else { return Vec::new() };
    let runs = prune::runs_in(system, folder.as_fd()).unwrap_or_default();
    runs.into_iter().map(|run| path.join(run).to_string_lossy().into_owned()).collect()
}
