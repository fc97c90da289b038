//! Aligned columns: words to the left, numbers to the right, nothing cut.

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, ContentArrangement, Table};

use crate::screen::FAINT;

/// Rows under a header, set in by two spaces.
pub struct Grid {
    table: Table,
}

impl Grid {
    /// Begins with the header; a name that starts with `>` heads a column of numbers.
    pub fn new(header: &[&str]) -> Self {
        let mut table = Table::new();
        table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Disabled);
        table.set_header(header.iter().map(|name| name.trim_start_matches('>')));
        for (at, name) in header.iter().enumerate() {
            if let Some(column) = table.column_mut(at) {
                column.set_padding((if at == 0 { 2 } else { 0 }, 2));
                if name.starts_with('>') {
                    column.set_cell_alignment(CellAlignment::Right);
                }
            }
        }
        Self { table }
    }

    /// Adds a row.
    pub fn row<T: Into<String>>(&mut self, cells: impl IntoIterator<Item = T>) {
        self.table.add_row(cells.into_iter().map(Into::<String>::into));
    }

    /// The rows as text, each line with its end.
    pub fn text(&self) -> String {
        let mut lines = self.table.lines();
        let header = lines.next().map_or(String::new(), |line| format!("{FAINT}{}{FAINT:#}\n", line.trim_end()));
        header + &lines.map(|line| format!("{}\n", line.trim_end())).collect::<String>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_stand_to_the_right() {
        let mut grid = Grid::new(&["section", ">entries", "file"]);
        grid.row(["pages", "7", "a.xml"]);
        grid.row(["journal", "1,204", "b.xml"]);
        let plain = anstream::adapter::strip_str(&grid.text()).to_string();
        assert_eq!(plain, "  section  entries  file\n  pages          7  a.xml\n  journal    1,204  b.xml\n");
    }
}
