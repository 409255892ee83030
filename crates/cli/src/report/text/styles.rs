//! Styles by danger, each legible on dark and on light.

use anstyle::Style;

use crate::report::events::{StateWord, StepLine, VerbWord};
pub(super) use crate::terminal::colors::{BAD, CHANGES, GOOD};

pub(super) const PLAIN: Style = Style::new();
pub(super) const HEADING: Style = Style::new().bold();
pub(super) const FAINT: Style = Style::new().dimmed();

/// Removals from the destination are losses. What leaves the source has a verified copy.
pub(super) fn style_of(step: &StepLine) -> Style {
    match (step.verb, step.side) {
        (VerbWord::Add, _) => PLAIN,
        (VerbWord::Adjust | VerbWord::Rename, _) => FAINT,
        (VerbWord::Remove, None) => BAD,
        (VerbWord::Replace | VerbWord::Remove, _) => CHANGES,
    }
}

/// What the destination lacks is graver than what it has in addition.
pub(super) fn style_of_state(state: StateWord) -> Style {
    match state {
        StateWord::Missing | StateWord::Differs => BAD,
        StateWord::Extra => CHANGES,
        StateWord::Attributes | StateWord::Moved => FAINT,
    }
}
