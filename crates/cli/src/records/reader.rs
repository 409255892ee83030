//! Reading a record, as far as it is intact.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};

use crate::records::store::Store;
use crate::report::events::{Event, RunEnded, RunStarted, SideWord};

/// The lines of a record, in order.
pub(crate) struct Lines {
    record: Box<dyn BufRead>,
    line: Vec<u8>,
    /// The error that ended the reading, if any.
    pub(crate) damaged: Option<String>,
}

pub(super) fn open(store: &Store, name: &str) -> io::Result<Lines> {
    let record = BufReader::with_capacity(1 << 18, bytes(store, name)?);
    Ok(Lines { record: Box::new(record), line: Vec::new(), damaged: None })
}

/// The decompressed bytes of a record.
pub(super) fn bytes(store: &Store, name: &str) -> io::Result<Box<dyn Read>> {
    Ok(Box::new(zstd::Decoder::new(File::open(store.record(name))?)?))
}

impl Lines {
    /// The next raw line.
    pub(crate) fn next_line(&mut self) -> Option<&[u8]> {
        self.line.clear();
        match self.record.read_until(b'\n', &mut self.line) {
            Ok(0) => None,
            Ok(_) if self.line.last() == Some(&b'\n') => Some(&self.line[..self.line.len() - 1]),
            Ok(_) => {
                self.damaged = Some("its last line is incomplete".to_owned());
                None
            }
            Err(error) => {
                self.damaged = Some(format!("the rest cannot be read: {error}"));
                None
            }
        }
    }
}

impl Iterator for Lines {
    type Item = Event;

    /// Lines of unknown kinds are skipped.
    fn next(&mut self) -> Option<Event> {
        loop {
            let event = event(self.next_line()?);
            if event.is_some() {
                return event;
            }
        }
    }
}

/// The event of a line; `None` for an unknown kind.
pub(super) fn event(line: &[u8]) -> Option<Event> {
    let mut event = serde_json::from_slice(line).ok()?;
    // Version 2 had a verb of its own for what leaves a source.
    if let Event::Step(step) = &mut event
        && line.starts_with(br#"{"kind":"step","verb":"vacate""#)
    {
        step.side = Some(SideWord::Source);
    }
    Some(event)
}

/// The first and the last line of a record, if present.
pub(super) fn ends(store: &Store, name: &str) -> (Option<RunStarted>, Option<RunEnded>) {
    let Ok(mut lines) = open(store, name) else { return (None, None) };
    let Some(Event::RunStarted(began)) = lines.next() else { return (None, None) };
    let mut last = Vec::new();
    while let Some(line) = lines.next_line() {
        line.clone_into(&mut last);
    }
    match serde_json::from_slice(&last) {
        Ok(Event::RunEnded(closed)) if closed.run == began.run => (Some(began), Some(closed)),
        _ => (Some(began), None),
    }
}
