//! Aligned columns, which fold where the window is too narrow for them.

use crate::format::{self, width};

/// Columns before the first cell.
const INDENT: usize = 2;
/// Columns between two cells.
const GAP: usize = 3;

/// Rows of cells; cells may hold styling, which takes no room.
#[derive(Debug, Clone, Default)]
pub struct Table {
    head: Option<Vec<String>>,
    rows: Vec<Vec<String>>,
}

impl Table {
    /// Says what stands in each column.
    pub fn head<const N: usize>(&mut self, cells: [&str; N]) {
        self.head = Some(cells.map(str::to_owned).into());
    }

    /// Adds a row.
    pub fn row<const N: usize>(&mut self, cells: [String; N]) {
        self.rows.push(cells.into());
    }

    /// Returns what stands above the columns, where that is said.
    pub fn heading(&self) -> Option<&[String]> {
        self.head.as_deref()
    }

    /// Returns the rows, from above.
    pub fn rows(&self) -> impl Iterator<Item = &[String]> {
        self.rows.iter().map(Vec::as_slice)
    }

    /// Lays the columns out, two spaces in, three between; no line ends in spaces. Within so many columns where that can be
    /// done without cutting a word: first cells are folded; where even that is too wide, each row becomes a block of lines.
    pub fn lay_out(&self, limit: Option<usize>) -> String {
        let head: Option<Vec<String>> = self.head.as_ref().map(|head| head.iter().map(crate::paint::faint).collect());
        let rows: Vec<&Vec<String>> = head.iter().chain(&self.rows).collect();
        let count = rows.iter().map(|row| row.len()).max().unwrap_or(0);
        // A column that holds nothing below its head is left out.
        let is_used = |i: usize| self.rows.iter().any(|row| row.get(i).is_some_and(|cell| width(cell) > 0));
        let used: Vec<usize> = (0..count).filter(|i| is_used(*i)).collect();
        let cell = |row: &'_ Vec<String>, i: usize| row.get(i).cloned().unwrap_or_default();
        let widest = |i: usize| rows.iter().map(|row| width(&cell(row, i))).max().unwrap_or(0);
        let longest = |i: usize| {
            let of_row = |row: &&Vec<String>| format::pieces(&cell(row, i)).iter().map(|p| width(p)).max().unwrap_or(0);
            rows.iter().map(of_row).max().unwrap_or(0)
        };
        let mut widths: Vec<usize> = used.iter().map(|i| widest(*i)).collect();
        if let Some(limit) = limit {
            let least: Vec<usize> = used.iter().map(|i| longest(*i)).collect();
            let room = limit.saturating_sub(INDENT + GAP * used.len().saturating_sub(1));
            if !shrink(&mut widths, &least, room) {
                return self.blocks(&used, limit);
            }
        }
        let mut lines = Vec::new();
        for row in rows {
            let folded: Vec<Vec<String>> =
                used.iter().zip(&widths).map(|(i, width)| format::wrap(&cell(row, *i), (*width).max(1))).collect();
            let height = folded.iter().map(Vec::len).max().unwrap_or(0);
            for y in 0..height {
                let (mut line, mut gap) = (String::new(), INDENT);
                for (cell, width) in folded.iter().zip(&widths) {
                    let text = cell.get(y).map_or("", String::as_str);
                    let len = format::width(text);
                    if len > 0 {
                        line.push_str(&" ".repeat(gap));
                        line.push_str(text);
                        gap = 0;
                    }
                    gap += width - len + GAP;
                }
                lines.push(line);
            }
        }
        lines.join("\n")
    }

    /// A row as a block: its first cell, and below it the others, each with its head.
    fn blocks(&self, used: &[usize], limit: usize) -> String {
        let mut lines = Vec::new();
        for row in &self.rows {
            for (n, i) in used.iter().enumerate() {
                let Some(cell) = row.get(*i).filter(|cell| width(cell) > 0) else { continue };
                let head = self.head.as_ref().and_then(|head| head.get(*i)).filter(|head| n > 0 && !head.is_empty());
                let text = head
                    .map_or_else(|| cell.clone(), |head| format!("{} {cell}", crate::paint::faint(format!("{head}:"))));
                let indent = if n == 0 { INDENT } else { 2 * INDENT };
                for line in format::wrap(&text, limit.saturating_sub(indent)) {
                    lines.push(format!("{}{line}", " ".repeat(indent)));
                }
            }
        }
        lines.join("\n")
    }
}

/// Takes from the widest columns until all fit into `room`; says whether they do.
fn shrink(widths: &mut [usize], least: &[usize], room: usize) -> bool {
    if least.iter().sum::<usize>() > room {
        return widths.iter().sum::<usize>() <= room;
    }
    while widths.iter().sum::<usize>() > room {
        let can = (0..widths.len()).filter(|i| widths[*i] > least[*i]);
        let Some(i) = can.max_by_key(|i| widths[*i]) else { return false };
        widths[i] -= 1;
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(table: &Table, limit: Option<usize>) -> String {
        crate::paint::plain(&table.lay_out(limit))
    }

    #[test]
    fn columns_are_aligned_by_what_is_seen() {
        let mut table = Table::default();
        table.row(["手紙".into(), crate::paint::strong("1"), String::new(), "x".into()]);
        table.row(["abcdef".into(), String::new(), String::new(), "y".into()]);
        assert_eq!(plain(&table, None), "  手紙     1   x\n  abcdef       y");
    }

    #[test]
    fn a_narrow_window_folds_cells_and_then_rows() {
        let mut table = Table::default();
        table.head(["release", "sealed", "where", ""]);
        table.row([
            "1.4.0 (27)".into(),
            "2026-11-27 17:32".into(),
            "brambleyard: creek, estuary".into(),
            String::new(),
        ]);
        table.row(["1.3.2 (25)".into(), "2026-11-27 17:30".into(), String::new(), String::new()]);
        let lines = plain(&table, Some(80));
        assert!(lines.starts_with("  release      sealed             where\n  1.4.0 (27)   2026"), "{lines}");
        insta::assert_snapshot!(plain(&table, Some(50)), @"
        release      sealed             where
        1.4.0 (27)   2026-11-27 17:32   brambleyard:
                                        creek, estuary
        1.3.2 (25)   2026-11-27 17:30
        ");
        insta::assert_snapshot!(plain(&table, Some(40)), @"
        1.4.0 (27)
          sealed: 2026-11-27 17:32
          where: brambleyard: creek, estuary
        1.3.2 (25)
          sealed: 2026-11-27 17:30
        ");
    }
}
