//! SQLite: a table in a database file, new or existing.
//!
//! A new database is written aside and renamed; in an existing one all is a single transaction.
//! Tables are `STRICT`, so that SQLite holds to the types too.

use std::path::{Path, PathBuf};

use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType, RecordBatch, StringArray, cast::AsArray};
use arrow_buffer::NullBuffer;
use arrow_schema::{DataType, Schema as ArrowSchema, SchemaRef};
use rusqlite::types::{Null, Value};
use rusqlite::{Connection, OpenFlags, params_from_iter};
use typhos_core::columns::cell_text;

use crate::whole::WholeFile;
use crate::{EncodeUnit, Encoder, Sink, TargetError};

/// The most digits of a decimal that a double keeps: those are stored as `REAL`.
const REAL_DIGITS: u8 = 15;

/// A name as SQL: in quotes, so that no name can be anything else.
pub fn identifier(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// How a column is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Storage {
    Integer,
    Real,
    Text,
}

fn storage(data_type: &DataType) -> Storage {
    match data_type {
        DataType::Boolean => Storage::Integer,
        number if number.is_integer() => Storage::Integer,
        DataType::Float32 | DataType::Float64 => Storage::Real,
        DataType::Decimal32(_, 0) | DataType::Decimal64(_, 0) => Storage::Integer,
        DataType::Decimal32(..) => Storage::Real,
        DataType::Decimal64(precision, _) if *precision <= REAL_DIGITS => Storage::Real,
        _ => Storage::Text,
    }
}

/// What is stored otherwise than declared, a sentence each.
pub fn fidelity_notes(schema: &ArrowSchema) -> Vec<String> {
    let note = |name: &str, data_type: &DataType| {
        let what = match (data_type, storage(data_type)) {
            (DataType::Boolean, _) => "as 0 and 1: SQLite has no booleans",
            (DataType::Decimal32(..) | DataType::Decimal64(..), Storage::Real) => {
                "as REAL, which keeps its digits: SQLite has no decimals"
            }
            (DataType::Decimal64(..) | DataType::Decimal128(..), Storage::Text) => {
                "as TEXT, exactly: SQLite has no decimals"
            }
            (DataType::UInt64, _) => "as INTEGER; a value above 9223372036854775807 stops the load",
            (
                DataType::Date32
                | DataType::Timestamp(..)
                | DataType::Time32(_)
                | DataType::Time64(_),
                _,
            ) => "as TEXT in ISO 8601: SQLite has no dates",
            (DataType::FixedSizeBinary(_), _) => "as TEXT with hyphens: SQLite has no UUIDs",
            (DataType::Struct(_), _) => "as TEXT, latitude before longitude: SQLite has no points",
            _ => return None,
        };
        Some(format!("'{name}' is stored {what}"))
    };
    schema.fields().iter().filter_map(|field| note(field.name(), field.data_type())).collect()
}

/// The statement that makes the table.
pub fn create_table(table: &str, schema: &ArrowSchema) -> String {
    let columns = schema.fields().iter().map(|field| {
        let ty = match storage(field.data_type()) {
            Storage::Integer => "INTEGER",
            Storage::Real => "REAL",
            Storage::Text => "TEXT",
        };
        let required = if field.is_nullable() { "" } else { " NOT NULL" };
        format!("  {} {ty}{required}", identifier(field.name()))
    });
    format!(
        "CREATE TABLE {} (\n{}\n) STRICT",
        identifier(table),
        columns.collect::<Vec<_>>().join(",\n")
    )
}

