//! Rows of texts, as servers tell them, made into batches: each value a plain text of its column's type, or none.

use std::sync::Arc;

use arrow_array::{RecordBatch, RecordBatchOptions};
use arrow_schema::{Schema as ArrowSchema, SchemaRef};

use super::absent::Around;
use super::cells::{Boxed, Cells};
use super::nested::with_cells;
use super::plan::arrow_fields;
use crate::schema::{ColumnDecl, iso_8601};

/// Rows of texts that become batches. A text that is no value of its column's type is absent, and counted.
pub struct TextRows {
    schema: SchemaRef,
    cells: Vec<Box<dyn Cells>>,
    rows: usize,
    misfits: u64,
}

impl TextRows {
    /// No rows yet, of declared columns. Dates and times without a pattern are written as ISO 8601 has them.
    ///
    /// # Errors
    /// A bound that is not a value of its column's type.
    pub fn new(columns: &[ColumnDecl]) -> Result<TextRows, String> {
        let around = Around::default();
        let cells = columns.iter().map(|column| with_cells(&with_patterns(column), &around, Boxed));
        Ok(TextRows {
            schema: Arc::new(ArrowSchema::new(arrow_fields(columns))),
            cells: cells.collect::<Result<_, _>>()?,
            rows: 0,
            misfits: 0,
        })
    }

    /// The columns, all of which may be absent.
    pub fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    /// Adds a row: a value, or none, for every column. Columns without a value are absent, and values without a column are
    /// not looked at.
    pub fn push<'v>(&mut self, row: impl IntoIterator<Item = Option<&'v [u8]>>) {
        let mut values = row.into_iter();
        for cells in &mut self.cells {
            let value = values.next().flatten();
            let is_taken = value.is_some_and(|value| {
                std::str::from_utf8(value).is_ok() && cells.push(value).is_ok()
            });
            if !is_taken {
                cells.push_null();
                self.misfits += u64::from(value.is_some());
            }
        }
        self.rows += 1;
    }

    /// Rows since the last batch.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Texts so far that were no values of their columns' types.
    pub fn misfits(&self) -> u64 {
        self.misfits
    }

    /// The rows since the last batch, as one.
    pub fn finish(&mut self) -> RecordBatch {
        let columns = self.cells.iter_mut().map(|cells| cells.finish()).collect();
        let options =
            RecordBatchOptions::new().with_row_count(Some(std::mem::take(&mut self.rows)));
        RecordBatch::try_new_with_options(self.schema.clone(), columns, &options)
            .expect("every row has a cell in every column")
    }
}

/// A column as it is read: of dates and times one that has a pattern.
fn with_patterns(column: &ColumnDecl) -> ColumnDecl {
    let mut column = column.clone();
    if column.patterns.is_empty()
        && let Some(leaf) = column.ty.leaf().filter(|leaf| leaf.takes_patterns())
    {
        column.patterns = iso_8601(leaf, column.dates.zone.is_some());
    }
    column
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::cell_text;
    use crate::schema::{Scalar, TimeUnit, Type};

    fn rows(columns: &[ColumnDecl], texts: &[&[Option<&str>]]) -> (Vec<Vec<Option<String>>>, u64) {
        let mut rows = TextRows::new(columns).unwrap();
        for row in texts {
            rows.push(row.iter().map(|value| value.map(str::as_bytes)));
        }
        let (count, batch) = (rows.rows(), rows.finish());
        assert_eq!((batch.num_rows(), rows.rows()), (count, 0));
        let cells = |row| batch.columns().iter().map(|column| cell_text(column, row)).collect();
        ((0..count).map(cells).collect(), rows.misfits())
    }

    #[test]
    fn texts_become_values_of_their_columns() {
        let utc = Scalar::Timestamp { unit: TimeUnit::Micro, utc: true };
        let mut cabin = ColumnDecl::new("cabin", Scalar::Category);
        cabin.values = vec!["deck".into(), "saloon".into()];
        let columns = [
            ColumnDecl::new("party", Scalar::Int(crate::schema::IntType::Int16)),
            ColumnDecl::new("sold_at", utc),
            cabin,
            ColumnDecl::new("lists", Type::List(Box::new(Scalar::Float64.into()))),
            ColumnDecl::new("note", Scalar::Text { most: None }),
        ];
        let (found, misfits) = rows(
            &columns,
            &[
                &[
                    Some("-2"),
                    Some("2024-02-29 06:15:00.5Z"),
                    Some("saloon"),
                    Some("[1.5, null]"),
                    Some(""),
                ],
                &[None, None, None, None, None],
                &[Some("x"), Some("infinity"), Some("hold"), Some("{1}"), Some(" kept ")],
                &[Some("7")],
            ],
        );
        let text = |text: &str| Some(text.to_owned());
        let first = ["-2", "2024-02-29 06:15:00.500Z", "saloon", "[1.5, null]", ""];
        assert_eq!(found[0], first.map(text));
        assert_eq!(found[1], vec![None; 5]);
        assert_eq!(found[2], [None, None, None, None, text(" kept ")]);
        assert_eq!(found[3], [text("7"), None, None, None, None]);
        assert_eq!(misfits, 4, "what is not there is no misfit");
    }

    #[test]
    fn rows_without_columns_are_rows_and_bytes_that_are_no_text_are_misfits() {
        assert_eq!(rows(&[], &[&[], &[Some("more")]]), (vec![vec![], vec![]], 0));
        let mut rows =
            TextRows::new(&[ColumnDecl::new("note", Scalar::Text { most: None })]).unwrap();
        rows.push([Some(&b"\xff"[..])]);
        assert_eq!((rows.misfits(), rows.finish().column(0).null_count()), (1, 1));
    }
}
