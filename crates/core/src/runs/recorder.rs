//! Writing the notes of a run.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd as _, OwnedFd};
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::os::{Entry, System, is_unsupported};

use super::{Mark, NewRun, Notes, Store, frame, grant, notes_of};

/// Adds lines to the notes of a run, from any worker. They are written out together; a gate is what makes
/// sure that they are on the drive.
pub(crate) struct Recorder<'a> {
    system: &'a dyn System,
    file: OwnedFd,
    lines: Mutex<Lines>,
}

/// What is not written out yet, and where it goes.
struct Lines {
    end: u64,
    next: u32,
    waiting: Vec<u8>,
}

/// Written out at a time.
const STRETCH: usize = 64 * 1024;

impl<'a> Store<'a> {
    /// Makes a run under the first free name. Nobody else may read there what they could not read in the
    /// destination.
    pub(crate) fn begin(&self, wanted: &str) -> io::Result<NewRun<'a>> {
        let made = || {
            let (name, file) = self.new_notes(wanted)?;
            self.system.create_folder(self.folder(), name.as_bytes(), 0o700)?;
            grant(self.system, Entry::Open(file.as_fd()), 0o600)?;
            grant(self.system, Entry::Named(self.folder(), name.as_bytes()), 0o700)?;
            let folder = self.system.open_folder(self.folder(), name.as_bytes())?;
            // A drive that cannot lock it does not.
            let lock = self.system.lock(folder.as_fd()).ok().flatten();
            Ok::<_, io::Error>((name, file, folder, lock))
        };
        let (name, file, folder, lock) = self.alone(made)?;
        let lines = Lines { end: 0, next: 0, waiting: Vec::new() };
        let recorder = Recorder { system: self.system, file, lines: Mutex::new(lines) };
        recorder.note(&super::reader::VERSION.to_le_bytes())?;
        Ok(NewRun { name, folder, recorder, lock })
    }

    fn new_notes(&self, wanted: &str) -> io::Result<(String, OwnedFd)> {
        let mut name = wanted.to_owned();
        for count in 2.. {
            match self.system.create_file(self.folder(), &notes_of(&name), 0o600) {
                Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                    name = format!("{wanted}-{count}");
                }
                other => return Ok((name, other?)),
            }
        }
        Err(ErrorKind::AlreadyExists.into())
    }

    /// Goes on with the notes of a run after their last whole line.
    pub(crate) fn resume(&self, run: &str, notes: &Notes) -> io::Result<Recorder<'a>> {
        let file = self.system.open_to_write(self.folder(), &notes_of(run))?;
        let (end, next) = notes.end();
        self.system.set_length(file.as_fd(), end)?;
        let lines = Lines { end, next, waiting: Vec::new() };
        Ok(Recorder { system: self.system, file, lines: Mutex::new(lines) })
    }
}

impl Recorder<'_> {
    fn lines(&self) -> MutexGuard<'_, Lines> {
        self.lines.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds a line, which is written out some time.
    pub(crate) fn note(&self, body: &[u8]) -> io::Result<()> {
        let mut lines = self.lines();
        lines.add(Mark::Note, body)?;
        if lines.waiting.len() >= STRETCH { self.write_out(&mut lines) } else { Ok(()) }
    }

    /// Adds a mark. Where deeds follow, it is on the drive when this returns, with all that stands before it.
    pub(crate) fn mark(&self, mark: Mark) -> io::Result<()> {
        let mut lines = self.lines();
        lines.add(mark, b"")?;
        if mark.gates_deeds() { self.flush(&mut lines) } else { self.write_out(&mut lines) }
    }

    fn flush(&self, lines: &mut Lines) -> io::Result<()> {
        self.write_out(lines)?;
        match self.system.flush_file(self.file.as_fd()) {
            Err(e) if is_unsupported(&e) => Ok(()),
            other => other,
        }
    }

    fn write_out(&self, lines: &mut Lines) -> io::Result<()> {
        self.system.write_at(self.file.as_fd(), &lines.waiting, lines.end)?;
        lines.end += lines.waiting.len() as u64;
        lines.waiting.clear();
        Ok(())
    }
}

impl Lines {
    fn add(&mut self, mark: Mark, body: &[u8]) -> io::Result<()> {
        let number = self.next;
        self.next = number.checked_add(1).ok_or(ErrorKind::FileTooLarge)?;
        frame::put(&mut self.waiting, number, mark, body);
        Ok(())
    }
}