/// Opens a SQLite target: the table `table` in the database at `path`.
///
/// # Errors
/// A file that is no database, a table that exists and is not to be replaced.
pub fn open(
    path: &Path,
    table: &str,
    replace: bool,
    schema: &SchemaRef,
) -> Result<(SqliteEncoder, SqliteSink), TargetError> {
    let failed = |source| TargetError::Sqlite { path: path.to_path_buf(), source };
    let mut names = std::collections::HashSet::new();
    for field in schema.fields() {
        if !names.insert(field.name().to_lowercase()) {
            let what = format!(
                "cannot hold '{}' beside a column whose name differs only in letter case",
                field.name()
            );
            return Err(TargetError::NotThat { path: path.to_path_buf(), what });
        }
    }
    let is_new = path.symlink_metadata().is_err();
    let (side, connection) = if is_new {
        let side = WholeFile::create(path, false)?;
        let connection = Connection::open(side.side_path()).map_err(failed)?;
        // The file is thrown away unless it is finished, so it needs no journal of its own.
        connection
            .execute_batch("PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF")
            .map_err(failed)?;
        (Some(side), connection)
    } else {
        (None, open_existing(path)?)
    };
    connection.execute_batch("BEGIN IMMEDIATE").map_err(failed)?;
    let exists: bool = connection
        .query_row(
            "SELECT count(*) > 0 FROM sqlite_schema WHERE lower(name) = lower(?1)",
            [table],
            |row| row.get(0),
        )
        .map_err(failed)?;
    if exists && !replace {
        return Err(TargetError::TableExists { path: path.to_path_buf(), table: table.to_owned() });
    }
    if exists {
        connection.execute_batch(&format!("DROP TABLE {}", identifier(table))).map_err(failed)?;
    }
    connection.execute_batch(&create_table(table, schema)).map_err(failed)?;
    let places = vec!["?"; schema.fields().len()].join(", ");
    let insert = format!("INSERT INTO {} VALUES ({places})", identifier(table));
    Ok((SqliteEncoder, SqliteSink { side, connection, insert, path: path.to_path_buf() }))
}

fn open_existing(path: &Path) -> Result<Connection, TargetError> {
    let failed = |source| TargetError::Sqlite { path: path.to_path_buf(), source };
    let connection =
        Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE).map_err(failed)?;
    match connection.query_row("PRAGMA schema_version", [], |_| Ok(())) {
        Ok(()) => Ok(connection),
        Err(rusqlite::Error::SqliteFailure(error, _))
            if error.code == rusqlite::ErrorCode::NotADatabase =>
        {
            let what = "is no SQLite database; name another file".into();
            Err(TargetError::NotThat { path: path.to_path_buf(), what })
        }
        Err(source) => Err(failed(source)),
    }
}

/// Turns batches into what SQLite stores, so that the one thread that may insert does nothing else.
pub struct SqliteEncoder;

impl Encoder for SqliteEncoder {
    type Encoded = Vec<StoredBatch>;
    type Unit<'e> = StoredUnit;

    fn begin(&self, _share: f64) -> Result<StoredUnit, TargetError> {
        Ok(StoredUnit(Vec::new()))
    }
}

/// The batches of a block.
pub struct StoredUnit(Vec<StoredBatch>);

/// A batch in SQLite's own types.
pub struct StoredBatch {
    columns: Vec<(Stored, Option<NullBuffer>)>,
    rows: usize,
}

/// A column in SQLite's own types.
enum Stored {
    Integer(Vec<i64>),
    Real(Vec<f64>),
    Text(StringArray),
    /// Texts by code.
    Coded(Vec<u32>, StringArray),
}

impl EncodeUnit for StoredUnit {
    type Encoded = Vec<StoredBatch>;

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        let schema = batch.schema();
        let columns = schema.fields().iter().zip(batch.columns());
        let columns = columns
            .map(|(field, array)| Ok((stored(array, field.name())?, array.nulls().cloned())));
        self.0.push(StoredBatch {
            columns: columns.collect::<Result<_, TargetError>>()?,
            rows: batch.num_rows(),
        });
        Ok(())
    }

    fn finish(self) -> Result<Vec<StoredBatch>, TargetError> {
        Ok(self.0)
    }
}

