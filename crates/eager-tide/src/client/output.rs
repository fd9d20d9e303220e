//! Printing: tables for people, JSON for programs, and nothing that could steer a terminal.

use comfy_table::{Attribute, Cell, ContentArrangement, Table, presets};
use serde::Serialize;
use std::io::Write;

/// Text without control characters and without marks that turn the reading direction: data from
/// elsewhere must not steer the terminal it is shown on.
pub fn clean(text: &str) -> String {
    text.chars()
        .filter(|c| *c == '\n' || !c.is_control())
        .filter(|c| !matches!(*c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}'))
        .collect()
}

/// Prints a line. A reader that went away (`| head`) is no error.
pub fn line(text: &str) {
    let _ = writeln!(std::io::stdout(), "{}", clean(text));
}

/// A number with its noun.
pub fn plural(number: usize, noun: &str) -> String {
    let ending = if number == 1 { "" } else { "s" };
    format!("{number} {noun}{ending}")
}

/// Prints a value for programs.
pub fn json<T: Serialize + ?Sized>(value: &T) -> anyhow::Result<()> {
    let _ = writeln!(
        std::io::stdout(),
        "{}",
        serde_json::to_string_pretty(value)?
    );
    Ok(())
}

/// Prints a table. It fits the terminal, or 140 columns where there is none.
pub fn table(head: &[&str], rows: impl IntoIterator<Item = Vec<String>>) {
    let mut table = Table::new();
    let bold = table.is_tty();
    if !bold {
        table.set_width(140);
    }
    // Each cell was cleaned already. Cleaning the whole table would remove the escape codes of the
    // bold header.
    let _ = write!(std::io::stdout(), "{}", laid_out(table, head, rows, bold));
}

fn laid_out(
    mut table: Table,
    head: &[&str],
    rows: impl IntoIterator<Item = Vec<String>>,
    bold: bool,
) -> String {
    table
        .load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(head.iter().map(|text| {
        let cell = Cell::new(text.to_uppercase());
        if bold {
            cell.add_attribute(Attribute::Bold)
        } else {
            cell
        }
    }));
    for row in rows {
        table.add_row(row.iter().map(|text| Cell::new(clean(text))));
    }
    table
        .to_string()
        .lines()
        .map(|line| format!("{}\n", line.trim_end()))
        .collect()
}

/// A fault of a rule set as one line: file, line, column, what, and what to do.
pub fn fault(fault: &tide_api::Fault) -> String {
    let help = fault
        .help
        .as_ref()
        .map(|help| format!("\n      {help}"))
        .unwrap_or_default();
    format!(
        "{}  {}:{}:{}  {}{help}",
        fault.severity, fault.file, fault.line, fault.column, fault.message
    )
}

/// An instant for people: to the second, as UTC.
pub fn time(stamp: &str) -> String {
    format!("{} UTC", stamp.get(..19).unwrap_or(stamp).replace('T', " "))
}

/// Values as one line; none is a dash.
pub fn values(values: &[String]) -> String {
    if values.is_empty() {
        "—".into()
    } else {
        values.join(" · ")
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn nothing_steers_the_terminal() {
        assert_eq!(super::clean("a\u{1b}[31mb\u{202e}c\u{7}\nd"), "a[31mbc\nd");
    }

    #[test]
    fn a_table_is_bold_by_its_own_hand_only() {
        let rows = || vec![vec!["Ada\u{1b}[31m".to_owned(), "in sync".to_owned()]];
        let mut wide = comfy_table::Table::new();
        wide.set_width(60);
        let plain = super::laid_out(wide, &["person", "state"], rows(), false);
        assert_eq!(plain, " PERSON   STATE\n Ada[31m  in sync\n");
        let mut wide = comfy_table::Table::new();
        wide.set_width(60).enforce_styling();
        let bold = super::laid_out(wide, &["person", "state"], rows(), true);
        assert!(
            bold.starts_with('\u{1b}') && bold.contains("Ada[31m") && !bold.contains("Ada\u{1b}"),
            "{bold:?}"
        );
    }
}
