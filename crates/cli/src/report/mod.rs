//! What a command tells: typed events (`events`), made from what the core found (`told`), and the sinks that show
//! them, as text for people, as JSON lines or as a table for programs. A sink cannot fail a run.

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
