//! Where the events of a command go: the screen, the log, the record, and notifications.

use std::cell::{Cell, RefCell};
use std::fs::File;
use std::io;
use std::path::PathBuf;
use std::rc::Rc;

use crate::exit::{self, Exit};
use crate::records::{RecordRetention, Recorder};
use crate::report::events::{Amount, Event, Head, TotalsLine};
use crate::report::exact::Exact;
use crate::report::text::{Gathered, Log, Screen, Text};
use crate::report::{Form, Format, HeardTotals, Listener, Sink};
use crate::report::{csv, json};
use crate::terminal::streams;

/// The command of a report, and its form.
pub(crate) struct ReportHead {
    command: &'static str,
    destination: Option<PathBuf>,
    is_dry: bool,
    form: Form,
}

/// The sinks of a command.
pub(crate) struct Report {
    heard: Listener,
    sink: RefCell<Box<dyn Sink>>,
    /// The log.
    log: RefCell<Option<Text>>,
    recorder: Option<Recorder>,
    /// The text for notifications.
    summary: RefCell<Option<(Text, Rc<RefCell<String>>)>>,
    totals: RefCell<Option<TotalsLine>>,
    /// An incomplete record was reported.
    lack_is_told: Cell<bool>,
    pub(crate) about: ReportHead,
}

/// Further sinks of a command.
#[derive(Default)]
pub(crate) struct ReportCopies {
    /// Or why there is none.
    pub(crate) log: Option<Result<File, String>>,
    pub(crate) record: Option<io::Result<Recorder>>,
    /// Notifications need the text.
    pub(crate) text: bool,
}

/// The result of a run, for notifications.
pub(crate) struct Summary {
    pub(crate) command: &'static str,
    pub(crate) destination: Option<PathBuf>,
    pub(crate) exit: Exit,
    pub(crate) heard: HeardTotals,
    pub(crate) totals: Option<TotalsLine>,
    /// Its text, if wanted.
    pub(crate) text: String,
}

impl Report {
    /// Begins with the head.
    pub(crate) fn new(form: Form, head: Head, ear: &Listener) -> Self {
        Self::kept(form, head, ReportCopies::default(), ear)
    }

    /// The same, with a record.
    pub(crate) fn kept(form: Form, head: Head, kept: ReportCopies, ear: &Listener) -> Self {
        let ReportCopies { log, record, text } = kept;
        let sink: Box<dyn Sink> = match form.format {
            Format::Json => Box::new(json::Json::new()),
            Format::Csv => Box::new(csv::Csv::new()),
            Format::Text => Box::new(Text::new(&head, form.verbose, Box::new(Screen::new()))),
        };
        let heard = Rc::clone(ear);
        let (log, no_log) = log.map_or((None, None), |log| match log {
            Ok(file) => (Some(file), None),
            Err(why) => (None, Some(why)),
        });
        let log = log.map(|file| {
            let mut log = Text::new(&head, form.verbose, Box::new(Log::new(file)));
            log.begin();
            log
        });
        let (sink, log) = (RefCell::new(sink), RefCell::new(log));
        let (recorder, failure) = match record.transpose() {
            Ok(recorder) => (recorder, None),
            Err(error) => (None, Some(error)),
        };
        let mut now = heard.get();
        now.run = recorder.as_ref().map(|recorder| recorder.run);
        now.has_report = true;
        heard.set(now);
        let summary = text.then(|| {
            let gathered = Rc::default();
            (Text::new(&head, false, Box::new(Gathered::in_text(&gathered))), gathered)
        });
        let (summary, totals) = (RefCell::new(summary), RefCell::default());
        let (command, is_dry) = (head.command.word(), head.dry_run);
        let destination = head.destination.as_ref().map(Exact::to_path);
        let lack_is_told = Cell::new(false);
        let report = Self {
            heard,
            sink,
            log,
            recorder,
            summary,
            totals,
            lack_is_told,
            about: ReportHead { command, destination, is_dry, form },
        };
        report.emit(Event::Head(head));
        report.emit_not_recorded(failure);
        report.emit_all(no_log.map(|why| Event::note("no-log", why)));
        report
    }

    /// Programs get all events.
    pub(crate) fn is_exact(&self) -> bool {
        self.about.form.format != Format::Text
    }

    /// The recorder of the run, if any.
    pub(crate) fn recorder(&self) -> Option<&Recorder> {
        self.recorder.as_ref()
    }

    fn emit_not_recorded(&self, failure: Option<io::Error>) {
        if let Some(error) = failure.filter(|_| !self.lack_is_told.replace(true)) {
            let why = streams::without_error_number(&error.to_string());
            let text = format!("the record of this run is incomplete: {why}");
            self.emit(Event::note("no-record", text));
        }
    }

    /// Ends the record and the log. An error is written there; the screen prints it elsewhere.
    pub(crate) fn end(mut self, came: &anyhow::Result<Exit>, keep: &RecordRetention) -> Summary {
        if let (Err(error), Some(log)) = (came, &mut *self.log.borrow_mut()) {
            log.end_with(error);
        }
        if let (Err(error), Some((text, _))) = (came, &mut *self.summary.borrow_mut()) {
            text.end_with(error);
        }
        if let Some(recorder) = self.recorder.take() {
            let closed = recorder.close(came.as_ref().copied(), &self.heard.get(), keep);
            self.emit_not_recorded(closed.err());
        }
        let text = self.summary.take().map(|(_, gathered)| gathered.take());
        Summary {
            command: self.about.command,
            destination: self.about.destination,
            exit: came.as_ref().map_or_else(exit::of_error, |exit| *exit),
            heard: self.heard.get(),
            totals: self.totals.take(),
            text: text.unwrap_or_default(),
        }
    }

    pub(crate) fn is_dry(&self) -> bool {
        self.about.is_dry
    }

    /// The entries scanned and the bytes compared for a plan.
    pub(crate) fn scanned_totals(&self, scanned_totals: Amount) {
        self.heard.set(HeardTotals { scanned_totals, ..self.heard.get() });
    }

    /// Sends one event and flushes.
    pub(crate) fn emit(&self, event: Event) {
        self.emit_all([event]);
    }

    /// Sends events that belong together.
    pub(crate) fn emit_all(&self, events: impl IntoIterator<Item = Event>) {
        let mut sink = self.sink.borrow_mut();
        for event in events {
            if let Some((text, _)) = &mut *self.summary.borrow_mut() {
                text.show(&event);
            }
            if let Event::Totals(totals) = &event {
                self.totals.replace(Some((**totals).clone()));
                let mut heard = self.heard.get();
                heard.totals(totals);
                self.heard.set(heard);
            }
            if let Some(log) = &mut *self.log.borrow_mut() {
                log.show(&event);
            }
            if let Some(recorder) = &self.recorder {
                recorder.show(&event);
            }
            if !self.about.form.quiet || matches!(event, Event::Problem(_)) {
                sink.show(&event);
            }
        }
        sink.flush();
        drop(sink);
        if let Some(recorder) = &self.recorder {
            recorder.flush();
            self.emit_not_recorded(recorder.failure());
        }
    }
}
