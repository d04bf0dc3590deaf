//! Tables for the terminal and for pipes.

use comfy_table::{
    Attribute, Cell, CellAlignment, Color, ColumnConstraint, ContentArrangement, Table, Width,
    presets,
};

use unicode_width::UnicodeWidthStr;

use crate::console::{Console, safe};

/// What a cell is, which decides how it looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Look {
    Plain,
    Dim,
    Type,
    Warn,
}

/// A column's heading and side.
pub struct Heading {
    pub text: String,
    pub right: bool,
    /// The most characters it may take on a terminal; longer cells are cut there.
    pub most: Option<usize>,
}

impl Heading {
    pub fn left(text: impl Into<String>) -> Heading {
        Heading { text: text.into(), right: false, most: None }
    }

    pub fn right(text: impl Into<String>) -> Heading {
        Heading { text: text.into(), right: true, most: None }
    }

    pub fn most(mut self, most: usize) -> Heading {
        self.most = Some(most);
        self
    }
}

/// The most characters of a cell, wherever it goes: longer ones are for JSON.
const MOST_CELL: usize = 2_000;

/// A text cut to so many characters, with an ellipsis.
pub fn cut(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    text.chars().take(most.saturating_sub(1)).chain(['…']).collect()
}

/// How many columns from the left fit the terminal, where each is as wide as its widest cell.
pub fn columns_that_fit(
    console: &Console,
    headings: &[Heading],
    rows: &[Vec<(String, Look)>],
) -> usize {
    let Some(width) = console.width else { return headings.len() };
    let mut used = 2;
    let fits = headings.iter().enumerate().take_while(|(at, heading)| {
        let cells = rows.iter().filter_map(|row| row.get(*at));
        let cells = cells.map(|(text, _)| safe(&cut(text, MOST_CELL)).width());
        let widest = cells.max().unwrap_or(0).min(heading.most.unwrap_or(usize::MAX));
        used += widest.max(safe(&heading.text).width()) + 2;
        used <= width
    });
    fits.count().max(1)
}

/// A table: headings, rows, and a last column that takes what room is left and may wrap.
pub fn render(
    console: &Console,
    headings: &[Heading],
    rows: Vec<Vec<(String, Look)>>,
    wrap_last: bool,
) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    if console.is_terminal() {
        table.enforce_styling();
    } else {
        table.force_no_tty();
    }
    match console.width {
        Some(width) => {
            table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
            table.set_content_arrangement(ContentArrangement::Dynamic);
        }
        None => {
            table.set_content_arrangement(ContentArrangement::Disabled);
        }
    }
    let heading = |heading: &Heading| {
        let cell = Cell::new(safe(&heading.text)).add_attribute(Attribute::Bold);
        if heading.right { cell.set_alignment(CellAlignment::Right) } else { cell }
    };
    table.set_header(headings.iter().map(heading).collect::<Vec<_>>());
    for row in rows {
        let cells = row.into_iter().zip(headings).map(|((text, look), heading)| {
            // Cut before it is looked at letter by letter.
            let text = safe(&cut(&text, MOST_CELL));
            let text = match (heading.most, console.width) {
                (Some(most), Some(_)) => cut(&text, most),
                // Every row of a column is as wide as its widest cell.
                _ => cut(&text, MOST_CELL),
            };
            let cell = Cell::new(text);
            let cell = match look {
                Look::Plain => cell,
                Look::Dim => cell.add_attribute(Attribute::Dim),
                Look::Type => cell.fg(Color::DarkCyan),
                Look::Warn => cell.fg(Color::DarkYellow),
            };
            if heading.right { cell.set_alignment(CellAlignment::Right) } else { cell }
        });
        table.add_row(cells.collect::<Vec<_>>());
    }
    let columns = headings.len();
    for (at, column) in table.column_iter_mut().enumerate() {
        column.set_padding((if at == 0 { 2 } else { 0 }, 2));
        if at + 1 < columns || !wrap_last {
            column.set_constraint(ColumnConstraint::ContentWidth);
        } else {
            column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(20)));
        }
    }
    table.lines().map(|line| line.trim_end().to_owned()).collect::<Vec<_>>().join("\n")
}
