//! The trait of all sinks.

use crate::report::events::Event;

/// Prints events in one form.
pub(crate) trait Sink {
    fn show(&mut self, event: &Event);

    /// Flushes the buffer.
    fn flush(&mut self);
}
