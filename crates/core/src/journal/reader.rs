//! Reading the journal of a run.

use std::io;
use std::ops::Range;
use std::os::fd::{AsFd as _, BorrowedFd};

use utter_echo_os::{Entry, System};

use crate::journal::frame::{self, HEAD, JournalMark};
use crate::journal::store::{RunStore, journal_of};

/// Version of the journal, in its first line. Raised when a program could misread what another version wrote.
pub(crate) const VERSION: u32 = 2;

/// The oldest version that can still be read. It lacks `JournalLine::Known`.
const OLDEST: u32 = 1;

/// The state of a run, from its journal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// The run was killed before it changed anything.
    NeverBegun,
    /// It was killed, or is running.
    CutShort,
    /// It ended.
    Complete,
    /// An undo began.
    BeingUndone,
    /// Everything that the run did is undone.
    Undone,
}

/// The journal of a run up to its last complete line.
#[derive(Debug)]
pub(crate) struct JournalLines {
    bytes: Vec<u8>,
    /// The bodies of all lines that have one.
    bodies: Vec<Range<usize>>,
    pub(crate) standing: Standing,
    /// An older version wrote it, which recorded less.
    pub(crate) is_old: bool,
    end: usize,
    next: u32,
}

/// Why a journal cannot be read.
#[derive(Debug)]
pub(crate) enum Unreadable {
    /// They cannot be opened or read at all.
    Closed(io::Error),
    /// Another version wrote them.
    Version(u32),
    /// A line, counted from 1, is damaged, although a later one shows that it had reached the drive.
    Damaged(usize),
}

impl RunStore<'_> {
    /// Reads the journal of a run. Changes nothing.
    pub(crate) fn read(&self, run: &str) -> Result<JournalLines, Unreadable> {
        let file = self.system.open_file(self.folder(), &journal_of(run));
        let file = file.map_err(Unreadable::Closed)?;
        let bytes = read_all(self.system, file.as_fd()).map_err(Unreadable::Closed)?;
        JournalLines::of(bytes)
    }

    /// True if the last line of a journal says that the run ended. Much faster than reading a long journal.
    pub(crate) fn has_ended(&self, run: &str) -> bool {
        self.last_mark(run).is_ok_and(|mark| mark == Some(JournalMark::Ended))
    }

    fn last_mark(&self, run: &str) -> io::Result<Option<JournalMark>> {
        let file = self.system.open_file(self.folder(), &journal_of(run))?;
        let size = self.system.stat(Entry::Open(file.as_fd()))?.size;
        let mut line = [0; HEAD];
        let Some(at) = size.checked_sub(line.len() as u64) else { return Ok(None) };
        let read = self.system.read_at(file.as_fd(), &mut line, at)?;
        Ok(frame::take(&line[..read]).map(|(_, line)| line.mark))
    }
}

impl JournalLines {
    fn of(bytes: Vec<u8>) -> Result<Self, Unreadable> {
        let (mut bodies, mut standing) = (Vec::new(), Standing::NeverBegun);
        let (mut end, mut next, mut version) = (0, 0, None);
        while let Some((_, line)) = frame::take(&bytes[end..]).filter(|(number, _)| *number == next)
        {
            match line.mark {
                JournalMark::Note if next == 0 => {
                    version = line.body.try_into().ok().map(u32::from_le_bytes);
                }
                JournalMark::Note => {
                    bodies.push(end + line.length - line.body.len()..end + line.length);
                }
                JournalMark::Gate => standing = Standing::CutShort,
                JournalMark::Ended => standing = Standing::Complete,
                JournalMark::Undoing => standing = Standing::BeingUndone,
                JournalMark::Undone => standing = Standing::Undone,
                JournalMark::Noted => {}
            }
            end += line.length;
            next += 1;
        }
        // The last line may be truncated, and after a power cut parts may be missing after the last barrier. But
        // every line before a barrier was on the drive before the operations it belongs to, so a damaged line
        // before an intact barrier is an error. So is any mark after it if the run seems never to have begun.
        let is_safe = |mark: JournalMark| !mark.is_barrier() && standing != Standing::NeverBegun;
        if !marks_behind(&bytes[end..], next).all(is_safe) {
            return Err(Unreadable::Damaged(next as usize + 1));
        }
        match version {
            None | Some(OLDEST..=VERSION) => {
                let is_old = version.is_some_and(|version| version < VERSION);
                Ok(Self { bytes, bodies, standing, is_old, end, next })
            }
            Some(other) => Err(Unreadable::Version(other)),
        }
    }

