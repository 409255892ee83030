//! The output of commands: typed events (`events`), converted from the core's results (`conversion`), and the sinks that
//! print them: text for people, JSON lines, or a CSV table. A sink cannot fail a run.

pub(crate) mod conversion;
pub(crate) mod csv;
pub(crate) mod events;
pub(crate) mod exact;
mod form;
pub(crate) mod json;
mod listener;
mod sink;
pub(crate) mod text;
mod word;
pub(crate) mod wording;

pub(crate) use form::{Form, Format};
pub(crate) use listener::{HeardTotals, Listener};
pub(crate) use sink::Sink;
