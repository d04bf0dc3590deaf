//! A table of a SQLite database. In a strict table a column holds what it declares, and whole numbers, doubles and
//! bytes come as such. In any other table, and where a column is declared `ANY`, it may hold anything: its values are asked
//! what they are, since `'10' > '5'` is another question of texts than of numbers.

use std::collections::HashMap;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::builder::{
    BinaryBuilder, Float64Builder, Int64Builder, StringBuilder, UInt64Builder,
};
use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::{DataType, Field, Schema as ArrowSchema, SchemaRef};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, Row};
use typhos_core::columns::TYPE_KEY;
use typhos_core::table::{Passed, Sieve, Table, TableError};
use typhos_load::TargetError;

use super::of_table;
use crate::sqlite::{Affinity, identifier, open_existing, shown};

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
        // What is found out about the values holds until they are read, whoever writes in between.
        connection.execute_batch("BEGIN").map_err(failed(path))?;
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
            .query_map([name], |row| Ok((row.get(0)?, row.get(1)?)))
            .map_err(failed(path))?;
        let columns: Vec<(String, String)> =
            columns.collect::<Result<_, _>>().map_err(failed(path))?;
        drop(statement);
        let fields = fields(&connection, name, columns, is_strict).map_err(failed(path))?;
        let count = format!("SELECT count(*) FROM {}", identifier(name));
        let rows: i64 = connection.query_row(&count, [], |row| row.get(0)).map_err(failed(path))?;
        let schema = Arc::new(ArrowSchema::new(fields));
        let (path, name, rows) = (path.to_path_buf(), name.to_owned(), rows.unsigned_abs());
        Ok(SqliteTable { path, connection, name, schema, rows })
    }
}

/// Columns whose values are asked about at once: five questions each, and an answer has at most 2,000 columns.
const ASKED_AT_ONCE: usize = 300;

/// The columns as they come out.
fn fields(
    connection: &Connection,
    table: &str,
    columns: Vec<(String, String)>,
    is_strict: bool,
) -> rusqlite::Result<Vec<Field>> {
    let settled = columns.iter().map(|(_, declared)| settled(declared, is_strict));
    let mut types: Vec<Option<DataType>> = settled.collect();
    let open: Vec<usize> = (0..types.len()).filter(|at| types[*at].is_none()).collect();
    for some in open.chunks(ASKED_AT_ONCE) {
        let questions: Vec<String> =
            some.iter().map(|at| about_values(&identifier(&columns[*at].0))).collect();
        let sql = format!("SELECT {} FROM {}", questions.join(", "), identifier(table));
        connection.query_row(&sql, [], |row| {
            for (nth, at) in some.iter().enumerate() {
                types[*at] = Some(type_of_values(row, QUESTIONS * nth, &columns[*at].1)?);
            }
            Ok(())
        })?;
    }
    let field = |((name, declared), data_type): ((String, String), Option<DataType>)| {
        let metadata = HashMap::from([(TYPE_KEY.to_owned(), declared)]);
        Field::new(name, data_type.unwrap_or(DataType::Utf8), true).with_metadata(metadata)
    };
    Ok(columns.into_iter().zip(types).map(field).collect())
}

/// The type of a column whatever its values are; `None` where they decide.
fn settled(declared: &str, is_strict: bool) -> Option<DataType> {
    match &declared.to_ascii_uppercase()[..] {
        "INTEGER" | "INT" if is_strict => Some(DataType::Int64),
        "REAL" if is_strict => Some(DataType::Float64),
        "BLOB" if is_strict => Some(DataType::Binary),
        // Numbers become texts there.
        _ => (Affinity::of(declared) == Affinity::Text).then_some(DataType::Utf8),
    }
}

/// How many answers there are about each column.
const QUESTIONS: usize = 5;

/// Whether there are values, any that are no numbers, any reals, any integers that no double holds, and nothing but what an unsigned
/// integer of 64 bits may be, above 63 bits as digits.
fn about_values(column: &str) -> String {
    format!(
        "count({column}) > 0, \
         max(typeof({column}) NOT IN ('integer', 'real', 'null')), \
         max(typeof({column}) = 'real'), \
         max(typeof({column}) = 'integer' AND {column} NOT BETWEEN -9007199254740992 AND 9007199254740992), \
         min({column} IS NULL OR typeof({column}) = 'integer' AND {column} >= 0 OR typeof({column}) = 'text' \
         AND {column} NOT GLOB '*[^0-9]*' AND {column} NOT GLOB '0*' \
         AND (length({column}) = 19 OR length({column}) = 20 AND {column} <= '18446744073709551615'))"
    )
}

/// The type that holds all values, by the answers from a place on; that of the declaration where there are none.
fn type_of_values(row: &Row<'_>, from: usize, declared: &str) -> rusqlite::Result<DataType> {
    let is = |question: usize| row.get::<_, Option<bool>>(from + question);
    let is = |question: usize| is(question).map(|answer| answer.unwrap_or(false));
    let (has_values, has_others, has_reals, has_wide, is_unsigned) =
        (is(0)?, is(1)?, is(2)?, is(3)?, is(4)?);
    let affinity = Affinity::of(declared);
    Ok(match () {
        () if !has_values && affinity == Affinity::Integer => DataType::Int64,
        () if !has_values && affinity == Affinity::Real => DataType::Float64,
        () if !has_values => DataType::Utf8,
        () if has_others && is_unsigned => DataType::UInt64,
        () if has_others || has_reals && has_wide => DataType::Utf8,
        () if has_reals => DataType::Float64,
        () => DataType::Int64,
    })
}