    /// The lines of a journal.
    pub(crate) fn bodies(&self) -> impl Iterator<Item = &[u8]> {
        self.bodies.iter().map(|body| &self.bytes[body.clone()])
    }

    /// The number of intact lines.
    pub(crate) fn lines(&self) -> usize {
        self.next as usize
    }

    /// The number of the next line.
    pub(crate) fn next(&self) -> u32 {
        self.next
    }

    /// All intact lines, and what follows them.
    pub(crate) fn halves(&self) -> (&[u8], &[u8]) {
        self.bytes.split_at(self.end)
    }
}

/// The intact lines after a damaged one.
fn marks_behind(bytes: &[u8], next: u32) -> impl Iterator<Item = JournalMark> {
    let mut at = 0;
    std::iter::from_fn(move || {
        while at < bytes.len() {
            match frame::take(&bytes[at..]).filter(|(number, _)| *number > next) {
                Some((_, line)) => {
                    at += line.length;
                    return Some(line.mark);
                }
                None => at += 1,
            }
        }
        None
    })
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

#[cfg(test)]
mod tests {
    use super::*;

    /// Lines as a run writes them, and the offset at which each ends.
    fn written() -> (Vec<u8>, Vec<usize>) {
        let mut bytes = Vec::new();
        let bodies: [&[u8]; 9] =
            [&VERSION.to_le_bytes(), b"a plan", b"before", b"", b"after", b"x", b"", b"", b""];
        let marks = {
            use JournalMark::{Ended, Gate, Note, Undoing, Undone};
            [Note, Note, Note, Gate, Note, Note, Ended, Undoing, Undone]
        };
        let mut ends = Vec::new();
        for (number, (mark, body)) in (0..).zip(marks.into_iter().zip(bodies)) {
            frame::put(&mut bytes, number, mark, body);
            ends.push(bytes.len());
        }
        (bytes, ends)
    }

    /// The state that the first `count` lines describe.
    fn standing(lines: usize) -> Standing {
        match lines {
            0..4 => Standing::NeverBegun,
            4..7 => Standing::CutShort,
            7 => Standing::Complete,
            8 => Standing::BeingUndone,
            _ => Standing::Undone,
        }
    }

    #[test]
    fn a_journal_is_read_to_its_last_whole_line() {
        let (bytes, ends) = written();
        for length in 0..=bytes.len() {
            // A power cut may leave zeros where something had not been written yet.
            for tail in [0, 1, 100] {
                let cut = [&bytes[..length], &vec![0; tail]].concat();
                // Zeros may be the content itself.
                let is_whole =
                    |end: &&usize| cut.get(..**end).is_some_and(|is| *is == bytes[..**end]);
                let whole = ends.iter().take_while(is_whole).count();
                let journal = JournalLines::of(cut).unwrap();
                assert_eq!(
                    (journal.lines(), journal.standing),
                    (whole, standing(whole)),
                    "{length}"
                );
            }
        }
    }

    #[test]
    fn a_changed_journal_line_that_was_on_the_drive_is_damage() {
        let (bytes, ends) = written();
        let line_of = |at: usize| ends.iter().filter(|end| **end <= at).count();
        for lines in [4, 7, 9] {
            for at in 0..ends[lines - 1] {
                let mut changed = bytes[..ends[lines - 1]].to_vec();
                changed[at] ^= 0x10;
                let read = JournalLines::of(changed);
                // Lines after the last barrier need not have reached the drive.
                let unsure = line_of(at) + 1 == lines || lines == 7 && line_of(at) >= 4;
                if unsure {
                    assert!(
                        read.is_ok_and(|journal| journal.lines() == line_of(at)),
                        "{lines} {at}"
                    );
                } else {
                    let damaged = Err(line_of(at) + 1);
                    let read = read.map(|_| ()).map_err(|error| match error {
                        Unreadable::Damaged(line) => line,
                        _ => 0,
                    });
                    assert_eq!(read, damaged, "{lines} lines, byte {at}");
                }
            }
        }
    }

    #[test]
    fn a_journal_of_the_oldest_version_is_read_and_known_as_old() {
        for version in 0..=VERSION + 1 {
            let mut bytes = Vec::new();
            frame::put(&mut bytes, 0, JournalMark::Note, &version.to_le_bytes());
            match JournalLines::of(bytes) {
                Ok(journal) => assert_eq!(journal.is_old, version < VERSION, "{version}"),
                Err(Unreadable::Version(other)) => {
                    assert!(other == version && !(OLDEST..=VERSION).contains(&version));
                }
                Err(other) => panic!("{version}: {other:?}"),
            }
        }
    }
}
