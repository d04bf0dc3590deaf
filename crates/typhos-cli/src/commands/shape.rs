//! Rows as they are printed: a table for people, or what another program reads. Rows come in batches and go as they come; only a table
//! for people is held for a while, to know how wide its columns are.

use std::io;

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_schema::{DataType, Field, SchemaRef, TimeUnit};
use serde_json::{Value, json};
use typhos_core::columns::{TYPE_KEY, cell_text, is_nested, write_json};
use unicode_width::UnicodeWidthStr;

use crate::args::Shape;
use crate::console::{BOLD, Console, DIM, paint, safe};
use crate::table::{Heading, Look, columns_that_fit, render};

/// Rows of a table for people that are measured together: those behind them have widths of their own.
const STRETCH: usize = 2_000;

/// Characters of a cell that a terminal is given.
const MOST_CELL: usize = 32;

/// How a float is shown to people.
type Shortened = fn(f64) -> String;

/// Prints rows.
pub struct Printer<'c> {
    console: &'c mut Console,
    form: Form,
    schema: SchemaRef,
    /// Columns of floats that people are not shown with all of their digits.
    short: Vec<(usize, Shortened)>,
    /// Rows that were printed, or are held to be.
    pub rows: u64,
}

enum Form {
    Table(Vec<Vec<Option<String>>>),
    Upright(usize),
    Csv,
    Ndjson,
    Markdown,
    /// A JSON document, and the last of its rows: what stands behind it depends on whether it is.
    Document(Option<String>),
}

