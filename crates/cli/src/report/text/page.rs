//! Where text is written: the screen, or a log file.

use std::cell::RefCell;
use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::rc::Rc;

use jiff::Zoned;

use crate::terminal::streams::{self, Steady};

/// Accepts lines; cannot fail.
pub(crate) trait Page {
    fn line(&mut self, line: &str);

    /// What is wrong, and then what to do next.
    fn wrong(&mut self, message: &str);

    /// Flushes the buffer.
    fn flush(&mut self);
}

/// Stdout and stderr.
pub(crate) struct Screen(BufWriter<Steady<anstream::Stdout>>);

impl Screen {
    pub(crate) fn new() -> Self {
        Self(BufWriter::new(streams::out()))
    }
}

impl Page for Screen {
    fn line(&mut self, line: &str) {
        // The stream cannot fail.
        let _ = writeln!(self.0, "{line}");
    }

    fn wrong(&mut self, message: &str) {
        // In the order of events, also where both streams are one.
        self.flush();
        streams::print_wrong(message);
    }

    fn flush(&mut self) {
        let _ = self.0.flush();
    }
}

/// A file with a timestamp on each line.
pub(crate) struct Log {
    file: File,
    /// Writing failed, which was reported.
    has_failed: bool,
}

impl Log {
    pub(crate) fn new(file: File) -> Self {
        Self { file, has_failed: false }
    }

    fn write(&mut self, text: &str) {
        if self.has_failed {
            return;
        }
        let now = Zoned::now().strftime("%Y-%m-%d %H:%M:%S").to_string();
        let plain = anstream::adapter::strip_str(text).to_string();
        // One write, so that two runs do not mix within a line.
        let lines = format!("{now}  {}\n", plain.replace('\n', &format!("\n{now}  ")));
        if let Err(error) = self.file.write_all(lines.as_bytes()) {
            self.has_failed = true;
            streams::print_wrong(&format!("the rest of the log could not be written: {error}"));
        }
    }
}

impl Page for Log {
    fn line(&mut self, line: &str) {
        self.write(line);
    }

    fn wrong(&mut self, message: &str) {
        self.write(&crate::terminal::names::harmless(message));
    }

    fn flush(&mut self) {}
}

/// A text for use after the run.
pub(crate) struct Gathered(Rc<RefCell<String>>);

/// The limit; the record has the rest.
const GATHERED_AT_MOST: usize = 1 << 20;

impl Gathered {
    pub(crate) fn in_text(text: &Rc<RefCell<String>>) -> Self {
        Self(Rc::clone(text))
    }
}

impl Page for Gathered {
    fn line(&mut self, line: &str) {
        let mut text = self.0.borrow_mut();
        if text.len() < GATHERED_AT_MOST {
            text.push_str(&anstream::adapter::strip_str(line).to_string());
            text.push('\n');
            if text.len() >= GATHERED_AT_MOST {
                text.push_str("… and more, see 'utter history'\n");
            }
        }
    }

    fn wrong(&mut self, message: &str) {
        self.line(&crate::terminal::names::harmless(message));
    }

    fn flush(&mut self) {}
}
