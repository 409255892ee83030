//! Styles by danger, each legible on dark and on light.

use anstyle::{Color, RgbColor, Style};

use crate::report::events::{StateWord, StepLine, VerbWord};

pub(super) const PLAIN: Style = Style::new();
pub(super) const HEADING: Style = Style::new().bold();
pub(super) const FAINT: Style = Style::new().dimmed();
// Each has a contrast of at least 4.5 to 1 on black and on white.
const GREEN: RgbColor = RgbColor(0, 136, 50);
const RED: RgbColor = RgbColor(227, 40, 50);
const AMBER: RgbColor = RgbColor(165, 103, 0);
/// A good verdict, and nothing else.
pub(super) const GOOD: Style = fixed(GREEN).bold();
/// Loss and failure, and nothing else.
pub(super) const BAD: Style = fixed(RED).bold();
/// What is replaced, what only the destination has, and what leaves the source.
pub(super) const CHANGES: Style = fixed(AMBER);

const fn fixed(color: RgbColor) -> Style {
    Style::new().fg_color(Some(Color::Rgb(color)))
}

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

#[cfg(test)]
mod tests {
    use super::*;

    /// Relative luminance and contrast as the Web Content Accessibility Guidelines define them.
    #[test]
    fn every_colour_can_be_read_on_black_and_on_white() {
        let linear = |value: u8| match f64::from(value) / 255.0 {
            low if low <= 0.040_45 => low / 12.92,
            high => ((high + 0.055) / 1.055).powf(2.4),
        };
        for RgbColor(red, green, blue) in [GREEN, RED, AMBER] {
            let luminance = 0.2126 * linear(red) + 0.7152 * linear(green) + 0.0722 * linear(blue);
            let (on_white, on_black) = (1.05 / (luminance + 0.05), (luminance + 0.05) / 0.05);
            assert!(on_white >= 4.5 && on_black >= 4.5, "{red} {green} {blue}");
        }
    }
}
