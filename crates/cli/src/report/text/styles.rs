//! Styles by danger, each legible on dark and on light.

use anstyle::{Ansi256Color, AnsiColor, Style};

use crate::report::events::{StateWord, VerbWord};

pub(super) const PLAIN: Style = Style::new();
pub(super) const HEADING: Style = Style::new().bold();
pub(super) const FAINT: Style = Style::new().dimmed();
pub(super) const GOOD: Style = AnsiColor::Green.on_default().bold();
pub(super) const BAD: Style = AnsiColor::Red.on_default().bold();
/// The yellow of most terminals is illegible on white.
const CHANGES: Style = Ansi256Color(136).on_default();

/// The more a step takes away, the louder.
pub(super) fn style_of(verb: VerbWord) -> Style {
    match verb {
        VerbWord::Add => PLAIN,
        VerbWord::Adjust | VerbWord::Rename => FAINT,
        VerbWord::Replace => CHANGES,
        VerbWord::Remove | VerbWord::Vacate => BAD,
    }
}

/// Differences always stand out.
pub(super) fn style_of_state(state: StateWord) -> Style {
    match state {
        StateWord::Missing | StateWord::Differs => CHANGES,
        StateWord::Attributes | StateWord::Moved => FAINT,
        StateWord::Extra => BAD,
    }
}
