//! Rows in the format `RowBinary`: values of fixed width with the lowest byte first, texts behind their
//! length, and a byte before what may be null.

use arrow_array::RecordBatch;
use arrow_schema::TimeUnit;
use typhos_core::schema::{ColumnDecl, IntType, Scalar, Schema, Type};

use typhos_load::TargetError;
use typhos_load::feed::RowEncoder;
use typhos_load::view::{Nested, NestedKind, View, units_per_second};
use typhos_sql::{ClickHouse, Definitions};

/// Days since 1970 that newer versions hold: those of 1900 to 2299.
const DAYS: std::ops::RangeInclusive<i32> = -25_567..=120_529;

/// How the values of a column are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wire {
    /// Integers of so many bytes: numbers, mantissas, days, times.
    Int(u8),
    /// The url in a list, from 1, in so many bytes.
    Listed(u8),
    /// Days since 1970 in four bytes.
    Days32,
    /// Units of a second since 1970 in eight bytes.
    Units64,
    /// Days since 1970 in two bytes.
    Days16,
    /// Seconds since 1970 in four bytes.
    Seconds32,
    Other,
}

struct Column {
    name: String,
    wire: Wire,
    nullable: bool,
}

/// How a column is written, and what is inside of its values.
enum Shape {
    Leaf(Column),
    List(Box<Shape>),
    Struct(Vec<Shape>),
}

/// Encodes rows.
pub struct ClickHouseRows {
    columns: Vec<Shape>,
}

impl Shape {
    fn of(column: &ColumnDecl, ty: &Type, language: ClickHouse, is_inside: bool) -> Shape {
        match ty {
            Type::Scalar(scalar) => {
                let column = ColumnDecl { ty: (*scalar).into(), ..column.clone() };
                let nullable = is_inside || !column.required;
                Shape::Leaf(Column { nullable, ..Column::new(&column, language) })
            }
            Type::List(items) => Shape::List(Box::new(Shape::of(column, items, language, true))),
            Type::Struct(fields) => Shape::Struct(
                fields.iter().map(|field| Shape::of(field, &field.ty, language, true)).collect(),
            ),
        }
    }

    /// Writes a value; `is_null` says that there is none.
    fn write(
        &self,
        values: &Nested<'_>,
        row: usize,
        is_null: bool,
        block: &mut Vec<u8>,
    ) -> Result<(), TargetError> {
        let is_null = is_null || values.is_null(row);
        match (self, &values.kind) {
            (Shape::Leaf(column), NestedKind::Leaf(view)) => {
                if column.nullable {
                    block.push(u8::from(is_null));
                }
                if is_null { Ok(()) } else { column.write(view, row, block) }
            }
            (Shape::List(shape), NestedKind::List(offsets, items)) => {
                let (start, end) = match is_null {
                    true => (0, 0),
                    false => (offsets[row] as usize, offsets[row + 1] as usize),
                };
                length(block, end - start);
                (start..end).try_for_each(|at| shape.write(items, at, false, block))
            }
            (Shape::Struct(shapes), NestedKind::Struct(fields)) => {
                let mut fields = shapes.iter().zip(fields);
                fields.try_for_each(|(shape, field)| shape.write(field, row, is_null, block))
            }
            _ => unreachable!("a column is written as it is held"),
        }
    }
}

impl ClickHouseRows {
    pub fn new(schema: &Schema, language: ClickHouse) -> ClickHouseRows {
        let shape = |column: &ColumnDecl| match language.nests(column) {
            true => Shape::of(column, &column.ty, language, false),
            false => Shape::of(column, &column.scalar().into(), language, false),
        };
        ClickHouseRows { columns: schema.columns.iter().map(shape).collect() }
    }
}

