//! What every form of telling can do.

use crate::report::events::Event;

/// Shows events in one form.
pub(crate) trait Sink {
    fn show(&mut self, event: &Event);

    /// Brings out what waits in a buffer.
    fn flush(&mut self);
}
