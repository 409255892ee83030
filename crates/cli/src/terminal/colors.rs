//! The colours of text, each with a contrast of at least 4.5 to 1 on black and on white.

use anstyle::{Color, RgbColor, Style};

const GREEN: RgbColor = RgbColor(0, 136, 50);
const RED: RgbColor = RgbColor(227, 40, 50);
const AMBER: RgbColor = RgbColor(165, 103, 0);
/// A good verdict, and nothing else.
pub(crate) const GOOD: Style = fixed(GREEN).bold();
/// Loss and failure, and nothing else.
pub(crate) const BAD: Style = fixed(RED).bold();
/// What is replaced, what only the destination has, and what leaves the source.
pub(crate) const CHANGES: Style = fixed(AMBER);

const fn fixed(color: RgbColor) -> Style {
    Style::new().fg_color(Some(Color::Rgb(color)))
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
