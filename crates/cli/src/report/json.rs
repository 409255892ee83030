//! Events as JSON, an object a line.

use std::io::{BufWriter, Write as _};

use crate::report::events::Event;
use crate::report::sink::Sink;
use crate::terminal::streams::{self, Out};

pub(crate) struct Json(BufWriter<Out>);

impl Json {
    pub(crate) fn new() -> Self {
        Self(BufWriter::new(streams::raw_out()))
    }
}

impl Sink for Json {
    fn show(&mut self, event: &Event) {
        // The stream cannot fail, and all events can be serialised.
        let _ = serde_json::to_writer(&mut self.0, event);
        let _ = self.0.write_all(b"\n");
    }

    fn flush(&mut self) {
        let _ = self.0.flush();
    }
}