/// What the values of a column are gathered in.
enum Cells {
    Integers(Int64Builder),
    Unsigned(UInt64Builder),
    Doubles(Float64Builder),
    Bytes(BinaryBuilder),
    Texts(StringBuilder),
}

impl Cells {
    fn of(data_type: &DataType) -> Cells {
        match data_type {
            DataType::Int64 => Cells::Integers(Int64Builder::new()),
            DataType::UInt64 => Cells::Unsigned(UInt64Builder::new()),
            DataType::Float64 => Cells::Doubles(Float64Builder::new()),
            DataType::Binary => Cells::Bytes(BinaryBuilder::new()),
            _ => Cells::Texts(StringBuilder::new()),
        }
    }

    fn push(&mut self, value: ValueRef<'_>) {
        match self {
            Cells::Integers(cells) => cells.append_option(value.as_i64().ok()),
            Cells::Unsigned(cells) => {
                cells.append_option(shown(value).and_then(|digits| digits.parse().ok()));
            }
            Cells::Doubles(cells) => cells.append_option(match value {
                ValueRef::Integer(whole) => Some(whole as f64),
                other => other.as_f64().ok(),
            }),
            Cells::Bytes(cells) => cells.append_option(value.as_blob().ok()),
            Cells::Texts(cells) => cells.append_option(shown(value)),
        }
    }

    fn finish(&mut self) -> ArrayRef {
        match self {
            Cells::Integers(cells) => Arc::new(cells.finish()),
            Cells::Unsigned(cells) => Arc::new(cells.finish()),
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

#[cfg(test)]
mod tests {
    use super::*;

    /// The types of the columns of a table that is made so.
    fn types(make: &str) -> Vec<DataType> {
        let file = tempfile::NamedTempFile::new().unwrap();
        Connection::open(file.path()).unwrap().execute_batch(make).unwrap();
        let table = SqliteTable::open(file.path(), "t").unwrap();
        table.schema.fields().iter().map(|field| field.data_type().clone()).collect()
    }

    #[test]
    fn values_decide_where_a_column_may_hold_anything() {
        use DataType::{Float64, Int64, UInt64, Utf8};
        let values = |declared: &str, values: &str| {
            types(&format!("CREATE TABLE t (c {declared}); INSERT INTO t VALUES {values};"))
                .remove(0)
        };
        for (declared, rows, want) in [
            ("INTEGER", "(1), (NULL), (-9223372036854775808)", Int64),
            ("INTEGER", "(1), ('many')", Utf8),
            ("INTEGER", "(1), (2.5)", Float64),
            ("NUMERIC", "(1.5), (2), (NULL)", Float64),
            // No double holds the first of them.
            ("NUMERIC", "(9007199254740993), (1.5)", Utf8),
            ("BOOLEAN", "(0), (1)", Int64),
            ("DATE", "('2024-03-01'), (NULL)", Utf8),
            ("VARCHAR(9)", "(1), (2)", Utf8),
            ("", "(1), (2)", Int64),
            ("", "('1'), (2)", Utf8),
            ("", "(1), ('18446744073709551615')", UInt64),
            ("", "(1), ('18446744073709551616')", Utf8),
            ("", "(-1), ('18446744073709551615')", Utf8),
            ("", "(1), ('09446744073709551615')", Utf8),
            ("", "(x'00ff'), (1)", Utf8),
            ("REAL", "(1), (2.5)", Float64),
            ("INTEGER", "(NULL)", Int64),
            ("DOUBLE", "(NULL)", Float64),
            ("DATE", "(NULL)", Utf8),
        ] {
            assert_eq!(values(declared, rows), want, "{declared} {rows}");
        }
        let strict = "CREATE TABLE t (a ANY, b INTEGER, c TEXT, d BLOB) STRICT; INSERT INTO t VALUES (3, 4, '5', NULL), ('10000000000000000000', 1, 'x', x'00');";
        assert_eq!(types(strict), [UInt64, Int64, Utf8, DataType::Binary]);
    }

    /// More columns than are asked about at once.
    #[test]
    fn every_column_of_a_wide_table_is_asked_about() {
        let columns: Vec<String> = (0..700).map(|at| format!("c{at} NUMERIC")).collect();
        let values: Vec<String> =
            (0..700).map(|at| if at % 2 == 0 { "1".into() } else { format!("'v{at}'") }).collect();
        let make = format!(
            "CREATE TABLE t ({}); INSERT INTO t VALUES ({});",
            columns.join(", "),
            values.join(", ")
        );
        for (at, found) in types(&make).into_iter().enumerate() {
            assert_eq!(found, [DataType::Int64, DataType::Utf8][at % 2], "c{at}");
        }
    }
}
