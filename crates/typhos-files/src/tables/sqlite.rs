//! A table of a SQLite database. In a strict table a column holds what it declares, and whole numbers, doubles and
//! bytes come as such; in any other table a column may hold anything, and everything comes as text.

use std::collections::HashMap;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::builder::{BinaryBuilder, Float64Builder, Int64Builder, StringBuilder};
use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::{DataType, Field, Schema as ArrowSchema, SchemaRef};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, Row};
use typhos_core::columns::TYPE_KEY;
use typhos_core::table::{Passed, Sieve, Table, TableError};
use typhos_load::TargetError;

use super::of_table;
use crate::sqlite::{identifier, open_existing, shown};

/// Rows of a batch.
const BATCH_ROWS: usize = 1024;

/// A table of a database.
#[derive(Debug)]
pub struct SqliteTable {
    path: PathBuf,
    connection: Connection,
    name: String,
    schema: SchemaRef,
    rows: u64,
}

fn failed(path: &Path) -> impl Fn(rusqlite::Error) -> TargetError {
    move |source| TargetError::Format { path: path.to_path_buf(), source: source.into() }
}

impl SqliteTable {
    /// Opens the table of this name.
    ///
    /// # Errors
    /// A file that is no database, a table that is not there.
    pub fn open(path: &Path, name: &str) -> Result<SqliteTable, TargetError> {
        let connection = open_existing(path)?;
        let is_strict = "SELECT strict FROM pragma_table_list WHERE schema = 'main' AND name = ?1";
        let is_strict: bool = match connection.query_row(is_strict, [name], |row| row.get(0)) {
            Err(rusqlite::Error::QueryReturnedNoRows) => {
                let what = format!("has no table '{name}'");
                return Err(TargetError::NotThat { path: path.to_path_buf(), what });
            }
            found => found.map_err(failed(path))?,
        };
        let mut statement = connection
            .prepare("SELECT name, type FROM pragma_table_info(?1)")
            .map_err(failed(path))?;
        let columns = statement
            .query_map([name], |row| Ok(field(row.get(0)?, row.get(1)?, is_strict)))
            .map_err(failed(path))?;
        let fields: Vec<Field> = columns.collect::<Result<_, _>>().map_err(failed(path))?;
        drop(statement);
        let count = format!("SELECT count(*) FROM {}", identifier(name));
        let rows: i64 = connection.query_row(&count, [], |row| row.get(0)).map_err(failed(path))?;
        let schema = Arc::new(ArrowSchema::new(fields));
        let (path, name, rows) = (path.to_path_buf(), name.to_owned(), rows.unsigned_abs());
        Ok(SqliteTable { path, connection, name, schema, rows })
    }
}

/// A column as it comes out.
fn field(name: String, declared: String, is_strict: bool) -> Field {
    let data_type = match &declared.to_ascii_uppercase()[..] {
        "INTEGER" | "INT" if is_strict => DataType::Int64,
        "REAL" if is_strict => DataType::Float64,
        "BLOB" if is_strict => DataType::Binary,
        _ => DataType::Utf8,
    };
    let metadata = HashMap::from([(TYPE_KEY.to_owned(), declared)]);
    Field::new(name, data_type, true).with_metadata(metadata)
}

/// What the values of a column are gathered in.
enum Cells {
    Integers(Int64Builder),
    Doubles(Float64Builder),
    Bytes(BinaryBuilder),
    Texts(StringBuilder),
}

impl Cells {
    fn of(data_type: &DataType) -> Cells {
        match data_type {
            DataType::Int64 => Cells::Integers(Int64Builder::new()),
            DataType::Float64 => Cells::Doubles(Float64Builder::new()),
            DataType::Binary => Cells::Bytes(BinaryBuilder::new()),
            _ => Cells::Texts(StringBuilder::new()),
        }
    }

    fn push(&mut self, value: ValueRef<'_>) {
        match self {
            Cells::Integers(cells) => cells.append_option(value.as_i64().ok()),
            Cells::Doubles(cells) => cells.append_option(value.as_f64().ok()),
            Cells::Bytes(cells) => cells.append_option(value.as_blob().ok()),
            Cells::Texts(cells) => cells.append_option(shown(value)),
        }
    }

    fn finish(&mut self) -> ArrayRef {
        match self {
            Cells::Integers(cells) => Arc::new(cells.finish()),
            Cells::Doubles(cells) => Arc::new(cells.finish()),
            Cells::Bytes(cells) => Arc::new(cells.finish()),
            Cells::Texts(cells) => Arc::new(cells.finish()),
        }
    }
}

impl Table for SqliteTable {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    fn rows(&self) -> Option<u64> {
        Some(self.rows)
    }

    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        self.read_rows(sieve, each).map_err(of_table)?;
        Ok(Passed::default())
    }
}

impl SqliteTable {
    fn read_rows(
        &self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<(), TargetError> {
        let schema = self.schema.project(sieve.columns()).expect("columns of the table");
        let schema = Arc::new(schema);
        let names: Vec<_> = schema.fields().iter().map(|field| identifier(field.name())).collect();
        // Without columns there are still rows.
        let columns = if names.is_empty() { "1".to_owned() } else { names.join(", ") };
        let most = sieve.most().and_then(|most| i64::try_from(most).ok()).unwrap_or(-1);
        let sql = format!("SELECT {columns} FROM {} LIMIT {most}", identifier(&self.name));
        let mut statement = self.connection.prepare(&sql).map_err(failed(&self.path))?;
        let mut rows = statement.query([]).map_err(failed(&self.path))?;
        let mut cells: Vec<Cells> =
            schema.fields().iter().map(|field| Cells::of(field.data_type())).collect();
        let (mut held, mut is_over) = (0, false);
        while !is_over && !sieve.is_done() {
            match rows.next().map_err(failed(&self.path))? {
                Some(row) => {
                    push(row, &mut cells).map_err(failed(&self.path))?;
                    held += 1;
                }
                None => is_over = true,
            }
            if held == BATCH_ROWS || is_over && held > 0 {
                let arrays = cells.iter_mut().map(Cells::finish).collect();
                let options = RecordBatchOptions::new().with_row_count(Some(held));
                let batch = RecordBatch::try_new_with_options(schema.clone(), arrays, &options)
                    .expect("as many values in every column");
                held = 0;
                is_over |= each(sieve.pass(&batch)).is_break();
            }
        }
        Ok(())
    }
}

fn push(row: &Row<'_>, cells: &mut [Cells]) -> rusqlite::Result<()> {
    cells.iter_mut().enumerate().try_for_each(|(at, cells)| {
        cells.push(row.get_ref(at)?);
        Ok(())
    })
}