impl Column {
    fn new(column: &ColumnDecl, language: ClickHouse) -> Column {
        let stored = language.stored("", column).ty;
        let wire = match column.scalar().numbered() {
            Scalar::Int(int) => Wire::Int(match int {
                IntType::Int8 | IntType::UInt8 => 1,
                IntType::Int16 | IntType::UInt16 => 2,
                IntType::Int32 | IntType::UInt32 => 4,
                IntType::Int64 | IntType::UInt64 => 8,
            }),
            Scalar::Decimal { precision, .. } => Wire::Int(match precision {
                0..=9 => 4,
                10..=18 => 8,
                _ => 16,
            }),
            Scalar::Category if stored.starts_with("Enum8") => Wire::Listed(1),
            Scalar::Category if stored.starts_with("Enum16") => Wire::Listed(2),
            Scalar::Date if language.has_date32() => Wire::Days32,
            Scalar::Date => Wire::Days16,
            Scalar::Time(_) => Wire::Int(if stored == "UInt32" { 4 } else { 8 }),
            Scalar::Timestamp { .. } if stored.starts_with("DateTime(") => Wire::Seconds32,
            Scalar::Timestamp { .. } if stored.starts_with("DateTime64(") => Wire::Units64,
            Scalar::Timestamp { .. } => Wire::Int(8),
            _ => Wire::Other,
        };
        Column { name: column.name.clone(), wire, nullable: !column.required }
    }
}

impl RowEncoder for ClickHouseRows {
    type Block = Vec<u8>;

    fn start(&self) -> Vec<u8> {
        Vec::new()
    }

    fn encode(&self, batch: &RecordBatch, block: &mut Vec<u8>) -> Result<(), TargetError> {
        let fields = batch.schema_ref().fields();
        let values: Vec<_> =
            fields.iter().zip(batch.columns()).map(|(field, a)| Nested::of(field, a)).collect();
        for row in 0..batch.num_rows() {
            for (shape, values) in self.columns.iter().zip(&values) {
                shape.write(values, row, false, block)?;
            }
        }
        Ok(())
    }
}

/// The lowest bytes of an integer.
#[inline]
fn int(block: &mut Vec<u8>, value: i128, bytes: u8) {
    block.extend_from_slice(&value.to_le_bytes()[..usize::from(bytes)]);
}

/// A text behind its length, seven bits to the byte.
#[inline]
fn text(block: &mut Vec<u8>, value: &[u8]) {
    length(block, value.len());
    block.extend_from_slice(value);
}

/// A length, seven bits to the byte.
#[inline]
fn length(block: &mut Vec<u8>, mut length: usize) {
    while length >= 0x80 {
        block.push(length as u8 | 0x80);
        length >>= 7;
    }
    block.push(length as u8);
}

impl Column {
    fn beyond(&self, years: &str, what: &str) -> TargetError {
        TargetError::CannotHold {
            column: self.name.clone(),
            value: "a value".into(),
            reason: format!(
                "is outside of {years}, which {what} holds in this version of ClickHouse; declare the column as text"
            ),
        }
    }

