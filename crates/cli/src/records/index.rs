//! The first and last lines of all records in one file, so that listing ten thousand runs opens one file.
//!
//! It is append-only, except when old records are removed, and can be rebuilt from the records.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, ErrorKind, Read as _, Seek as _, SeekFrom, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use serde::Deserialize;

use crate::real::{real, real_side};
use crate::records::reader;
use crate::records::store::{Named, Store, try_lock};
use crate::report::events::{
    Amount, CommandWord, Event, Head, RecordedRun, RunEnded, RunOutcome, RunStarted,
};
use crate::run_name;

/// Enough of the end of the index to find the number of the last run.
const END: u64 = 1 << 16;

/// The sides of a run, and how it was called.
pub(crate) struct RunKey {
    sides: Vec<PathBuf>,
    call: String,
    command: CommandWord,
}

impl RunKey {
    pub(crate) fn of(head: &Head, line: String) -> Self {
        Self { sides: head.sides(), call: line, command: head.command }
    }

    /// The expected totals of a scan, from the last run between these sides, preferably of the same command; and of
    /// a comparison, from the last run with the same call.
    pub(crate) fn expected_totals(&self) -> Option<Amount> {
        let sides: Vec<_> = self.sides.iter().map(|side| real_side(side)).collect();
        Store::find()?.expected_totals(&sides, &self.call, self.command)
    }
}

/// A run in the index.
#[derive(Debug)]
pub(crate) struct RunEntry {
    pub(crate) began: RunStarted,
    closed: Option<RunEnded>,
    store: Store,
}

#[derive(Deserialize)]
struct Numbered {
    run: u64,
}

impl Store {
    /// Adds a line, with the lock held.
    pub(super) fn add(&self, line: &[u8]) -> io::Result<()> {
        let mut file = OpenOptions::new()
            .read(true)
            .append(true)
            .create(true)
            .mode(0o600)
            .open(self.index())?;
        // Begins a new line after a truncated one.
        let mut whole = if ends_a_line(&mut file)? { Vec::new() } else { b"\n".to_vec() };
        whole.extend_from_slice(line);
        file.write_all(&whole)
    }

    /// The number of the next run, with the lock held.
    pub(super) fn next(&self) -> io::Result<u64> {
        if !self.index().exists() {
            self.rebuild()?;
        }
        let mut file = File::open(self.index())?;
        let length = file.metadata()?.len();
        file.seek(SeekFrom::Start(length.saturating_sub(END)))?;
        let mut end = Vec::new();
        file.read_to_end(&mut end)?;
        let last = |bytes: &[u8]| bytes.split(|b| *b == b'\n').filter_map(run_of).max();
        // Runs that end late have lower numbers than the lines before them, but not by much.
        let found = match last(&end) {
            Some(found) => Some(found),
            None => last(&fs::read(self.index())?),
        };
        let there =
            if found.is_none() { self.names()?.last().map(|named| named.run) } else { None };
        Ok(found.or(there).unwrap_or_default() + 1)
    }

    /// Rebuilds the index from the records, with the lock held.
    pub(super) fn rebuild(&self) -> io::Result<()> {
        let mut lines = Vec::new();
        for Named { name, .. } in self.names()? {
            let (began, closed) = reader::ends(self, &name);
            for event in
                [began.map(Event::RunStarted), closed.map(Event::RunEnded)].into_iter().flatten()
            {
                lines.extend(line(&event));
            }
        }
        self.replace_index(&lines)
    }

    pub(super) fn replace_index(&self, lines: &[u8]) -> io::Result<()> {
        let new = self.index().with_extension("new");
        let mut file =
            OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
        file.write_all(lines)?;
        fs::rename(new, self.index())
    }

    /// All runs, the newest first. Damaged lines are skipped.
    pub(crate) fn runs(&self) -> io::Result<Runs> {
        let bytes = match fs::read(self.index()) {
            Err(error) if error.kind() == ErrorKind::NotFound => {
                if self.names().is_ok_and(|names| !names.is_empty()) {
                    let _lock = self.lock()?;
                    self.rebuild()?;
                    fs::read(self.index())?
                } else {
                    Vec::new()
                }
            }
            other => other?,
        };
        Ok(Runs { end: bytes.len(), bytes, closed: HashMap::new(), store: self.clone() })
    }

    fn expected_totals(
        &self,
        sides: &[PathBuf],
        call: &str,
        command: CommandWord,
    ) -> Option<Amount> {
        let mut best: Option<(Amount, bool)> = None;
        for RunEntry { began, closed, .. } in self.runs().ok()? {
            let Some(left) = closed.and_then(|closed| closed.left) else { continue };
            if !began.sides.iter().map(|side| side.path.to_path()).eq(sides.iter().cloned()) {
                continue;
            }
            if began.line == call {
                return Some(left);
            }
            let is_like = began.command == command;
            if best.is_none_or(|(_, was_like)| is_like && !was_like) {
                best = Some((left, is_like));
            }
        }
        // The amount compared depends on the options.
        best.map(|(left, _)| Amount { bytes: 0, ..left })
    }

