//! Aligned columns.

use unicode_width::UnicodeWidthStr;

/// Rows of cells; cells may hold styling, which takes no room.
#[derive(Debug, Default)]
pub struct Table {
    rows: Vec<Vec<String>>,
}

impl Table {
    pub fn row<const N: usize>(&mut self, cells: [String; N]) {
        self.rows.push(cells.into());
    }

    /// Lays the columns out, two spaces in, three between; no line ends in spaces.
    pub fn lay_out(&self) -> String {
        let count = self.rows.iter().map(Vec::len).max().unwrap_or(0);
        let widest = |i: usize| self.rows.iter().filter_map(|r| r.get(i)).map(|c| width(c)).max().unwrap_or(0);
        let widths: Vec<usize> = (0..count).map(widest).collect();
        let mut lines = Vec::new();
        for row in &self.rows {
            let mut line = String::new();
            let mut gap = 2;
            for (cell, width) in row.iter().zip(&widths) {
                if *width == 0 {
                    continue;
                }
                if self::width(cell) == 0 {
                    gap += width + 3;
                    continue;
                }
                line.push_str(&" ".repeat(gap));
                line.push_str(cell);
                gap = width - self::width(cell) + 3;
            }
            lines.push(line);
        }
        lines.join("\n")
    }
}

/// The columns that a text takes on a terminal.
pub fn width(text: &str) -> usize {
    anstream::adapter::strip_str(text).to_string().width()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_aligned_by_what_is_seen() {
        let mut table = Table::default();
        table.row(["手紙".into(), crate::ui::strong("1"), String::new(), "x".into()]);
        table.row(["abcdef".into(), String::new(), String::new(), "y".into()]);
        let plain = anstream::adapter::strip_str(&table.lay_out()).to_string();
        assert_eq!(plain, "  手紙     1   x\n  abcdef       y");
    }
}