    #[inline]
    fn write(&self, view: &View<'_>, row: usize, block: &mut Vec<u8>) -> Result<(), TargetError> {
        match (view, self.wire) {
            (View::Int(ints) | View::Decimal(ints, _) | View::Time(ints, _), Wire::Int(bytes)) => {
                int(block, ints.get(row), bytes);
            }
            (View::Date(days), Wire::Days32) => {
                let days = Some(days[row]).filter(|days| DAYS.contains(days));
                let days = days.ok_or_else(|| self.beyond("1900 to 2299", "Date32"))?;
                block.extend_from_slice(&days.to_le_bytes());
            }
            (View::Timestamp(units, unit), Wire::Units64) => {
                let days = units[row].div_euclid(86_400 * units_per_second(*unit));
                if !i32::try_from(days).is_ok_and(|days| DAYS.contains(&days)) {
                    return Err(self.beyond("1900 to 2299", "DateTime64"));
                }
                block.extend_from_slice(&units[row].to_le_bytes());
            }
            // What two bytes hold beyond 2105 shows there as other days.
            (View::Date(days), _) => {
                let days = u16::try_from(days[row]).ok().filter(|days| *days < 49_673);
                block.extend_from_slice(
                    &days.ok_or_else(|| self.beyond("1970 to 2105", "Date"))?.to_le_bytes(),
                );
            }
            (View::Timestamp(units, unit), Wire::Seconds32) => {
                debug_assert_eq!(*unit, TimeUnit::Second);
                let seconds = u32::try_from(units[row])
                    .map_err(|_| self.beyond("1970 to 2105", "DateTime"))?;
                block.extend_from_slice(&seconds.to_le_bytes());
            }
            (View::Timestamp(units, ..), _) => int(block, units[row].into(), 8),
            (View::Coded(codes, _), Wire::Listed(bytes)) => int(block, codes.get(row) + 1, bytes),
            (View::Coded(codes, texts), _) => {
                text(block, texts.value(codes.narrow(row) as usize).as_bytes());
            }
            (View::Text(texts), _) => text(block, texts.value(row).as_bytes()),
            (View::Bool(values), _) => block.push(u8::from(values.value(row))),
            (View::Float32(values), _) => block.extend_from_slice(&values[row].to_le_bytes()),
            (View::Float64(values), _) => block.extend_from_slice(&values[row].to_le_bytes()),
            (View::Uuid(uuids), _) => {
                // Two halves, each with its lowest byte first.
                let bytes = uuids.value(row);
                block.extend(bytes[..8].iter().rev());
                block.extend(bytes[8..].iter().rev());
            }
            (View::Point(latitudes, longitudes), _) => {
                text(block, format!("{},{}", latitudes[row], longitudes[row]).as_bytes());
            }
            _ => unreachable!("a column is written as it is held"),
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{ArrayRef, Date32Array, TimestampMillisecondArray};
    use std::sync::Arc;
    use typhos_core::schema::{ColumnDecl, TimeUnit as Unit};

    /// What a column of one value becomes, or why it does not.
    fn encoded(version: (u32, u32), ty: Scalar, array: ArrayRef) -> Result<Vec<u8>, String> {
        let column = ColumnDecl { required: true, ..ColumnDecl::new("at", ty) };
        let schema = Schema { columns: vec![column], ..Schema::default() };
        let batch = RecordBatch::try_from_iter([("at", array)]).unwrap();
        let mut block = Vec::new();
        let rows = ClickHouseRows::new(&schema, ClickHouse { version });
        rows.encode(&batch, &mut block).map(|()| block).map_err(|error| error.to_string())
    }

    #[test]
    fn times_that_a_version_does_not_reach_stop_the_load() {
        let (old, new) = ((18, 16), (24, 8));
        let date = |days: i32| -> ArrayRef { Arc::new(Date32Array::from(vec![days])) };
        for (version, days, want) in [
            (old, 0, Ok(vec![0, 0])),
            (old, 49_672, Ok(vec![0x08, 0xc2])),
            (old, 49_673, Err("1970 to 2105")),
            (old, -1, Err("1970 to 2105")),
            (new, -25_567, Ok((-25_567i32).to_le_bytes().to_vec())),
            (new, 120_529, Ok(120_529i32.to_le_bytes().to_vec())),
            (new, 120_530, Err("1900 to 2299")),
            (new, -25_568, Err("1900 to 2299")),
        ] {
            match (encoded(version, Scalar::Date, date(days)), want) {
                (Ok(found), Ok(want)) => assert_eq!(found, want, "{days}"),
                (Err(found), Err(want)) => assert!(found.contains(want), "{days}: {found}"),
                other => panic!("{version:?} {days}: {other:?}"),
            }
        }
        let ty = Scalar::Timestamp { unit: Unit::Milli, utc: true };
        let moment = |units: i64| -> ArrayRef {
            Arc::new(TimestampMillisecondArray::from(vec![units]).with_timezone("UTC"))
        };
        let (last, beyond) = (120_530 * 86_400_000 - 1, 120_530 * 86_400_000);
        assert_eq!(encoded(new, ty, moment(last)), Ok(last.to_le_bytes().to_vec()));
        assert!(encoded(new, ty, moment(beyond)).unwrap_err().contains("DateTime64"));
        // Where there is no such type, the number itself is held.
        assert_eq!(encoded(old, ty, moment(beyond)), Ok(beyond.to_le_bytes().to_vec()));
    }
}