/// The values of an array as SQLite stores them. What stands under a null is never looked at.
fn stored(array: &ArrayRef, column: &str) -> Result<Stored, TargetError> {
    fn integers<A: ArrowPrimitiveType>(array: &ArrayRef) -> Stored
    where
        A::Native: Into<i64>,
    {
        Stored::Integer(
            array.as_primitive::<A>().values().iter().map(|value| (*value).into()).collect(),
        )
    }
    fn decimals(mantissas: impl Iterator<Item = i64>, scale: i8, array: &ArrayRef) -> Stored {
        if storage(array.data_type()) == Storage::Integer {
            return Stored::Integer(mantissas.collect());
        }
        // Both are exact in a double up to 15 digits, so the quotient is the nearest double.
        let power = 10f64.powi(i32::from(scale));
        Stored::Real(mantissas.map(|mantissa| mantissa as f64 / power).collect())
    }
    Ok(match array.data_type() {
        DataType::Boolean => {
            Stored::Integer(array.as_boolean().values().iter().map(i64::from).collect())
        }
        DataType::Int8 => integers::<Int8Type>(array),
        DataType::Int16 => integers::<Int16Type>(array),
        DataType::Int32 => integers::<Int32Type>(array),
        DataType::Int64 => integers::<Int64Type>(array),
        DataType::UInt8 => integers::<UInt8Type>(array),
        DataType::UInt16 => integers::<UInt16Type>(array),
        DataType::UInt32 => integers::<UInt32Type>(array),
        DataType::UInt64 => {
            let fits = |number: &u64| {
                i64::try_from(*number).map_err(|_| TargetError::CannotHold {
                    column: column.to_owned(),
                    value: number.to_string(),
                    reason: "is larger than SQLite's integers; declare the column as text or decimal(20,0)".into(),
                })
            };
            let numbers = array.as_primitive::<UInt64Type>().values().iter().map(fits);
            Stored::Integer(numbers.collect::<Result<_, _>>()?)
        }
        // The shortest text of a float32 is the number that was meant; widening it would add digits.
        DataType::Float32 => Stored::Real(
            array
                .as_primitive::<Float32Type>()
                .values()
                .iter()
                .map(|f| f.to_string().parse().unwrap_or(f64::NAN))
                .collect(),
        ),
        DataType::Float64 => Stored::Real(array.as_primitive::<Float64Type>().values().to_vec()),
        DataType::Decimal32(_, scale) => {
            let mantissas = array.as_primitive::<Decimal32Type>().values().iter();
            decimals(mantissas.map(|mantissa| i64::from(*mantissa)), *scale, array)
        }
        DataType::Decimal64(_, scale) if storage(array.data_type()) != Storage::Text => {
            decimals(array.as_primitive::<Decimal64Type>().values().iter().copied(), *scale, array)
        }
        DataType::Utf8 => Stored::Text(array.as_string::<i32>().clone()),
        DataType::Dictionary(..) => {
            let dictionary = array.as_any_dictionary();
            let words = dictionary.values().as_string::<i32>();
            // Without a single word all is null, and there are no codes to make sound.
            let codes =
                if words.is_empty() { vec![0; array.len()] } else { dictionary.normalized_keys() };
            Stored::Coded(codes.into_iter().map(|code| code as u32).collect(), words.clone())
        }
        _ => Stored::Text((0..array.len()).map(|row| cell_text(array, row)).collect()),
    })
}

/// Inserts rows in one transaction.
pub struct SqliteSink {
    side: Option<WholeFile>,
    connection: Connection,
    insert: String,
    path: PathBuf,
}

impl Sink for SqliteSink {
    type Encoded = Vec<StoredBatch>;

