//! How dangerous a thing looks, each legible on dark and on light.

use anstyle::{Ansi256Color, AnsiColor, Style};

use crate::report::events::{State, Verb};

pub(super) const PLAIN: Style = Style::new();
pub(super) const HEADING: Style = Style::new().bold();
pub(super) const FAINT: Style = Style::new().dimmed();
pub(super) const GOOD: Style = AnsiColor::Green.on_default().bold();
pub(super) const BAD: Style = AnsiColor::Red.on_default().bold();
/// The yellow of most terminals cannot be read on white.
const CHANGES: Style = Ansi256Color(136).on_default();

/// The more a step takes away, the louder.
pub(super) fn style_of(verb: Verb) -> Style {
    match verb {
        Verb::Add => PLAIN,
        Verb::Adjust | Verb::Rename => FAINT,
        Verb::Replace => CHANGES,
        Verb::Remove | Verb::Vacate => BAD,
    }
}

/// What keeps the destination from being the source's echo is never quiet.
pub(super) fn style_of_state(state: State) -> Style {
    match state {
        State::Missing | State::Differs => CHANGES,
        State::Attributes | State::Moved => FAINT,
        State::Extra => BAD,
    }
}
