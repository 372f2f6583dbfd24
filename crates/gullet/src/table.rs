//! Aligned columns without lines around them, in the width of the terminal.

use comfy_table::{CellAlignment, ContentArrangement, Table};

use crate::ui::{BOLD, styled};

/// A table with these headings; a heading that begins with `>` is of a column of numbers.
pub fn table(headings: &[&str], rows: Vec<Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    // Only what is read by a person is folded to a width; what is piped keeps its lines.
    if let Some((width, _)) = terminal_size::terminal_size_of(std::io::stdout()) {
        table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width.0.max(60));
    }
    table.set_header(headings.iter().map(|heading| styled(BOLD, heading.trim_start_matches('>'))));
    for row in rows {
        table.add_row(row);
    }
    for (number, heading) in headings.iter().enumerate() {
        if let Some(column) = table.column_mut(number) {
            column.set_padding((if number == 0 { 0 } else { 1 }, 1));
            if heading.starts_with('>') {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
    }
    table.lines().map(|line| line.trim_end().to_owned()).collect::<Vec<_>>().join("\n")
}

/// Names and values below one another.
pub fn pairs(pairs: &[(&str, String)]) -> String {
    let width = pairs.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    let line = |(name, value): &(&str, String)| {
        let mut lines = value.lines();
        let first = format!("{}{} {}", styled(BOLD, name), " ".repeat(width - name.len()), lines.next().unwrap_or(""));
        let rest = lines.map(|line| format!("\n{} {line}", " ".repeat(width)));
        first + &rest.collect::<String>()
    };
    pairs.iter().map(line).collect::<Vec<_>>().join("\n")
}
