//! Rows in the binary format of `COPY`: <https://www.postgresql.org/docs/current/sql-copy.html>, and values
//! as the receiving functions of the types read them.

use std::net::IpAddr;
use std::ops::Range;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_buffer::NullBuffer;
use arrow_schema::{Field, TimeUnit};
use typhos_core::columns::write_json;
use typhos_core::schema::{ColumnDecl, IntType, Scalar, Schema, TimeUnit as Unit};
use typhos_sql::{MOST_CHARACTERS, Postgres};

use typhos_load::TargetError;
use typhos_load::feed::RowEncoder;
use typhos_load::view::{View, units_per_second};

/// What stands before the first row.
pub(super) const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

/// What stands behind the last one.
pub(super) const TRAILER: &[u8] = &(-1i16).to_be_bytes();

/// Days from 1970 to 2000, where this server's calendar begins.
const DAYS_TO_2000: i32 = 10_957;

/// How the values of a column are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wire {
    Bool,
    Int2,
    Int4,
    Int8,
    Numeric(u8),
    Float4,
    Float8,
    Text,
    Inet,
    Date,
    /// Microseconds, of time or since 2000.
    Time,
    Timestamp,
    Uuid,
    Point,
}

impl Wire {
    /// The number of its type, which an array says of its elements: those of `pg_type.dat`.
    fn oid(self, ty: Scalar) -> u32 {
        match (self, ty) {
            (Wire::Bool, _) => 16,
            (Wire::Int2, _) => 21,
            (Wire::Int4, _) => 23,
            (Wire::Int8, _) => 20,
            (Wire::Numeric(_), _) => 1700,
            (Wire::Float4, _) => 700,
            (Wire::Float8, _) => 701,
            (Wire::Text, Scalar::Text { most: Some(most) }) if most <= MOST_CHARACTERS => 1043,
            (Wire::Text, _) => 25,
            (Wire::Inet, _) => 869,
            (Wire::Date, _) => 1082,
            (Wire::Time, _) => 1083,
            (Wire::Timestamp, Scalar::Timestamp { utc: true, .. }) => 1184,
            (Wire::Timestamp, _) => 1114,
            (Wire::Uuid, _) => 2950,
            (Wire::Point, _) => 600,
        }
    }
}

/// How a column goes over the wire.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Shape {
    Plain(Wire),
    /// An array, whose elements have a type of this number.
    Array(Wire, u32),
    /// JSON.
    Json,
}

/// Encodes rows.
pub struct PostgresRows {
    columns: Vec<(String, Shape)>,
}

impl PostgresRows {
    pub fn new(schema: &Schema) -> PostgresRows {
        let shape = |column: &ColumnDecl| match Postgres::array_of(column) {
            _ if !column.ty.is_nested() => Shape::Plain(wire(column.scalar())),
            Some(items) => {
                let wire = wire(items.scalar());
                Shape::Array(wire, wire.oid(items.scalar()))
            }
            None => Shape::Json,
        };
        let columns = schema.columns.iter().map(|column| (column.name.clone(), shape(column)));
        PostgresRows { columns: columns.collect() }
    }
}

/// How a scalar goes over the wire.
fn wire(scalar: Scalar) -> Wire {
    match scalar.numbered() {
        Scalar::Bool => Wire::Bool,
        Scalar::Int(IntType::Int8 | IntType::UInt8 | IntType::Int16) => Wire::Int2,
        Scalar::Int(IntType::UInt16 | IntType::Int32) => Wire::Int4,
        Scalar::Int(IntType::UInt32 | IntType::Int64) => Wire::Int8,
        Scalar::Int(IntType::UInt64) => Wire::Numeric(0),
        Scalar::Decimal { scale, .. } => Wire::Numeric(scale),
        Scalar::Float32 => Wire::Float4,
        Scalar::Float64 => Wire::Float8,
        Scalar::Text { .. } | Scalar::Lowcard | Scalar::Category | Scalar::Json => Wire::Text,
        Scalar::Ip => Wire::Inet,
        Scalar::Date => Wire::Date,
        Scalar::Time(Unit::Nano) | Scalar::Timestamp { unit: Unit::Nano, .. } => Wire::Int8,
        Scalar::Time(_) => Wire::Time,
        Scalar::Timestamp { .. } => Wire::Timestamp,
        Scalar::Uuid => Wire::Uuid,
        Scalar::Geopoint => Wire::Point,
        _ => Wire::Text,
    }
}

