//! Tables with aligned columns: words on the left, numbers on the right. On a narrow terminal, dispensable columns are
//! omitted, and long cells are cut in the middle.

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, ContentArrangement, Table};
use textwrap::core::display_width;

use crate::screen::{FAINT, Layout, cut};

/// The least width of a column.
const LEAST: usize = 12;
/// The number of blanks before the first column and after each column.
const GAP: usize = 2;

/// Rows under a header, indented by two spaces.
pub struct Grid {
    columns: Vec<Column>,
    rows: Vec<Vec<String>>,
}

struct Column {
    name: String,
    /// Whether it contains numbers.
    is_number: bool,
    /// Whether it is omitted if there is no room.
    can_be_missed: bool,
}

impl Grid {
    /// Begins with the header. A name that starts with `>` heads a column of numbers; one that starts with `?` heads a
    /// dispensable column.
    pub fn new(header: &[&str]) -> Self {
        let column = |name: &&str| Column {
            name: name.trim_start_matches(['>', '?']).to_owned(),
            is_number: name.trim_start_matches('?').starts_with('>'),
            can_be_missed: name.starts_with('?'),
        };
        Self { columns: header.iter().map(column).collect(), rows: Vec::new() }
    }

    /// Adds a row.
    pub fn row<T: Into<String>>(&mut self, cells: impl IntoIterator<Item = T>) {
        self.rows.push(cells.into_iter().map(Into::into).collect());
    }

    /// The same without dispensable columns in which nothing stands.
    #[must_use]
    pub fn without_blank_columns(mut self) -> Self {
        for at in (0..self.columns.len()).rev() {
            let is_blank = self.rows.iter().all(|row| row.get(at).is_none_or(|cell| cell == "–" || cell.is_empty()));
            if self.columns[at].can_be_missed && is_blank {
                self.columns.remove(at);
                self.rows.iter_mut().for_each(|row| drop(row.remove(at)));
            }
        }
        self
    }

    /// The table as text; each line ends with a line feed.
    pub fn text(self, layout: &Layout) -> String {
        let Self { mut columns, mut rows } = self;
        if let Some(width) = layout.width {
            fit(&mut columns, &mut rows, width);
        }
        let mut table = Table::new();
        table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Disabled);
        table.set_header(columns.iter().map(|column| &column.name));
        for (at, column) in columns.iter().enumerate() {
            if let Some(drawn) = table.column_mut(at) {
                drawn.set_padding((if at == 0 { GAP as u16 } else { 0 }, GAP as u16));
                if column.is_number {
                    drawn.set_cell_alignment(CellAlignment::Right);
                }
            }
        }
        for row in rows {
            table.add_row(row);
        }
        let mut lines = table.lines();
        let header = lines.next().map_or(String::new(), |line| format!("{FAINT}{}{FAINT:#}\n", line.trim_end()));
        header + &lines.map(|line| format!("{}\n", line.trim_end())).collect::<String>()
    }
}

/// Fits rows into a width: omits dispensable columns, the last first, then narrows the widest.
fn fit(columns: &mut Vec<Column>, rows: &mut [Vec<String>], width: usize) {
    let widths = |columns: &[Column], rows: &[Vec<String>]| -> Vec<usize> {
        let cells = |at: usize| rows.iter().filter_map(move |row| row.get(at)).map(|cell| display_width(cell));
        columns
            .iter()
            .enumerate()
            .map(|(at, column)| cells(at).chain([display_width(&column.name)]).max().unwrap_or(0))
            .collect()
    };
    // Blanks after the last column are trimmed.
    let room = |columns: &[Column]| width.saturating_sub(GAP * columns.len());
    while widths(columns, rows).iter().sum::<usize>() > room(columns) {
        let Some(at) = columns.iter().rposition(|column| column.can_be_missed) else { break };
        columns.remove(at);
        rows.iter_mut().for_each(|row| drop(row.remove(at)));
    }
    let mut narrowed = widths(columns, rows);
    while narrowed.iter().sum::<usize>() > room(columns) {
        let words = (0..columns.len()).filter(|at| !columns[*at].is_number && narrowed[*at] > LEAST);
        let Some(widest) = words.max_by_key(|at| narrowed[*at]) else { break };
        narrowed[widest] -= 1;
    }
    for row in rows.iter_mut() {
        row.iter_mut().zip(&narrowed).for_each(|(cell, width)| *cell = cut(cell, *width));
    }
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    proptest! {
        #[test]
        fn a_table_fits_its_terminal(
            rows in proptest::collection::vec(("[a-z ]{0,60}", 0u32..10_000_000, "[a-z/é]{0,90}"), 1..12),
            width in 45usize..140,
        ) {
            let layout = Layout {
                verbose: false,
                brief: false,
                zone: TimeZone::UTC,
                width: Some(width),
                origin: "https://a.example".to_owned(),
            };
            let mut grid = Grid::new(&["because", ">entries", "?>size", "file"]);
            for (words, number, file) in &rows {
                grid.row([words.clone(), number.to_string(), "12.5 kB".to_owned(), file.clone()]);
            }
            let text = anstream::adapter::strip_str(&grid.text(&layout)).to_string();
            prop_assert!(text.lines().all(|line| display_width(line) <= width), "{text}");
            // Numbers are never cut.
            for (line, (_, number, _)) in text.lines().skip(1).zip(&rows) {
                prop_assert!(line.contains(&number.to_string()), "{text}");
            }
        }
    }

    fn drawn(width: Option<usize>) -> String {
        let layout =
            Layout { verbose: false, brief: false, zone: TimeZone::UTC, width, origin: "https://a.example".to_owned() };
        let mut grid = Grid::new(&["section", ">entries", "?>files", "newest page"]);
        grid.row(["pages", "7", "1", "/fares/"]);
        grid.row(["journal", "1,204", "3", "/journal/frost-on-the-cutting/"]);
        anstream::adapter::strip_str(&grid.text(&layout)).to_string()
    }

    #[rstest]
    #[case(
        None,
        "  section  entries  files  newest page\n  pages          7      1  /fares/\n  journal    1,204      3  /journal/frost-on-the-cutting/\n"
    )]
    #[case(
        Some(50),
        "  section  entries  newest page\n  pages          7  /fares/\n  journal    1,204  /journal/frost-on-the-cutting/\n"
    )]
    #[case(
        Some(40),
        "  section  entries  newest page\n  pages          7  /fares/\n  journal    1,204  /journal/…e-cutting/\n"
    )]
    fn columns_are_dropped_on_narrow_terminals(#[case] width: Option<usize>, #[case] wanted: &str) {
        assert_eq!(drawn(width), wanted);
    }
}