    fn append(&mut self, batches: Vec<StoredBatch>) -> Result<(), TargetError> {
        let failed = |source| TargetError::Sqlite { path: self.path.clone(), source };
        let mut insert = self.connection.prepare_cached(&self.insert).map_err(failed)?;
        for batch in &batches {
            for row in 0..batch.rows {
                for (at, (column, nulls)) in batch.columns.iter().enumerate() {
                    let at = at + 1;
                    let bound = match column {
                        _ if nulls.as_ref().is_some_and(|nulls| nulls.is_null(row)) => {
                            insert.raw_bind_parameter(at, Null)
                        }
                        Stored::Integer(values) => insert.raw_bind_parameter(at, values[row]),
                        Stored::Real(values) => insert.raw_bind_parameter(at, values[row]),
                        Stored::Text(values) => insert.raw_bind_parameter(at, values.value(row)),
                        Stored::Coded(codes, values) => {
                            insert.raw_bind_parameter(at, values.value(codes[row] as usize))
                        }
                    };
                    bound.map_err(failed)?;
                }
                insert.raw_execute().map_err(failed)?;
            }
        }
        Ok(())
    }

    fn finish(self) -> Result<(), TargetError> {
        let failed = |source| TargetError::Sqlite { path: self.path.clone(), source };
        self.connection.execute_batch("COMMIT").map_err(failed)?;
        self.connection.close().map_err(|(_, source)| failed(source))?;
        match self.side {
            Some(side) => side.keep(),
            None => Ok(()),
        }
    }
}

/// The tables of a database, in the order they were made.
///
/// # Errors
/// A file that is no database.
pub fn tables(path: &Path) -> Result<Vec<String>, TargetError> {
    let failed = |source| TargetError::Sqlite { path: path.to_path_buf(), source };
    let connection = open_existing(path)?;
    let sql = "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'";
    let mut statement = connection.prepare(sql).map_err(failed)?;
    let names = statement.query_map([], |row| row.get(0)).map_err(failed)?;
    names.collect::<Result<_, _>>().map_err(failed)
}

/// The head of a table: column names and types, rows, and how many rows there are.
#[derive(Debug, Clone, PartialEq)]
pub struct TableHead {
    /// Names and declared types of the columns.
    pub columns: Vec<(String, String)>,
    /// The first rows; `None` is null.
    pub rows: Vec<Vec<Option<String>>>,
    /// Rows of the whole table.
    pub total: u64,
}

/// Reads the first rows of a table.
///
/// # Errors
/// A table that is not there, a file that is no database.
pub fn head(path: &Path, table: &str, rows: usize) -> Result<TableHead, TargetError> {
    let failed = |source| TargetError::Sqlite { path: path.to_path_buf(), source };
    let connection = open_existing(path)?;
    let mut statement =
        connection.prepare("SELECT name, type FROM pragma_table_info(?1)").map_err(failed)?;
    let columns =
        statement.query_map([table], |row| Ok((row.get(0)?, row.get(1)?))).map_err(failed)?;
    let columns: Vec<(String, String)> = columns.collect::<Result<_, _>>().map_err(failed)?;
    if columns.is_empty() {
        let what = format!("has no table '{table}'");
        return Err(TargetError::NotThat { path: path.to_path_buf(), what });
    }
    let name = identifier(table);
    let total: i64 = connection
        .query_row(&format!("SELECT count(*) FROM {name}"), [], |row| row.get(0))
        .map_err(failed)?;
    let mut statement =
        connection.prepare(&format!("SELECT * FROM {name} LIMIT ?1")).map_err(failed)?;
    let limit = i64::try_from(rows).unwrap_or(i64::MAX);
    let read = statement.query_map(params_from_iter([limit]), |row| {
        (0..columns.len())
            .map(|at| {
                Ok(match row.get::<_, Value>(at)? {
                    Value::Null => None,
                    Value::Integer(number) => Some(number.to_string()),
                    Value::Real(number) => Some(format!("{number:?}")),
                    Value::Text(text) => Some(text),
                    Value::Blob(bytes) => Some(format!("{} bytes", bytes.len())),
                })
            })
            .collect()
    });
    let rows = read.map_err(failed)?.collect::<Result<_, _>>().map_err(failed)?;
    drop(statement);
    Ok(TableHead { columns, rows, total: total.unsigned_abs() })
}