/// A column of a batch, ready to be written.
struct Column<'a> {
    name: &'a str,
    wire: Wire,
    view: View<'a>,
    nulls: Option<&'a NullBuffer>,
    rows: usize,
    /// The text of each code.
    words: Vec<&'a [u8]>,
}

impl RowEncoder for PostgresRows {
    type Block = Vec<u8>;

    fn start(&self) -> Vec<u8> {
        Vec::new()
    }

    fn encode(&self, batch: &RecordBatch, block: &mut Vec<u8>) -> Result<(), TargetError> {
        let fields = batch.schema_ref().fields().iter().zip(batch.columns());
        let columns = self.columns.iter().zip(fields);
        let columns: Vec<_> = columns
            .map(|((name, shape), (field, array))| Shaped::of(name, *shape, field, array))
            .collect();
        for column in &columns {
            column.has_no_zero_byte()?;
        }
        let count = (columns.len() as i16).to_be_bytes();
        block.reserve(batch.num_rows() * (2 + columns.len() * 12));
        for row in 0..batch.num_rows() {
            block.extend_from_slice(&count);
            for column in &columns {
                column.write(row, block)?;
            }
        }
        Ok(())
    }
}

/// A column of a batch, or what is inside of it, ready to be written.
enum Shaped<'a> {
    Plain(Column<'a>),
    /// Elements, where those of each row start and end, which rows are null, and the number of their type.
    Array(Column<'a>, &'a [i32], Option<&'a NullBuffer>, u32),
    Json(&'a str, &'a Field, &'a ArrayRef),
}

impl<'a> Shaped<'a> {
    fn of(name: &'a str, shape: Shape, field: &'a Field, array: &'a ArrayRef) -> Shaped<'a> {
        match shape {
            Shape::Plain(wire) => Shaped::Plain(Column::of(name, wire, array)),
            Shape::Array(wire, oid) => {
                let list = array.as_list::<i32>();
                let items = Column::of(name, wire, list.values());
                Shaped::Array(items, list.value_offsets(), array.nulls(), oid)
            }
            Shape::Json => Shaped::Json(name, field, array),
        }
    }

    fn has_no_zero_byte(&self) -> Result<(), TargetError> {
        match self {
            Shaped::Plain(column) | Shaped::Array(column, ..) => column.has_no_zero_byte(),
            // It is looked for as it is written.
            Shaped::Json(..) => Ok(()),
        }
    }

    #[inline]
    fn write(&self, row: usize, block: &mut Vec<u8>) -> Result<(), TargetError> {
        match self {
            Shaped::Plain(column) => column.write_or_null(row, block),
            Shaped::Array(_, _, nulls, _) if nulls.is_some_and(|nulls| nulls.is_null(row)) => {
                block.extend_from_slice(NULL);
                Ok(())
            }
            Shaped::Array(items, offsets, _, oid) => {
                let elements = offsets[row] as usize..offsets[row + 1] as usize;
                sized(block, |block| array(items, elements, *oid, block))
            }
            Shaped::Json(_, _, array) if array.is_null(row) => {
                block.extend_from_slice(NULL);
                Ok(())
            }
            Shaped::Json(name, field, array) => {
                let mut text = String::new();
                write_json(field, array, row, &mut text);
                if text.contains("\\u0000") {
                    return Err(zero_byte(name));
                }
                sized(block, |block| {
                    // The version of the format.
                    block.push(1);
                    block.extend_from_slice(text.as_bytes());
                    Ok(())
                })
            }
        }
    }
}

/// What stands for null.
const NULL: &[u8] = &(-1i32).to_be_bytes();

/// Writes a value with its length before it.
fn sized(
    block: &mut Vec<u8>,
    write: impl FnOnce(&mut Vec<u8>) -> Result<(), TargetError>,
) -> Result<(), TargetError> {
    let start = block.len();
    block.extend_from_slice(&[0; 4]);
    write(block)?;
    let length = (block.len() - start - 4) as i32;
    block[start..start + 4].copy_from_slice(&length.to_be_bytes());
    Ok(())
}

/// An array: dimensions, whether there are nulls, the type of its elements, for each dimension its length and first
/// index, elements.
fn array(
    items: &Column<'_>,
    elements: Range<usize>,
    oid: u32,
    block: &mut Vec<u8>,
) -> Result<(), TargetError> {
    let has_nulls = items.nulls.is_some_and(|nulls| elements.clone().any(|at| nulls.is_null(at)));
    let dimensions = i32::from(!elements.is_empty());
    for head in [dimensions, i32::from(has_nulls), oid.cast_signed()] {
        block.extend_from_slice(&head.to_be_bytes());
    }
    if dimensions > 0 {
        block.extend_from_slice(&(elements.len() as i32).to_be_bytes());
        block.extend_from_slice(&1i32.to_be_bytes());
    }
    elements.into_iter().try_for_each(|at| items.write_or_null(at, block))
}

fn zero_byte(column: &str) -> TargetError {
    TargetError::cannot_hold(
        column,
        "a text",
        "has a zero byte in it, which no text in PostgreSQL may have; take it out of the file",
    )
}

/// Writes a value of a fixed width with its length before it.
#[inline]
fn fixed<const N: usize>(block: &mut Vec<u8>, value: [u8; N]) {
    block.extend_from_slice(&(N as i32).to_be_bytes());
    block.extend_from_slice(&value);
}

#[inline]
fn text(block: &mut Vec<u8>, value: &[u8]) {
    block.extend_from_slice(&(value.len() as i32).to_be_bytes());
    block.extend_from_slice(value);
}

impl<'a> Column<'a> {
    fn of(name: &'a str, wire: Wire, array: &'a ArrayRef) -> Column<'a> {
        let view = View::of(array);
        let words = match &view {
            View::Coded(_, texts) => {
                texts.iter().map(|t| t.unwrap_or_default().as_bytes()).collect()
            }
            _ => Vec::new(),
        };
        Column { name, wire, view, nulls: array.nulls(), rows: array.len(), words }
    }
}

impl Column<'_> {
    /// Texts there hold every letter but the one that ends texts in C.
    fn has_no_zero_byte(&self) -> Result<(), TargetError> {
        let has_one = match &self.view {
            View::Text(texts) => {
                let ends = texts.value_offsets();
                texts.values()[ends[0] as usize..ends[ends.len() - 1] as usize].contains(&0)
            }
            // One that no row has does not matter.
            View::Coded(codes, texts) => {
                let is_there = |row: &usize| self.nulls.is_none_or(|nulls| nulls.is_valid(*row));
                texts.values().as_slice().contains(&0)
                    && (0..self.rows)
                        .filter(is_there)
                        .any(|row| self.words[codes.narrow(row) as usize].contains(&0))
            }
            _ => false,
        };
        if has_one { Err(zero_byte(self.name)) } else { Ok(()) }
    }

    /// Writes a value, or that there is none.
    #[inline]
    fn write_or_null(&self, row: usize, block: &mut Vec<u8>) -> Result<(), TargetError> {
        if self.nulls.is_some_and(|nulls| nulls.is_null(row)) {
            block.extend_from_slice(NULL);
            return Ok(());
        }
        self.write(row, block)
    }

    fn cannot_hold(&self, value: impl ToString, what: &str) -> TargetError {
        let reason = format!("is outside of what {what} holds in PostgreSQL");
        TargetError::cannot_hold(self.name, value.to_string(), reason)
    }

    #[inline]
    fn write(&self, row: usize, block: &mut Vec<u8>) -> Result<(), TargetError> {
        match (&self.view, self.wire) {
            (View::Int(ints), Wire::Int2) => fixed(block, (ints.narrow(row) as i16).to_be_bytes()),
            (View::Int(ints), Wire::Int4) => fixed(block, (ints.narrow(row) as i32).to_be_bytes()),
            (View::Int(ints) | View::Time(ints, _), Wire::Int8) => {
                fixed(block, ints.narrow(row).to_be_bytes());
            }
            (View::Timestamp(units, ..), Wire::Int8) => fixed(block, units[row].to_be_bytes()),
            (View::Int(ints) | View::Decimal(ints, _), Wire::Numeric(scale)) => {
                numeric(block, ints.get(row), scale);
            }
            (View::Text(texts), Wire::Text) => text(block, texts.value(row).as_bytes()),
            (View::Coded(codes, _), _) => text(block, self.words[codes.narrow(row) as usize]),
            (View::Date(days), _) => {
                let days = days[row].checked_sub(DAYS_TO_2000);
                let days = days.ok_or_else(|| self.cannot_hold("a day", "date"))?;
                fixed(block, days.to_be_bytes());
            }
            (View::Timestamp(units, unit), _) => {
                let micros = micros(units[row], *unit).and_then(|micros| {
                    micros.checked_sub(i64::from(DAYS_TO_2000) * 86_400_000_000)
                });
                let micros = micros.ok_or_else(|| self.cannot_hold("a time", "timestamp"))?;
                fixed(block, micros.to_be_bytes());
            }
            (View::Time(ints, unit), _) => {
                let micros = micros(ints.narrow(row), *unit).expect("a day has few microseconds");
                fixed(block, micros.to_be_bytes());
            }
            (View::Bool(values), _) => fixed(block, [u8::from(values.value(row))]),
            (View::Float32(values), _) => fixed(block, values[row].to_be_bytes()),
            (View::Float64(values), _) => fixed(block, values[row].to_be_bytes()),
            (View::Uuid(uuids), _) => text(block, uuids.value(row)),
            (View::Point(latitudes, longitudes), _) => {
                block.extend_from_slice(&16i32.to_be_bytes());
                block.extend_from_slice(&longitudes[row].to_be_bytes());
                block.extend_from_slice(&latitudes[row].to_be_bytes());
            }
            (View::Text(texts), Wire::Inet) => {
                let address = texts.value(row);
                let parsed = address.parse().map_err(|_| self.cannot_hold(address, "inet"))?;
                inet(block, parsed);
            }
            _ => unreachable!("a column is written as it is held"),
        }
        Ok(())
    }
}

fn micros(units: i64, unit: TimeUnit) -> Option<i64> {
    units.checked_mul(1_000_000 / units_per_second(unit))
}

/// An address: family, bits, whether it is a network, length, bytes.
fn inet(block: &mut Vec<u8>, address: IpAddr) {
    let (family, bits) = match address {
        IpAddr::V4(_) => (2, 32),
        IpAddr::V6(_) => (3, 128),
    };
    let mut write = |bytes: &[u8]| {
        block.extend_from_slice(&(bytes.len() as i32 + 4).to_be_bytes());
        block.extend_from_slice(&[family, bits, 0, bytes.len() as u8]);
        block.extend_from_slice(bytes);
    };
    match address {
        IpAddr::V4(address) => write(&address.octets()),
        IpAddr::V6(address) => write(&address.octets()),
    }
}

/// A number in digits of base 10,000 that line up at the mark.
fn numeric(block: &mut Vec<u8>, mantissa: i128, scale: u8) {
    const BASE: u64 = 10_000;
    const PLACES: usize = 12;
    let scale = u32::from(scale);
    let below = scale.div_ceil(4);
    let mut digits = [0u16; PLACES];
    let mut at = PLACES;
    // Digits behind the mark come in fours: what is missing is made up with zeros. 38 digits and three
    // more are beyond 128 bits, so the last digit is taken off first.
    let shift = 10u64.pow(below * 4 - scale);
    let step = BASE / shift;
    let mut size = mantissa.unsigned_abs();
    let mut is_last = below > 0;
    // Division of 128 bits is dear, and few numbers have them.
    while size > u128::from(u64::MAX) {
        let (step, shift) = if std::mem::take(&mut is_last) { (step, shift) } else { (BASE, 1) };
        at -= 1;
        digits[at] = ((size % u128::from(step)) as u64 * shift) as u16;
        size /= u128::from(step);
    }
    let mut size = size as u64;
    if is_last {
        // Dividing by what the compiler knows is several times as fast.
        let (rest, digit) = match step {
            10 => (size / 10, size % 10),
            100 => (size / 100, size % 100),
            1_000 => (size / 1_000, size % 1_000),
            _ => (size / BASE, size % BASE),
        };
        at -= 1;
        digits[at] = (digit * shift) as u16;
        size = rest;
    }
    while size > 0 {
        at -= 1;
        digits[at] = (size % BASE) as u16;
        size /= BASE;
    }
    // How many digits stand before the mark tells the weight of the first one.
    let mut first = at;
    while first < PLACES && digits[first] == 0 {
        first += 1;
    }
    let mut last = PLACES;
    while last > first && digits[last - 1] == 0 {
        last -= 1;
    }
    let weight = (PLACES - first) as i16 - below as i16 - 1;
    let digits = &digits[first..last];
    let sign: u16 = if mantissa < 0 { 0x4000 } else { 0 };
    block.extend_from_slice(&(8 + 2 * digits.len() as i32).to_be_bytes());
    block.extend_from_slice(&(digits.len() as i16).to_be_bytes());
    block.extend_from_slice(&(if digits.is_empty() { 0 } else { weight }).to_be_bytes());
    block.extend_from_slice(&sign.to_be_bytes());
    block.extend_from_slice(&(scale as u16).to_be_bytes());
    for digit in digits {
        block.extend_from_slice(&digit.to_be_bytes());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Reads a number as the server does.
    fn value_of(bytes: &[u8]) -> (i128, u16) {
        let word = |at: usize| i16::from_be_bytes([bytes[at], bytes[at + 1]]);
        let (count, weight, scale) = (word(4) as usize, i32::from(word(6)), word(10) as u16);
        assert_eq!(bytes.len(), 12 + 2 * count);
        let places = i32::from(scale.div_ceil(4) as i16);
        let mut total: i128 = 0;
        // In units of the last group of four behind the mark, then in units of the scale.
        let extra = 10i128.pow(places as u32 * 4 - u32::from(scale));
        for at in 0..count {
            let power = weight - at as i32 + places;
            let digit = i128::from(word(12 + 2 * at));
            let part = if power > 0 {
                digit * (10_000i128.pow(power as u32 - 1) * (10_000 / extra))
            } else {
                assert_eq!(digit % extra, 0);
                digit / extra
            };
            total += part;
        }
        (if word(8) == 0 { total } else { -total }, scale)
    }

    proptest! {
        #[test]
        fn numbers_are_those_that_were_meant(
            mantissa in prop_oneof![
                -10i128.pow(38) + 1..10i128.pow(38), -20_000..20_000i128, Just(0)
            ],
            scale in 0u8..=38,
        ) {
            let mut block = Vec::new();
            numeric(&mut block, mantissa, scale);
            prop_assert_eq!(value_of(&block), (mantissa, u16::from(scale)));
        }
    }

    #[test]
    fn unused_widths_are_not_needed() {
        // Every integer type has a wire of its own width, so that no value is cut.
        for int in IntType::ALL {
            let schema = Schema {
                columns: vec![typhos_core::schema::ColumnDecl::new("n", Scalar::Int(int))],
                ..Schema::default()
            };
            let (low, high) = int.range();
            let Shape::Plain(wire) = PostgresRows::new(&schema).columns[0].1 else { panic!() };
            let room = match wire {
                Wire::Int2 => (i16::MIN.into(), i16::MAX.into()),
                Wire::Int4 => (i32::MIN.into(), i32::MAX.into()),
                Wire::Int8 => (i64::MIN.into(), i64::MAX.into()),
                _ => (i128::MIN, i128::MAX),
            };
            assert!(room.0 <= low && high <= room.1, "{int:?}");
        }
    }
}
