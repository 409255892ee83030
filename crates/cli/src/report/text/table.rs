//! Tables.

use unicode_width::UnicodeWidthStr as _;

use crate::report::text::printer::Text;
use crate::report::text::styles::HEADING;

impl Text {
    /// Rows below a header; the first `texts` columns are text, the rest are numbers.
    pub(super) fn table(&mut self, heads: &[&str], texts: usize, rows: &[Vec<String>]) {
        let heads: Vec<String> = heads.iter().map(ToString::to_string).collect();
        let width = |at: usize| {
            let cells = [&heads].into_iter().chain(rows).map(|row| columns(&row[at]));
            cells.max().unwrap_or_default()
        };
        let widths: Vec<usize> = (0..heads.len()).map(width).collect();
        let padded = |row: &[String]| {
            let cells = row.iter().zip(&widths).enumerate().map(|(at, (cell, width))| {
                let gap = " ".repeat(width - columns(cell));
                if at < texts { format!("{cell}{gap}") } else { format!("{gap}{cell}") }
            });
            cells.collect::<Vec<_>>().join("  ").trim_end().to_owned()
        };
        self.line(&format!("{HEADING}{}{HEADING:#}", padded(&heads)));
        for row in rows {
            self.line(&padded(row));
        }
    }
}

/// How wide a cell is, whatever its colours.
fn columns(cell: &str) -> usize {
    anstream::adapter::strip_str(cell).to_string().width()
}
