//! Aligned columns without lines around them, in the width of the terminal.

use comfy_table::{CellAlignment, ContentArrangement, Table};

use crate::ui::{BOLD, DIM, styled, with_plain_signs};

/// A table with these headings; a heading that begins with `>` is of a column of numbers.
///
/// In a terminal that is too narrow for columns each row is a block of lines, each with its heading.
pub fn table(headings: &[&str], rows: Vec<Vec<String>>) -> String {
    let rows = rows.into_iter().map(|row| row.into_iter().map(with_plain_signs).collect::<Vec<_>>());
    let width = terminal_size::terminal_size_of(std::io::stdout()).map(|(width, _)| width.0);
    if width.is_some_and(|width| width < NARROW) {
        return blocks(headings, rows);
    }
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    // Only what is read by a person is folded to a width; what is piped keeps its lines.
    if let Some(width) = width {
        table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width);
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

/// A terminal with fewer columns is too narrow for a table.
const NARROW: u16 = 60;

/// Rows below one another, a line for each cell that has something to say.
fn blocks(headings: &[&str], rows: impl Iterator<Item = Vec<String>>) -> String {
    let line = |(heading, cell): (&&str, &String)| {
        let heading = heading.trim_start_matches('>');
        if heading.is_empty() { cell.clone() } else { format!("{}: {cell}", styled(BOLD, heading)) }
    };
    let block = |row: Vec<String>| {
        let cells = headings.iter().zip(&row).filter(|(_, cell)| !cell.trim().is_empty());
        cells.map(line).collect::<Vec<_>>().join("\n")
    };
    rows.map(block).collect::<Vec<_>>().join("\n\n")
}

/// A table with a note below each row that has one. Notes take the whole width, so that they fold no column.
pub fn noted_table(headings: &[&str], rows: Vec<Vec<String>>, notes: &[String]) -> String {
    let width = terminal_size::terminal_size_of(std::io::stdout()).map(|(width, _)| usize::from(width.0));
    let firsts: Vec<String> = rows.iter().filter_map(|row| row.first().cloned()).collect();
    let text = table(headings, rows);
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    // Where a row was folded it has more lines than one; then the notes stand below the table, each with its row's first cell.
    let end = lines.len();
    let is_folded = end != notes.len() + 1;
    for (number, note) in notes.iter().enumerate().rev().filter(|(_, note)| !note.is_empty()) {
        let note = if is_folded { format!("{}: {note}", firsts[number]) } else { note.clone() };
        let note = match width {
            Some(width) if note.chars().count() + 2 > width => {
                note.chars().take(width.saturating_sub(3)).chain(['…']).collect()
            }
            _ => note,
        };
        let at = if is_folded { end } else { number + 2 };
        lines.insert(at, styled(DIM, format!("  {note}")));
    }
    lines.join("\n")
}

/// A table with lines below each row, each of which has a thing of its own to say.
pub fn lined_table(headings: &[&str], rows: Vec<Vec<String>>, lines: &[Vec<String>]) -> String {
    let firsts: Vec<String> = rows.iter().map(|row| row.first().cloned().unwrap_or_default()).collect();
    let text = table(headings, rows);
    let mut all: Vec<String> = text.lines().map(str::to_owned).collect();
    // A row that was folded has more lines than one: then the lines stand below the table, each with its row's first cell.
    if all.len() != lines.len() + 1 {
        let of_rows = firsts.iter().zip(lines);
        all.extend(of_rows.flat_map(|(first, lines)| lines.iter().map(move |line| format!("  {first}: {line}"))));
        return all.join("\n");
    }
    for (number, lines) in lines.iter().enumerate().rev() {
        let below = lines.iter().map(|line| format!("  {line}"));
        all.splice(number + 2..number + 2, below);
    }
    all.join("\n")
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_note_stands_below_its_row() {
        let rows = ["first", "second", "third"].map(|run| vec![run.to_owned(), "1".to_owned()]);
        let notes = ["", "why it failed", "partial"].map(str::to_owned);
        let text = noted_table(&["run", ">files"], rows.to_vec(), &notes);
        let text = anstream::adapter::strip_str(&text).to_string();
        let lines: Vec<&str> =
            text.lines().map(|line| line.split("  ").find(|word| !word.is_empty()).unwrap()).collect();
        assert_eq!(lines, ["run", "first", "second", "why it failed", "third", "partial"]);
    }
}
