//! Differences as a table for other programs, as RFC 4180 has it. Problems go to stderr, as with text.

use super::events::{Difference, Event, Found};
use super::{Sink, text};
use crate::terminal::streams::{self, Out};
use crate::terminal::units;

pub(super) struct Csv(csv::Writer<Out>);

impl Csv {
    pub(super) fn new() -> Self {
        Self(csv::Writer::from_writer(streams::raw_out()))
    }

    fn row(&mut self, fields: [&[u8]; 5]) {
        // The stream takes everything, and every row has the same fields.
        let _ = self.0.write_record(fields);
    }
}

impl Sink for Csv {
    fn show(&mut self, event: &Event) {
        match event {
            Event::Head(_) => self.row([b"difference", b"type", b"path", b"bytes", b"reason"]),
            Event::Difference(Difference { state, entry, path, bytes, reason, .. }) => {
                let bytes = bytes.to_string();
                let (state, entry) = (state.word().as_bytes(), entry.word().as_bytes());
                self.row([state, entry, path.as_bytes(), bytes.as_bytes(), reason.as_bytes()]);
            }
            Event::Found(Found { state, differences, listed }) if listed < differences => {
                let (count, state) = (units::count(differences - listed), state.word());
                streams::tell(&format!(
                    "utter: {count} more differences ({state}) are not listed because of --limit"
                ));
            }
            Event::Problem(problem) => text::problem(problem),
            _ => {}
        }
    }

    fn flush(&mut self) {
        let _ = self.0.flush();
    }
}
