//! What arrays take in memory, added up as they come.

use std::io;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{UInt8Type, UInt16Type, UInt32Type};
use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_schema::{DataType, Field};

use super::words::{Marks, Words};
use crate::columns::Plan;
use crate::schema::{Scalar, Type, code_type};
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

/// What a column takes, and what is nested in it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Measured {
    /// The whole column.
    pub bytes: ColumnBytes,
    /// Its leaves, in their order; none of a column that does not nest. What is left are the ends of lists, and which
    /// lists and structs are absent.
    pub leaves: Vec<ColumnBytes>,
}

#[derive(Debug)]
struct Column {
    kind: Kind,
    rows: u64,
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
    /// Lists: where each ends, and what is in them.
    List(Box<Column>),
    /// What is in a struct.
    Struct(Vec<Column>),
}

impl Measure {
    /// Nothing yet of the columns of a plan. Distinct texts that are too many for the memory are put into `scratch`.
    pub fn new(plan: &Plan, scratch: &Arc<dyn Scratch>) -> Measure {
        let arrow = plan.arrow();
        let columns = plan.schema().columns.iter().zip(arrow.fields());
        let columns = columns.map(|(c, field)| Column::new(&c.ty, &c.values, field, scratch));
        Measure { columns: columns.collect() }
    }

    /// A block begins: its dictionaries are others than those before.
    pub fn begin_block(&mut self) {
        self.columns.iter_mut().for_each(Column::begin_block);
    }

    /// Adds the rows of a batch.
    ///
    /// # Errors
    /// A temporary file that cannot be written, where distinct texts are too many for the memory.
    pub fn add(&mut self, batch: &RecordBatch) -> io::Result<()> {
        let mut columns = self.columns.iter_mut().zip(batch.columns());
        columns.try_for_each(|(column, array)| column.add(array))
    }

    /// Adds what was measured of other rows of the same columns.
    ///
    /// # Errors
    /// As [`add`](Self::add).
    pub fn merge(&mut self, other: Measure) -> io::Result<()> {
        let mut columns = self.columns.iter_mut().zip(other.columns);
        columns.try_for_each(|(ours, theirs)| ours.merge(theirs))
    }

    /// What each column takes, all that is nested in it included.
    ///
    /// # Errors
    /// A temporary file that cannot be read.
    pub fn finish(self) -> io::Result<Vec<Measured>> {
        self.columns
            .into_iter()
            .map(|column| {
                let is_nested = matches!(column.kind, Kind::List(_) | Kind::Struct(_));
                let mut leaves = Vec::new();
                let bytes = column.finish(&mut leaves)?;
                Ok(Measured { bytes, leaves: if is_nested { leaves } else { Vec::new() } })
            })
            .collect()
    }
}

impl Column {
    fn new(ty: &Type, values: &[String], field: &Field, scratch: &Arc<dyn Scratch>) -> Column {
        let kind = match (ty, field.data_type()) {
            (Type::List(items), DataType::List(item)) => {
                Kind::List(Box::new(Column::new(items, values, item, scratch)))
            }
            (Type::Struct(declared), DataType::Struct(fields)) => {
                let inner = declared.iter().zip(fields);
                Kind::Struct(
                    inner.map(|(c, field)| Column::new(&c.ty, &c.values, field, scratch)).collect(),
                )
            }
            (Type::Scalar(Scalar::Lowcard), _) => {
                Kind::Open(Words::new(scratch.clone()), Marks::default())
            }
            (Type::Scalar(Scalar::Category), _) => {
                let count = values.len() as u64;
                let bytes = values.iter().map(|value| value.len() as u64).sum();
                Kind::Closed(code_bytes(count), count, bytes)
            }
            (_, DataType::Utf8) => Kind::Text(0),
            (_, data_type) => Kind::Fixed(bits(data_type)),
        };
        Column { kind, rows: 0, nulls: 0 }
    }

    fn begin_block(&mut self) {
        match &mut self.kind {
            Kind::Open(_, marks) => marks.clear(),
            Kind::List(items) => items.begin_block(),
            Kind::Struct(fields) => fields.iter_mut().for_each(Column::begin_block),
            Kind::Fixed(_) | Kind::Text(_) | Kind::Closed(..) => {}
        }
    }

    fn add(&mut self, array: &ArrayRef) -> io::Result<()> {
        self.rows += array.len() as u64;
        self.nulls += array.null_count() as u64;
        match &mut self.kind {
            Kind::Text(bytes) => {
                let offsets = array.as_string::<i32>().value_offsets();
                *bytes += u64::from(reach(offsets).1.unsigned_abs());
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
            Kind::List(items) => {
                let list = array.as_list::<i32>();
                let (first, length) = reach(list.value_offsets());
                items.add(&list.values().slice(first as usize, length as usize))?;
            }
            Kind::Struct(fields) => {
                for (field, column) in fields.iter_mut().zip(array.as_struct().columns()) {
                    field.add(column)?;
                }
            }
            Kind::Fixed(_) | Kind::Closed(..) => {}
        }
        Ok(())
    }

    fn merge(&mut self, other: Column) -> io::Result<()> {
        self.rows += other.rows;
        self.nulls += other.nulls;
        match (&mut self.kind, other.kind) {
            (Kind::Text(bytes), Kind::Text(more)) => *bytes += more,
            (Kind::Open(words, _), Kind::Open(more, _)) => words.merge(more)?,
            (Kind::List(items), Kind::List(more)) => items.merge(*more)?,
            (Kind::Struct(fields), Kind::Struct(more)) => {
                fields.iter_mut().zip(more).try_for_each(|(ours, theirs)| ours.merge(theirs))?;
            }
            _ => {}
        }
        Ok(())
    }

    /// What it takes in all; its leaves are added to `leaves`.
    fn finish(self, leaves: &mut Vec<ColumnBytes>) -> io::Result<ColumnBytes> {
        let rows = self.rows;
        let is_leaf = !matches!(self.kind, Kind::List(_) | Kind::Struct(_));
        let mut inner = ColumnBytes::default();
        let mut add = |column: Column| -> io::Result<()> {
            let ColumnBytes { values, validity } = column.finish(leaves)?;
            inner.values += values;
            inner.validity += validity;
            Ok(())
        };
        let values = match self.kind {
            Kind::Fixed(bits) => (bits * rows).div_ceil(8),
            Kind::Text(bytes) => text_bytes(rows, bytes),
            Kind::Closed(code, count, bytes) => code * rows + text_bytes(count, bytes),
            Kind::Open(words, _) => {
                let (count, bytes) = words.count()?;
                code_bytes(count) * rows + text_bytes(count, bytes)
            }
            Kind::List(items) => {
                add(*items)?;
                4 * (rows + 1)
            }
            Kind::Struct(fields) => {
                fields.into_iter().try_for_each(add)?;
                0
            }
        };
        let validity = if self.nulls > 0 { rows.div_ceil(8) } else { 0 };
        let ColumnBytes { values: within, validity: bits } = inner;
        let all = ColumnBytes { values: values + within, validity: validity + bits };
        if is_leaf {
            leaves.push(all);
        }
        Ok(all)
    }
}

/// Where what offsets speak of starts, and how long it is.
fn reach(offsets: &[i32]) -> (i32, i32) {
    offsets.first().zip(offsets.last()).map_or((0, 0), |(first, last)| (*first, last - first))
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