    /// One run by its number.
    pub(crate) fn run(&self, number: u64) -> io::Result<Option<RunEntry>> {
        Ok(self.runs()?.find(|entry| entry.began.run == number))
    }

    /// One run by the folder of its set-aside entries.
    pub(crate) fn run_of_folder(&self, folder: &Path) -> io::Result<Option<RunEntry>> {
        let folder = real(folder);
        let name = folder.file_name().map(|name| name.to_string_lossy().into_owned());
        let name = name.unwrap_or_default();
        // The name of such a folder begins with the time of the run.
        let mut runs = self.runs()?.filter(|run| name.starts_with(&stamp(&run.began.began)));
        Ok(runs.find(|run| run.set_aside_folder().is_some_and(|it| real(&it) == folder)))
    }
}

/// Reads an index backwards.
pub(crate) struct Runs {
    bytes: Vec<u8>,
    end: usize,
    /// Last lines of runs whose first lines are not read yet.
    closed: HashMap<u64, (usize, usize)>,
    store: Store,
}

impl Iterator for Runs {
    type Item = RunEntry;

    fn next(&mut self) -> Option<RunEntry> {
        while self.end > 0 {
            let end = self.end;
            let begin = memchr::memrchr(b'\n', &self.bytes[..end]).map_or(0, |at| at + 1);
            self.end = begin.saturating_sub(1);
            let line = &self.bytes[begin..end];
            // The second as in records of version 2.
            let ends: [&[u8]; 2] = [br#"{"kind":"run-ended""#, br#"{"kind":"closed""#];
            if ends.iter().any(|end| line.starts_with(end)) {
                if let Some(run) = run_of(line) {
                    self.closed.insert(run, (begin, end));
                }
                continue;
            }
            let Ok(Event::RunStarted(began)) = serde_json::from_slice(line) else { continue };
            let closed =
                self.closed.remove(&began.run).and_then(
                    |(begin, end)| match serde_json::from_slice(&self.bytes[begin..end]) {
                        Ok(Event::RunEnded(closed)) => Some(closed),
                        _ => None,
                    },
                );
            return Some(RunEntry { began, closed, store: self.store.clone() });
        }
        None
    }
}

impl RunEntry {
    /// The folder with the set-aside entries or the undo journal of the run, if it has one.
    pub(crate) fn set_aside_folder(&self) -> Option<PathBuf> {
        let totals = self.lines(&self.store).ok()?.filter_map(|event| match event {
            Event::Totals(totals) => totals.run?.set_aside,
            _ => None,
        });
        Some(self.began.folder.to_path().join(totals.last()?.to_path()))
    }

    /// What was recorded of the run.
    pub(crate) fn lines(&self, store: &Store) -> io::Result<reader::Lines> {
        reader::open(store, &self.name())
    }

    /// The name of its record.
    pub(super) fn name(&self) -> String {
        Named::new(self.began.run, &stamp(&self.began.began)).name
    }

    /// The outcome of the run, as far as it is known.
    pub(crate) fn recorded(self) -> RecordedRun {
        let name = self.name();
        let Self { began, closed, store } = self;
        // It may have been killed between closing its record and adding to the index.
        let closed = closed.or_else(|| reader::ends(&store, &name).1);
        let outcome = match &closed {
            Some(closed) => closed.outcome,
            None if is_held(&store, &name) => RunOutcome::Running,
            None => RunOutcome::CutShort,
        };
        RecordedRun { began, outcome, closed }
    }
}

fn is_held(store: &Store, name: &str) -> bool {
    File::open(store.record(name)).is_ok_and(|file| !try_lock(&file))
}

/// The start time, as in the name of a record.
pub(super) fn stamp(began: &str) -> String {
    began.parse().map(run_name::of).unwrap_or_default()
}

/// An event as a line.
pub(super) fn line(event: &Event) -> Vec<u8> {
    // All events can be serialised.
    let mut line = serde_json::to_vec(event).unwrap_or_default();
    line.push(b'\n');
    line
}

fn run_of(line: &[u8]) -> Option<u64> {
    serde_json::from_slice::<Numbered>(line).ok().map(|numbered| numbered.run)
}

fn ends_a_line(file: &mut File) -> io::Result<bool> {
    if file.metadata()?.len() == 0 {
        return Ok(true);
    }
    let mut last = [0];
    file.seek(SeekFrom::End(-1))?;
    file.read_exact(&mut last)?;
    Ok(last == *b"\n")
}
