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

use std::cell::{Cell, RefCell};
use std::rc::Rc;

use crate::context::Context;
use crate::options::Format;
use events::{Event, Head, Totals};

/// Shows events in one form.
trait Sink {
    fn show(&mut self, event: &Event);

    /// Brings out what waits in a buffer.
    fn flush(&mut self);
}

/// What was heard of the runs of a command, as far as a table of several needs it.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Heard {
    pub(crate) entries: u64,
    pub(crate) bytes: u64,
    pub(crate) problems: u64,
}

impl Heard {
    pub(crate) fn add(&mut self, other: &Self) {
        self.entries += other.entries;
        self.bytes += other.bytes;
        self.problems += other.problems;
    }

    fn totals(&mut self, totals: &Totals) {
        self.problems += totals.problems;
        let Some(run) = &totals.run else { return };
        let amounts = run.done.amounts();
        self.entries += amounts.iter().map(|amount| amount.entries).sum::<u64>();
        self.bytes += amounts.iter().map(|amount| amount.bytes).sum::<u64>();
    }
}

/// Where a command tells its events.
pub(crate) struct Report {
    heard: Rc<Cell<Heard>>,
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
    pub(crate) fn new(form: Form, head: Head, context: &Context) -> Self {
        let sink: Box<dyn Sink> = match form.format {
            Format::Json => Box::new(json::Json::new()),
            Format::Csv => Box::new(csv::Csv::new()),
            Format::Text => Box::new(text::Text::new(&head, form.verbose)),
        };
        let heard = Rc::clone(&context.heard);
        let report = Self { heard, sink: RefCell::new(sink), quiet: form.quiet };
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
            if let Event::Totals(totals) = &event {
                let mut heard = self.heard.get();
                heard.totals(totals);
                self.heard.set(heard);
            }
            if !self.quiet || matches!(event, Event::Problem(_)) {
                sink.show(&event);
            }
        }
        sink.flush();
    }
}