impl<'c> Printer<'c> {
    /// Prints rows of these columns: in a shape, as one JSON document, or a record below the other.
    pub fn new(
        console: &'c mut Console,
        schema: SchemaRef,
        shape: Shape,
        is_document: bool,
        is_upright: bool,
    ) -> Printer<'c> {
        let form = match shape {
            _ if is_document => Form::Document(None),
            Shape::Table if is_upright => {
                let names = schema.fields().iter().map(|field| safe(field.name()).width());
                Form::Upright(names.max().unwrap_or(0))
            }
            Shape::Table => Form::Table(Vec::new()),
            Shape::Csv => Form::Csv,
            Shape::Ndjson => Form::Ndjson,
            Shape::Markdown => Form::Markdown,
        };
        Printer { console, form, schema, short: Vec::new(), rows: 0 }
    }

    /// Shows a column to people as shares of a hundred.
    pub fn as_percent(&mut self, column: usize) {
        self.short.push((column, percent));
    }

    /// Shows a column to people without the digits that nobody reads.
    pub fn in_few_digits(&mut self, column: usize) {
        self.short.push((column, few_digits));
    }

    /// Where it prints.
    pub fn console(self) -> &'c mut Console {
        self.console
    }

    /// Whether who read the rows has seen enough.
    pub fn is_closed(&self) -> bool {
        self.console.is_closed
    }

    /// What stands above the rows.
    ///
    /// # Errors
    /// A standard output that cannot be written to.
    pub fn begin(&mut self, title: &str, total: Option<u64>) -> io::Result<()> {
        let fields = self.schema.fields().clone();
        match self.form {
            Form::Table(_) | Form::Upright(_) => {
                let total = total.map_or(String::new(), |total| {
                    format!("  {}", typhos_core::infer::counted(total, "row"))
                });
                let title = format!("{}{}", paint(BOLD, safe(title)), paint(DIM, total));
                self.console.say(title)
            }
            Form::Csv => {
                let names = fields.iter().map(|field| csv_cell(Some(field.name())));
                self.console.machine(&names.collect::<Vec<_>>().join(","))
            }
            Form::Markdown => {
                let names = fields.iter().map(|field| markdown_cell(Some(field.name())));
                let names = names.collect::<Vec<_>>().join(" | ");
                let sides =
                    fields.iter().map(|field| if is_number(field) { "---:" } else { "---" });
                let sides = sides.collect::<Vec<_>>().join(" | ");
                self.console.machine(&format!("| {names} |\n| {sides} |"))
            }
            Form::Document(_) => {
                let columns = fields
                    .iter()
                    .map(|field| json!({ "name": field.name(), "type": declared_type(field) }));
                let head = json!({ "typhos": 1, "columns": columns.collect::<Vec<_>>() });
                let head = serde_json::to_string_pretty(&head)?;
                let head = head.strip_suffix("\n}").expect("an object ends so");
                self.console.machine(&format!("{head},\n  \"rows\": ["))
            }
            Form::Ndjson => Ok(()),
        }
    }

    /// Prints rows, or holds them until they are measured.
    ///
    /// # Errors
    /// A standard output that cannot be written to.
    pub fn push(&mut self, batch: &RecordBatch) -> io::Result<()> {
        let fields = batch.schema_ref().fields().clone();
        let columns = || fields.iter().zip(batch.columns());
        let rows = 0..batch.num_rows();
        let first = self.rows;
        self.rows += batch.num_rows() as u64;
        let texts = |row: usize| -> Vec<Option<String>> {
            batch.columns().iter().map(|column| cell_text(column, row)).collect()
        };
        let lines: Vec<String> = match &mut self.form {
            Form::Table(held) => {
                held.extend(rows.map(|row| {
                    let mut cells = texts(row);
                    for (column, short) in &self.short {
                        let floats = batch.column(*column).as_primitive_opt::<Float64Type>();
                        if let (Some(floats), Some(cell)) = (floats, &mut cells[*column]) {
                            *cell = short(floats.value(row));
                        }
                    }
                    cells
                }));
                if held.len() >= STRETCH {
                    self.print_table()?;
                }
                return Ok(());
            }
            Form::Upright(width) => {
                let width = *width;
                for row in rows {
                    let number = format!("row {}", first + row as u64 + 1);
                    self.console.say(paint(DIM, number))?;
                    for (field, column) in columns() {
                        let name = safe(field.name());
                        let pad = " ".repeat(width - name.width());
                        let value = match cell_text(column, row) {
                            Some(text) => safe(&text),
                            None => paint(DIM, "·"),
                        };
                        self.console.say(format!("  {}{pad}  {value}", paint(BOLD, name)))?;
                    }
                }
                return Ok(());
            }
            Form::Csv => {
                let line = |row| {
                    let cells = texts(row);
                    let cells = cells.iter().map(|cell| csv_cell(cell.as_deref()));
                    cells.collect::<Vec<_>>().join(",")
                };
                rows.map(line).collect()
            }
            Form::Markdown => {
                let line = |row| {
                    let cells = texts(row);
                    let cells = cells.iter().map(|cell| markdown_cell(cell.as_deref()));
                    format!("| {} |", cells.collect::<Vec<_>>().join(" | "))
                };
                rows.map(line).collect()
            }
            Form::Ndjson => {
                let line = |row| {
                    let cells = columns().map(|(field, column)| {
                        format!("{}:{}", json!(field.name()), json_cell(field, column, row))
                    });
                    format!("{{{}}}", cells.collect::<Vec<_>>().join(","))
                };
                rows.map(line).collect()
            }
            Form::Document(last) => {
                let line = |row| {
                    let cells = columns().map(|(field, column)| json_cell(field, column, row));
                    format!("    [{}]", cells.collect::<Vec<_>>().join(", "))
                };
                let mut lines = Vec::with_capacity(batch.num_rows());
                for row in rows {
                    lines.extend(last.replace(line(row)).map(|before| before + ","));
                }
                lines
            }
        };
        if lines.is_empty() { Ok(()) } else { self.console.machine(&lines.join("\n")) }
    }

    /// Prints what is held, and what stands below the rows. `more` are further members of a JSON document.
    ///
    /// # Errors
    /// A standard output that cannot be written to.
    pub fn end(&mut self, total: Option<u64>, more: &Value) -> io::Result<()> {
        match &mut self.form {
            Form::Table(held) if !held.is_empty() || self.rows == 0 => self.print_table()?,
            Form::Document(last) => {
                let last = last.take().map_or(String::new(), |last| last + "\n");
                let mut behind = json!({ "total": total });
                for (key, value) in more.as_object().into_iter().flatten() {
                    behind[key] = value.clone();
                }
                let behind = serde_json::to_string_pretty(&behind)?;
                let behind = behind.strip_prefix("{\n").expect("an object begins so");
                self.console.machine(&format!("{last}  ],\n{behind}"))?;
            }
            _ => {}
        }
        Ok(())
    }

    fn print_table(&mut self) -> io::Result<()> {
        let Form::Table(held) = &mut self.form else { return Ok(()) };
        let held = std::mem::take(held);
        let heading = |field: &Field| {
            let name = field.name();
            let heading = if is_number(field) { Heading::right(name) } else { Heading::left(name) };
            heading.most(MOST_CELL)
        };
        let fields = self.schema.fields().clone();
        let headings: Vec<_> = fields.iter().map(|field| heading(field)).collect();
        let types = fields.iter().map(|field| (declared_type(field), Look::Type)).collect();
        let rows = held.into_iter().map(|row| {
            let cells = row.into_iter().map(|cell| match cell {
                Some(text) => (text, Look::Plain),
                None => ("·".into(), Look::Dim),
            });
            cells.collect()
        });
        let mut rows: Vec<Vec<_>> = std::iter::once(types).chain(rows).collect();
        let fits = columns_that_fit(self.console, &headings, &rows);
        rows.iter_mut().for_each(|row| row.truncate(fits));
        self.console.say(render(self.console, &headings[..fits], rows, false))?;
        if fits < headings.len() {
            let columns = typhos_core::infer::counted(headings.len() as u64, "column");
            let note = format!(
                "  {fits} of {columns} fit this terminal; --upright shows all of them, --columns those that are named"
            );
            self.console.say(paint(DIM, note))?;
        }
        Ok(())
    }
}

