//! Writing the journal of a run.

use parking_lot::{Mutex, MutexGuard};
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_os::{Entry, Lock, LockMode, System, is_unsupported};

use crate::journal::frame::{self, JournalMark};
use crate::journal::reader::JournalLines;
use crate::journal::store::{RunStore, grant, journal_of};

/// Appends lines to the journal of a run, from any worker. They are written in batches; a barrier ensures that they
/// are on the drive.
pub(crate) struct JournalWriter<'a> {
    system: &'a dyn System,
    file: OwnedFd,
    lines: Mutex<WaitingLines>,
}

/// The lines that are not written yet, and their file.
struct WaitingLines {
    end: u64,
    next: u32,
    waiting: Vec<u8>,
}

/// Bytes written at once.
const STRETCH: usize = 64 * 1024;

impl<'a> RunStore<'a> {
    /// Creates a run under the first free name, readable by its owner only: set-aside entries may come from folders
    /// that others cannot read.
    pub(crate) fn begin(&self, wanted: &str) -> io::Result<NewRun<'a>> {
        let made = || {
            let (name, file) = self.new_journal(wanted)?;
            self.system.create_folder(self.folder(), name.as_bytes(), 0o700)?;
            grant(self.system, Entry::Open(file.as_fd()), 0o600)?;
            grant(self.system, Entry::Named(self.folder(), name.as_bytes()), 0o700)?;
            let folder = self.system.open_folder(self.folder(), name.as_bytes())?;
            // Some drives cannot lock.
            let lock = self.system.lock(folder.as_fd(), LockMode::Alone).ok().flatten();
            Ok::<_, io::Error>((name, file, folder, lock))
        };
        let (name, file, folder, lock) = self.alone(made)?;
        let lines = WaitingLines { end: 0, next: 0, waiting: Vec::new() };
        let recorder = JournalWriter { system: self.system, file, lines: Mutex::new(lines) };
        recorder.note(&super::reader::VERSION.to_le_bytes())?;
        // Flushes the folder, too: a power cut must not take the journal's name.
        match self.system.flush_file(self.folder()) {
            Err(e) if is_unsupported(&e) || e.kind() == ErrorKind::InvalidInput => {}
            other => other?,
        }
        Ok(NewRun { name, folder, recorder, lock })
    }

    fn new_journal(&self, wanted: &str) -> io::Result<(String, OwnedFd)> {
        let mut name = wanted.to_owned();
        for count in 2.. {
            match self.system.create_file(self.folder(), &journal_of(&name), 0o600) {
                Err(e) if e.kind() == ErrorKind::AlreadyExists => {
                    name = format!("{wanted}-{count}");
                }
                other => return Ok((name, other?)),
            }
        }
        Err(ErrorKind::AlreadyExists.into())
    }

    /// Continues the journal of a run after its last intact line.
    pub(crate) fn resume(
        &self,
        run: &str,
        journal: &JournalLines,
    ) -> io::Result<JournalWriter<'a>> {
        let file = self.system.open_to_write(self.folder(), &journal_of(run))?;
        let (intact, rest) = journal.halves();
        let (end, next) = (intact.len() as u64, journal.next());
        let rest = rest.len();
        if rest > 0 && self.system.set_length(file.as_fd(), end).is_err() {
            // Some drivers cannot shorten a file. No line begins like this.
            self.system.write_at(file.as_fd(), &vec![u8::MAX; rest], end)?;
        }
        // Others cannot go on at the end of a file, but write what begins before it.
        let waiting = intact.last().copied().into_iter().collect::<Vec<u8>>();
        let end = end - waiting.len() as u64;
        let lines = WaitingLines { end, next, waiting };
        Ok(JournalWriter { system: self.system, file, lines: Mutex::new(lines) })
    }
}

impl JournalWriter<'_> {
    fn lines(&self) -> MutexGuard<'_, WaitingLines> {
        self.lines.lock()
    }

    /// Appends a line, which is written later.
    pub(crate) fn note(&self, body: &[u8]) -> io::Result<()> {
        let mut lines = self.lines();
        lines.add(JournalMark::Note, body)?;
        if lines.waiting.len() >= STRETCH { self.write_out(&mut lines) } else { Ok(()) }
    }

    /// Appends a mark. A barrier, and everything before it, is on the drive when this returns.
    pub(crate) fn mark(&self, mark: JournalMark) -> io::Result<()> {
        let mut lines = self.lines();
        lines.add(mark, b"")?;
        if mark.is_barrier() { self.flush(&mut lines) } else { self.write_out(&mut lines) }
    }

    fn flush(&self, lines: &mut WaitingLines) -> io::Result<()> {
        self.write_out(lines)?;
        match self.system.flush_file(self.file.as_fd()) {
            Err(e) if is_unsupported(&e) => Ok(()),
            other => other,
        }
    }

    fn write_out(&self, lines: &mut WaitingLines) -> io::Result<()> {
        self.system.write_at(self.file.as_fd(), &lines.waiting, lines.end)?;
        lines.end += lines.waiting.len() as u64;
        lines.waiting.clear();
        Ok(())
    }
}

impl WaitingLines {
    fn add(&mut self, mark: JournalMark, body: &[u8]) -> io::Result<()> {
        let number = self.next;
        self.next = number.checked_add(1).ok_or(ErrorKind::FileTooLarge)?;
        frame::put(&mut self.waiting, number, mark, body);
        Ok(())
    }
}

/// A run just created in the store.
pub(crate) struct NewRun<'a> {
    pub(crate) name: String,
    /// The folder for its set-aside entries.
    pub(crate) folder: OwnedFd,
    pub(crate) recorder: JournalWriter<'a>,
    /// The lock on the run; `None` where the drive cannot lock.
    pub(crate) lock: Option<Lock>,
}
