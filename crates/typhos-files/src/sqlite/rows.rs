//! Rows as SQLite stores them, bound to a statement that inserts them.

use arrow_array::builder::StringBuilder;
use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType, RecordBatch, StringArray, cast::AsArray};
use arrow_buffer::NullBuffer;
use arrow_schema::DataType;
use rusqlite::types::Null;
use typhos_core::columns::push_cell;
use typhos_load::TargetError;
use typhos_load::feed::RowEncoder;
use typhos_load::view::units;

/// How a column is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Storage {
    Integer,
    /// Integers, and texts where they are too large for them.
    Wide,
    Real,
    Text,
}

fn storage(data_type: &DataType) -> Storage {
    match data_type {
        DataType::Boolean => Storage::Integer,
        DataType::UInt64 => Storage::Wide,
        number if number.is_integer() => Storage::Integer,
        DataType::Duration(_) => Storage::Integer,
        DataType::Float32 | DataType::Float64 => Storage::Real,
        DataType::Decimal32(_, 0) | DataType::Decimal64(_, 0) => Storage::Integer,
        DataType::Decimal32(..) => Storage::Real,
        DataType::Decimal64(precision, _) if *precision <= typhos_sql::REAL_DIGITS => Storage::Real,
        _ => Storage::Text,
    }
}

/// Turns batches into what SQLite stores, so that the one thread that may insert does nothing else.
pub struct SqliteRows;

impl RowEncoder for SqliteRows {
    type Block = Vec<StoredBatch>;

    fn start(&self) -> Vec<StoredBatch> {
        Vec::new()
    }

    fn encode(&self, batch: &RecordBatch, block: &mut Vec<StoredBatch>) -> Result<(), TargetError> {
        // It would store null.
        typhos_load::view::refuse_floats(batch, "SQLite", false)?;
        block.push(stored_batch(batch));
        Ok(())
    }
}

/// A batch as SQLite stores it.
pub fn stored_batch(batch: &RecordBatch) -> StoredBatch {
    let columns = batch.columns().iter();
    let columns = columns.map(|array| (stored(array), array.nulls().cloned()));
    StoredBatch { columns: columns.collect(), rows: batch.num_rows() }
}

/// A batch in SQLite's own types.
pub struct StoredBatch {
    columns: Vec<(Stored, Option<NullBuffer>)>,
    rows: usize,
}

/// A column in SQLite's own types.
enum Stored {
    Integer(Vec<i64>),
    Wide(Vec<u64>),
    Real(Vec<f64>),
    Text(StringArray),
    /// Texts by code.
    Coded(Vec<u32>, StringArray),
}

/// Parameters of one statement: enough that what a statement costs by itself is not felt.
const PARAMETERS: usize = 1000;

/// Statements that insert rows, many at a time and one at a time.
pub struct Inserts<'c> {
    /// Rows that `many` inserts.
    rows: usize,
    many: rusqlite::Statement<'c>,
    one: rusqlite::Statement<'c>,
}

impl<'c> Inserts<'c> {
    /// Prepares statements that insert into the columns `names` of `table`, both quoted where they have to be.
    ///
    /// # Errors
    /// Those of SQLite.
    pub fn prepare(
        connection: &'c rusqlite::Connection,
        table: &str,
        names: &[String],
    ) -> rusqlite::Result<Inserts<'c>> {
        let rows = (PARAMETERS / names.len().max(1)).max(1);
        let row = format!("({})", vec!["?"; names.len()].join(", "));
        let names = names.join(", ");
        let prepare = |rows: usize| {
            let rows = vec![row.as_str(); rows].join(", ");
            connection.prepare(&format!("INSERT INTO {table} ({names}) VALUES {rows}"))
        };
        Ok(Inserts { rows, many: prepare(rows)?, one: prepare(1)? })
    }
}

/// Why rows are not inserted.
pub struct Refusal {
    /// The row that the table refuses, where it is one.
    pub row: Option<usize>,
    /// What SQLite says.
    pub error: rusqlite::Error,
}

impl From<rusqlite::Error> for Refusal {
    fn from(error: rusqlite::Error) -> Refusal {
        Refusal { row: None, error }
    }
}

fn is_of_constraint(error: &rusqlite::Error) -> bool {
    error.sqlite_error_code() == Some(rusqlite::ErrorCode::ConstraintViolation)
}

impl StoredBatch {
    /// Inserts all rows; returns how many the table took.
    ///
    /// # Errors
    /// Those of SQLite, with the row, from 0, where it is one that the table refuses.
    pub fn insert(&self, inserts: &mut Inserts<'_>) -> Result<usize, Refusal> {
        let whole = self.rows / inserts.rows * inserts.rows;
        let mut taken = 0;
        for first in (0..whole).step_by(inserts.rows) {
            for row in 0..inserts.rows {
                self.bind(&mut inserts.many, first + row, row * self.columns.len())?;
            }
            taken += match inserts.many.raw_execute() {
                // The statement has undone itself: one row at a time says which one it is.
                Err(error) if is_of_constraint(&error) => {
                    self.insert_each(inserts, first..first + inserts.rows)?
                }
                inserted => inserted?,
            };
        }
        Ok(taken + self.insert_each(inserts, whole..self.rows)?)
    }

    fn insert_each(
        &self,
        inserts: &mut Inserts<'_>,
        rows: std::ops::Range<usize>,
    ) -> Result<usize, Refusal> {
        let mut taken = 0;
        for row in rows {
            self.bind(&mut inserts.one, row, 0)?;
            let refused = |error| Refusal { row: is_of_constraint(&error).then_some(row), error };
            taken += inserts.one.raw_execute().map_err(refused)?;
        }
        Ok(taken)
    }

    /// How many rows there are.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Binds a row to the parameters behind the first `before`.
    fn bind(
        &self,
        insert: &mut rusqlite::Statement<'_>,
        row: usize,
        before: usize,
    ) -> rusqlite::Result<()> {
        for (at, (column, nulls)) in self.columns.iter().enumerate() {
            let at = before + at + 1;
            match column {
                _ if nulls.as_ref().is_some_and(|nulls| nulls.is_null(row)) => {
                    insert.raw_bind_parameter(at, Null)
                }
                Stored::Integer(values) => insert.raw_bind_parameter(at, values[row]),
                Stored::Wide(values) => match i64::try_from(values[row]) {
                    Ok(value) => insert.raw_bind_parameter(at, value),
                    Err(_) => insert.raw_bind_parameter(at, values[row].to_string()),
                },
                Stored::Real(values) => insert.raw_bind_parameter(at, values[row]),
                Stored::Text(values) => insert.raw_bind_parameter(at, values.value(row)),
                Stored::Coded(codes, values) => {
                    insert.raw_bind_parameter(at, values.value(codes[row] as usize))
                }
            }?;
        }
        Ok(())
    }
}

/// The values of an array as SQLite stores them. What stands under a null is never looked at.
fn stored(array: &ArrayRef) -> Stored {
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
    match array.data_type() {
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
        DataType::Duration(_) => Stored::Integer(units(array)),
        DataType::UInt64 => Stored::Wide(array.as_primitive::<UInt64Type>().values().to_vec()),
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
        _ => Stored::Text(texts(array)),
    }
}

/// The cells of an array as texts.
fn texts(array: &ArrayRef) -> StringArray {
    let mut texts = StringBuilder::with_capacity(array.len(), array.len() * 10);
    let mut cell = String::new();
    for row in 0..array.len() {
        cell.clear();
        texts.append_option(push_cell(&mut cell, array, row).then_some(&cell));
    }
    texts.finish()
}