/// A share of one as one of a hundred.
pub fn percent(share: f64) -> String {
    match share * 100.0 {
        share if share > 0.0 && share < 0.005 => format!("{share:.1e}%"),
        share => format!("{share:.2}%"),
    }
}

/// A float with six digits that count at most.
pub fn few_digits(value: f64) -> String {
    if value == 0.0 || !value.is_finite() {
        return value.to_string();
    }
    let before = value.abs().log10().floor() as i32 + 1;
    if !(-6..=15).contains(&before) {
        return format!("{value:.5e}");
    }
    let text = format!("{value:.*}", usize::try_from(6 - before).unwrap_or(0).min(12));
    match text.contains('.') {
        true => text.trim_end_matches('0').trim_end_matches('.').to_owned(),
        false => text,
    }
}

/// Absent is nothing, and an empty text is in quotes.
fn csv_cell(text: Option<&str>) -> String {
    match text {
        None => String::new(),
        Some("") => "\"\"".into(),
        Some(text) => typhos_load::csv_field(text),
    }
}

fn markdown_cell(text: Option<&str>) -> String {
    let text = text.unwrap_or_default();
    let text = text.replace('\\', "\\\\").replace('|', "\\|").replace("\r\n", "\n");
    text.replace(['\n', '\r'], "<br>")
}

fn json_cell(field: &Field, column: &ArrayRef, row: usize) -> String {
    let mut text = String::new();
    if is_nested(field) || !column.data_type().is_nested() {
        write_json(field, column, row, &mut text);
    } else {
        text = json!(cell_text(column, row)).to_string();
    }
    text
}

/// The type that is declared of a field, or an Arrow type in the words of the schema file.
pub fn declared_type(field: &Field) -> String {
    match field.metadata().get(TYPE_KEY) {
        Some(spelling) => spelling.clone(),
        None => type_name(field.data_type()),
    }
}

