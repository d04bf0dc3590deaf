//! What arrays take in memory, added up as they come.

use std::io;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{UInt8Type, UInt16Type, UInt32Type};
use arrow_array::{Array, RecordBatch};
use arrow_schema::DataType;

use super::words::{Marks, Words};
use crate::columns::Plan;
use crate::schema::{Scalar, code_type};
use crate::spilling::Scratch;

/// Texts of more bytes than this need offsets of 64 bits.
const MOST_TEXT: u64 = i32::MAX as u64;

/// The bytes of every column of a table, if each is one array: the buffers that Arrow needs, and nothing
/// for what an allocator rounds up. Mergeable: what one thread measured adds to what another did.
///
/// Codes of an open set are as wide as the values that stand in the column ask for; a closed list is held
/// as it is declared, with all its values.
#[derive(Debug)]
pub struct Measure {
    columns: Vec<Column>,
    rows: u64,
}

/// Bytes of a column in memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ColumnBytes {
    /// Its values: numbers, texts with their offsets, codes with their dictionary.
    pub values: u64,
    /// Which of them are absent: a bit a row, where any is.
    pub validity: u64,
}

impl ColumnBytes {
    /// Both.
    pub fn total(self) -> u64 {
        self.values + self.validity
    }
}

#[derive(Debug)]
struct Column {
    kind: Kind,
    nulls: u64,
}

#[derive(Debug)]
enum Kind {
    /// So many bits for each row.
    Fixed(u64),
    /// Texts, of so many bytes.
    Text(u64),
    /// Codes for an open set.
    Open(Words, Marks),
    /// Codes of so many bytes for a list of so many texts and bytes.
    Closed(u64, u64, u64),
}

impl Measure {
    /// Nothing yet of the columns of a plan. Distinct texts that are too many for the memory are put into `scratch`.
    pub fn new(plan: &Plan, scratch: &Arc<dyn Scratch>) -> Measure {
        let arrow = plan.arrow();
        let columns = plan.schema().columns.iter().zip(arrow.fields()).map(|(column, field)| {
            let kind = match (column.scalar(), field.data_type()) {
                (Scalar::Lowcard, _) => Kind::Open(Words::new(scratch.clone()), Marks::default()),
                (Scalar::Category, _) => {
                    let count = column.values.len() as u64;
                    let bytes = column.values.iter().map(|value| value.len() as u64).sum();
                    Kind::Closed(code_bytes(count), count, bytes)
                }
                (_, DataType::Utf8) => Kind::Text(0),
                (_, data_type) => Kind::Fixed(bits(data_type)),
            };
            Column { kind, nulls: 0 }
        });
        Measure { columns: columns.collect(), rows: 0 }
    }

    /// A block begins: its dictionaries are others than those before.
    pub fn begin_block(&mut self) {
        for column in &mut self.columns {
            if let Kind::Open(_, marks) = &mut column.kind {
                marks.clear();
            }
        }
    }

    /// Adds the rows of a batch.
    ///
    /// # Errors
    /// A temporary file that cannot be written, where distinct texts are too many for the memory.
    pub fn add(&mut self, batch: &RecordBatch) -> io::Result<()> {
        self.rows += batch.num_rows() as u64;
        for (column, array) in self.columns.iter_mut().zip(batch.columns()) {
            column.nulls += array.null_count() as u64;
            match &mut column.kind {
                Kind::Text(bytes) => {
                    let offsets = array.as_string::<i32>().value_offsets();
                    let length = offsets.last().zip(offsets.first()).map_or(0, |(a, b)| a - b);
                    *bytes += u64::from(length.unsigned_abs());
                }
                Kind::Open(words, marks) => {
                    let dictionary = array.as_any_dictionary();
                    let texts = dictionary.values().as_string::<i32>();
                    let keys = dictionary.keys();
                    macro_rules! mark {
                        ($key:ty) => {{
                            let codes = keys.as_primitive::<$key>().iter().flatten();
                            marks.add(codes.map(|code| code as usize), texts, words)?
                        }};
                    }
                    match keys.data_type() {
                        DataType::UInt8 => mark!(UInt8Type),
                        DataType::UInt16 => mark!(UInt16Type),
                        _ => mark!(UInt32Type),
                    }
                }
                Kind::Fixed(_) | Kind::Closed(..) => {}
            }
        }
        Ok(())
    }

    /// Adds what was measured of other rows of the same columns.
    ///
    /// # Errors
    /// As [`add`](Self::add).
    pub fn merge(&mut self, other: Measure) -> io::Result<()> {
        self.rows += other.rows;
        for (ours, theirs) in self.columns.iter_mut().zip(other.columns) {
            ours.nulls += theirs.nulls;
            match (&mut ours.kind, theirs.kind) {
                (Kind::Text(bytes), Kind::Text(more)) => *bytes += more,
                (Kind::Open(words, _), Kind::Open(more, _)) => words.merge(more)?,
                _ => {}
            }
        }
        Ok(())
    }

    /// What each column takes.
    ///
    /// # Errors
    /// A temporary file that cannot be read.
    pub fn finish(self) -> io::Result<Vec<ColumnBytes>> {
        let rows = self.rows;
        let bytes = self.columns.into_iter().map(|column| {
            let values = match column.kind {
                Kind::Fixed(bits) => (bits * rows).div_ceil(8),
                Kind::Text(bytes) => text_bytes(rows, bytes),
                Kind::Closed(code, count, bytes) => code * rows + text_bytes(count, bytes),
                Kind::Open(words, _) => {
                    let (count, bytes) = words.count()?;
                    code_bytes(count) * rows + text_bytes(count, bytes)
                }
            };
            let validity = if column.nulls > 0 { rows.div_ceil(8) } else { 0 };
            Ok(ColumnBytes { values, validity })
        });
        bytes.collect()
    }
}

/// Bytes of an array of so many texts.
pub(super) fn text_bytes(count: u64, bytes: u64) -> u64 {
    bytes + (count + 1) * if bytes > MOST_TEXT { 8 } else { 4 }
}

/// Bytes of a code for so many values.
pub(super) fn code_bytes(values: u64) -> u64 {
    bits(&code_type(values)) / 8
}

/// Bits of a value of a fixed width.
pub(super) fn bits(data_type: &DataType) -> u64 {
    match data_type {
        DataType::Boolean => 1,
        DataType::FixedSizeBinary(bytes) => 8 * u64::from(bytes.unsigned_abs()),
        DataType::Struct(fields) => fields.iter().map(|field| bits(field.data_type())).sum(),
        other => 8 * other.primitive_width().unwrap_or(0) as u64,
    }
}
