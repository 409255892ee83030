//! What a command tells: typed events (`events`), made from what the core found (`told`), and the sinks that show
//! them, as text for people, as JSON lines or as a table for programs. A sink cannot fail a run.

mod csv;
pub(crate) mod events;
pub(crate) mod exact;
mod json;
pub(crate) mod text;
pub(crate) mod told;
mod word;
pub(crate) mod words;

use std::cell::RefCell;

use crate::options::Format;
use events::{Event, Head};

/// Shows events in one form.
trait Sink {
    fn show(&mut self, event: &Event);

    /// Brings out what waits in a buffer.
    fn flush(&mut self);
}

/// Where a command tells its events.
pub(crate) struct Report {
    sink: RefCell<Box<dyn Sink>>,
    /// Nothing but problems is shown.
    quiet: bool,
}

/// What is shown, and in which form.
#[derive(Clone, Copy)]
pub(crate) struct Form {
    pub(crate) format: Format,
    pub(crate) quiet: bool,
    /// In text, each step of a run, too.
    pub(crate) verbose: bool,
}

impl From<Format> for Form {
    fn from(format: Format) -> Self {
        Self { format, quiet: false, verbose: false }
    }
}

impl Report {
    /// Begins with the head.
    pub(crate) fn new(form: Form, head: Head) -> Self {
        let sink: Box<dyn Sink> = match form.format {
            Format::Json => Box::new(json::Json::new()),
            Format::Csv => Box::new(csv::Csv::new()),
            Format::Text => Box::new(text::Text::new(&head, form.verbose)),
        };
        let report = Self { sink: RefCell::new(sink), quiet: form.quiet };
        report.tell(Event::Head(head));
        report
    }

    /// Tells one event, at once.
    pub(crate) fn tell(&self, event: Event) {
        self.tell_all([event]);
    }

    /// Tells events that belong together.
    pub(crate) fn tell_all(&self, events: impl IntoIterator<Item = Event>) {
        let mut sink = self.sink.borrow_mut();
        for event in events {
            if !self.quiet || matches!(event, Event::Problem(_)) {
                sink.show(&event);
            }
        }
        sink.flush();
    }
}
