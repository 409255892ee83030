//! The output of commands: typed events (`events`), converted from the core's results (`told`), and the sinks that
//! print them: text for people, JSON lines, or a CSV table. A sink cannot fail a run.

pub(crate) mod csv;
pub(crate) mod events;
pub(crate) mod exact;
mod form;
mod heard;
pub(crate) mod json;
mod sink;
pub(crate) mod text;
pub(crate) mod told;
mod word;
pub(crate) mod words;

pub(crate) use form::{Form, Format};
pub(crate) use heard::{Ear, Heard};
pub(crate) use sink::Sink;
