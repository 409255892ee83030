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
use std::fs::File;
use std::rc::Rc;

use crate::options::Format;
use events::{Event, Head, Totals};
use text::page::{Log, Screen};

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

/// Where the reports of a command leave that.
pub(crate) type Ear = Rc<Cell<Heard>>;

/// Where a command tells its events.
pub(crate) struct Report {
    heard: Ear,
    sink: RefCell<Box<dyn Sink>>,
    /// The same for people, in a file.
    log: RefCell<Option<text::Text>>,
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
    pub(crate) fn new(form: Form, head: Head, ear: &Ear) -> Self {
        Self::with_log(form, head, None, ear)
    }

    /// The same, and writes everything to a log, too.
    pub(crate) fn with_log(form: Form, head: Head, log: Option<File>, ear: &Ear) -> Self {
        let sink: Box<dyn Sink> = match form.format {
            Format::Json => Box::new(json::Json::new()),
            Format::Csv => Box::new(csv::Csv::new()),
            Format::Text => Box::new(text::Text::new(&head, form.verbose, Box::new(Screen::new()))),
        };
        let heard = Rc::clone(ear);
        let log = log.map(|file| {
            let mut log = text::Text::new(&head, form.verbose, Box::new(Log::new(file)));
            log.begin();
            log
        });
        let (sink, log, quiet) = (RefCell::new(sink), RefCell::new(log), form.quiet);
        let report = Self { heard, sink, log, quiet };
        report.tell(Event::Head(head));
        report
    }

    /// Writes to the log why a command ends, which the screen is told otherwise.
    pub(crate) fn ends_with(&self, error: &anyhow::Error) {
        if let Some(log) = &mut *self.log.borrow_mut() {
            log.end_with(error);
        }
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
            if let Some(log) = &mut *self.log.borrow_mut() {
                log.show(&event);
            }
            if !self.quiet || matches!(event, Event::Problem(_)) {
                sink.show(&event);
            }
        }
        sink.flush();
    }
}