fn type_name(data_type: &DataType) -> String {
    let unit = |unit: &TimeUnit| match unit {
        TimeUnit::Second => "s",
        TimeUnit::Millisecond => "ms",
        TimeUnit::Microsecond => "us",
        TimeUnit::Nanosecond => "ns",
    };
    match data_type {
        DataType::Boolean => "bool".into(),
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => "text".into(),
        DataType::Dictionary(..) => "lowcard".into(),
        DataType::Date32 => "date".into(),
        DataType::Decimal32(precision, scale)
        | DataType::Decimal64(precision, scale)
        | DataType::Decimal128(precision, scale)
        | DataType::Decimal256(precision, scale) => format!("decimal({precision},{scale})"),
        DataType::Time32(resolution) | DataType::Time64(resolution) => {
            format!("time({})", unit(resolution))
        }
        DataType::Timestamp(resolution, None) => format!("timestamp({})", unit(resolution)),
        DataType::Timestamp(resolution, Some(_)) => format!("timestamp({}, utc)", unit(resolution)),
        DataType::Duration(resolution) => format!("duration({})", unit(resolution)),
        // Shown as one, too.
        DataType::FixedSizeBinary(16) => "uuid".into(),
        DataType::List(items)
        | DataType::LargeList(items)
        | DataType::ListView(items)
        | DataType::LargeListView(items)
        | DataType::FixedSizeList(items, _) => format!("list({})", type_name(items.data_type())),
        DataType::Struct(_) => "struct".into(),
        DataType::Map(entries, _) => match entries.data_type() {
            DataType::Struct(fields) => {
                let types = fields.iter().map(|field| type_name(field.data_type()));
                format!("map({})", types.collect::<Vec<_>>().join(", "))
            }
            other => format!("map({})", type_name(other)),
        },
        DataType::RunEndEncoded(_, values) => type_name(values.data_type()),
        DataType::Union(..) => "union".into(),
        DataType::Interval(_) => "interval".into(),
        DataType::Binary
        | DataType::LargeBinary
        | DataType::BinaryView
        | DataType::FixedSizeBinary(_) => "binary".into(),
        other => other.to_string().to_lowercase(),
    }
}

/// Whether a column stands to the right.
pub fn is_number(field: &Field) -> bool {
    let ty = declared_type(field).to_lowercase();
    if ty == "interval" {
        return false;
    }
    field.data_type().is_numeric()
        || ["int", "uint", "float", "decimal", "real", "integer"]
            .iter()
            .any(|number| ty.starts_with(number))
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_schema::IntervalUnit;

    use super::*;

    #[test]
    fn types_of_other_programs_are_named_in_our_words() {
        let item = |ty: DataType| Arc::new(Field::new("item", ty, true));
        let entries = DataType::Struct(
            vec![
                Field::new("key", DataType::Utf8, false),
                Field::new("value", DataType::Int32, true),
            ]
            .into(),
        );
        for (ty, want) in [
            (DataType::LargeUtf8, "text"),
            (DataType::Duration(TimeUnit::Microsecond), "duration(us)"),
            (DataType::Decimal256(70, 2), "decimal(70,2)"),
            (DataType::FixedSizeBinary(16), "uuid"),
            (DataType::FixedSizeBinary(3), "binary"),
            (DataType::LargeList(item(DataType::Int32)), "list(int32)"),
            (DataType::FixedSizeList(item(DataType::Utf8View), 2), "list(text)"),
            (DataType::Map(item(entries.clone()), false), "map(text, int32)"),
            (DataType::RunEndEncoded(item(DataType::Int16), item(DataType::Utf8)), "text"),
            (DataType::Interval(IntervalUnit::MonthDayNano), "interval"),
            (
                DataType::Timestamp(TimeUnit::Nanosecond, Some("Europe/Oslo".into())),
                "timestamp(ns, utc)",
            ),
            (DataType::Int8, "int8"),
        ] {
            let field = Field::new("c", ty.clone(), true);
            assert_eq!(declared_type(&field), want, "{ty}");
            assert_eq!(is_number(&field), ["decimal(70,2)", "int8"].contains(&want), "{ty}");
        }
    }

    #[test]
    fn floats_are_shown_in_few_digits() {
        let shown =
            [0.0, 17.333_333_333_333_332, 1234.5, 1_234_567.8, 0.000_123_456_78, -2.5, 1e20];
        assert_eq!(
            shown.map(few_digits),
            ["0", "17.3333", "1234.5", "1234568", "0.000123457", "-2.5", "1.00000e20"]
        );
        assert_eq!(
            [0.0, 0.123_45, 1.0, 0.000_001].map(percent),
            ["0.00%", "12.35%", "100.00%", "1.0e-4%"]
        );
    }

    #[test]
    fn cells_are_what_their_readers_take_for_them() {
        for (text, csv, markdown) in [
            (None, "", ""),
            (Some(""), "\"\"", ""),
            (Some("a,b"), "\"a,b\"", "a,b"),
            (Some("a\"b"), "\"a\"\"b\"", "a\"b"),
            (Some(" a"), "\" a\"", " a"),
            (Some("a|b\nc\\"), "\"a|b\nc\\\"", "a\\|b<br>c\\\\"),
        ] {
            assert_eq!(csv_cell(text), csv);
            assert_eq!(markdown_cell(text), markdown);
        }
    }
}
