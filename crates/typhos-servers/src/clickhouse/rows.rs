//! Rows in the format `Native`: one block for each batch, column by column, as the server holds them itself. Of a column its
//! name and type come first, then a byte for each value where it may be null, then the values: those of fixed width with the
//! lowest byte first, texts behind their length, and of arrays where each ends among the elements of all.

mod put;

use arrow_array::RecordBatch;
use arrow_schema::TimeUnit;
use typhos_core::schema::{ColumnDecl, IntType, Scalar, Schema, Type};

use typhos_load::TargetError;
use typhos_load::feed::RowEncoder;
use typhos_load::view::{Nested, NestedKind, View, units_per_second};
use typhos_sql::{ClickHouse, Definitions};

use put::{Rows, length, put, put_dictionary, put_ints, put_texts, text, try_put};

/// Days since 1970 that newer versions hold: those of 1900 to 2299.
const DAYS: std::ops::RangeInclusive<i32> = -25_567..=120_529;

/// How the values of a column are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wire {
    /// Integers of so many bytes: numbers, mantissas, days, times.
    Int(u8),
    /// The place in a list, from 1, in so many bytes.
    Listed(u8),
    /// Days since 1970 in four bytes.
    Days32,
    /// Units of a second since 1970 in eight bytes.
    Units64,
    /// Days since 1970 in two bytes.
    Days16,
    /// Seconds since 1970 in four bytes.
    Seconds32,
    /// The distinct texts of a block, and the places of its values among them.
    Dictionary,
    Other,
}

/// A column as a block says it.
struct Column {
    name: String,
    /// Its type, as the server spells it.
    ty: String,
    shape: Shape,
}

/// How values are written.
struct Leaf {
    /// The column they are of.
    name: String,
    wire: Wire,
    nullable: bool,
}

/// How a column is written, and what is inside of its values.
enum Shape {
    Leaf(Leaf),
    List(Box<Shape>),
    Struct(Vec<Shape>),
}

/// Encodes rows.
pub struct ClickHouseRows {
    columns: Vec<Column>,
}

impl Shape {
    fn of(column: &ColumnDecl, ty: &Type, language: ClickHouse, is_inside: bool) -> Shape {
        match ty {
            Type::Scalar(scalar) => {
                let column = ColumnDecl { ty: (*scalar).into(), ..column.clone() };
                let leaf = Leaf::new(&column, language);
                Shape::Leaf(if is_inside { leaf.inside() } else { leaf })
            }
            Type::List(items) => Shape::List(Box::new(Shape::of(column, items, language, true))),
            Type::Struct(fields) => Shape::Struct(
                fields.iter().map(|field| Shape::of(field, &field.ty, language, true)).collect(),
            ),
        }
    }

    /// Writes values.
    fn write(
        &self,
        values: &Nested<'_>,
        rows: Rows<'_>,
        block: &mut Vec<u8>,
    ) -> Result<(), TargetError> {
        match (self, &values.kind) {
            (Shape::Leaf(leaf), NestedKind::Leaf(view)) => {
                // A dictionary says it in its own way.
                if leaf.nullable && leaf.wire != Wire::Dictionary {
                    block.extend(rows.of(values).map(|row| u8::from(row.is_none())));
                }
                leaf.write(view, values, rows, block)
            }
            (Shape::List(shape), NestedKind::List(offsets, items)) => {
                let mut elements = Vec::new();
                for row in rows.of(values) {
                    // A null is an empty one.
                    if let Some(row) = row {
                        elements
                            .extend((offsets[row]..offsets[row + 1]).map(|at| Some(at as usize)));
                    }
                    block.extend_from_slice(&(elements.len() as u64).to_le_bytes());
                }
                shape.write(items, Rows::These(&elements), block)
            }
            (Shape::Struct(shapes), NestedKind::Struct(fields)) => {
                // Of a null all fields are.
                let inside: Vec<_> = rows.of(values).collect();
                let mut fields = shapes.iter().zip(fields);
                fields
                    .try_for_each(|(shape, field)| shape.write(field, Rows::These(&inside), block))
            }
            _ => unreachable!("a column is written as it is held"),
        }
    }
}

impl ClickHouseRows {
    pub fn new(schema: &Schema, language: ClickHouse) -> ClickHouseRows {
        let columns = schema.columns.iter().map(|column| {
            let stored = language.stored("", column).ty;
            let name = column.name.clone();
            if language.nests(column) {
                let shape = Shape::of(column, &column.ty, language, false);
                return Column { name, ty: stored, shape };
            }
            let ty = language.nullable(&stored, !column.required);
            Column { name, ty, shape: Shape::of(column, &column.scalar().into(), language, false) }
        });
        ClickHouseRows { columns: columns.collect() }
    }
}

impl Leaf {
    fn new(column: &ColumnDecl, language: ClickHouse) -> Leaf {
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
            _ if stored.starts_with("LowCardinality(") => Wire::Dictionary,
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
        Leaf { name: column.name.clone(), wire, nullable: !column.required }
    }

    /// What is inside of a value has no dictionary.
    fn inside(self) -> Leaf {
        let wire = if self.wire == Wire::Dictionary { Wire::Other } else { self.wire };
        Leaf { wire, nullable: true, ..self }
    }
}

impl RowEncoder for ClickHouseRows {
    type Block = Vec<u8>;

    fn start(&self) -> Vec<u8> {
        Vec::new()
    }

    fn encode(&self, batch: &RecordBatch, block: &mut Vec<u8>) -> Result<(), TargetError> {
        if batch.num_rows() == 0 {
            return Ok(());
        }
        length(block, self.columns.len());
        length(block, batch.num_rows());
        let fields = batch.schema_ref().fields();
        for ((column, field), array) in self.columns.iter().zip(fields).zip(batch.columns()) {
            text(block, column.name.as_bytes());
            text(block, column.ty.as_bytes());
            column.shape.write(&Nested::of(field, array), Rows::All(batch.num_rows()), block)?;
        }
        Ok(())
    }
}

impl Leaf {
    #[cold]
    fn beyond(&self, years: &str, what: &str) -> TargetError {
        TargetError::cannot_hold(
            &self.name,
            "a value",
            format!(
                "is outside of {years}, which {what} holds in this version of ClickHouse; declare the column as text"
            ),
        )
    }

    fn write(
        &self,
        view: &View<'_>,
        values: &Nested<'_>,
        rows: Rows<'_>,
        block: &mut Vec<u8>,
    ) -> Result<(), TargetError> {
        match (view, self.wire) {
            (View::Int(ints) | View::Decimal(ints, _) | View::Time(ints, _), Wire::Int(width)) => {
                put_ints(block, values, rows, *ints, width);
            }
            (View::Date(days), Wire::Days32) => {
                try_put(block, values, rows, |row| match DAYS.contains(&days[row]) {
                    true => Ok(days[row].to_le_bytes()),
                    false => Err(self.beyond("1900 to 2299", "Date32")),
                })?;
            }
            (View::Timestamp(units, unit), Wire::Units64) => {
                let in_day = 86_400 * units_per_second(*unit);
                let bounds = i64::from(*DAYS.start()).saturating_mul(in_day)
                    ..(i64::from(*DAYS.end()) + 1).saturating_mul(in_day);
                try_put(block, values, rows, |row| match bounds.contains(&units[row]) {
                    true => Ok(units[row].to_le_bytes()),
                    false => Err(self.beyond("1900 to 2299", "DateTime64")),
                })?;
            }
            // What two bytes hold beyond 2105 shows there as other days.
            (View::Date(days), _) => {
                try_put(block, values, rows, |row| match u16::try_from(days[row]) {
                    Ok(days) if days < 49_673 => Ok(days.to_le_bytes()),
                    _ => Err(self.beyond("1970 to 2105", "Date")),
                })?;
            }
            (View::Timestamp(units, unit), Wire::Seconds32) => {
                debug_assert_eq!(*unit, TimeUnit::Second);
                try_put(block, values, rows, |row| match u32::try_from(units[row]) {
                    Ok(seconds) => Ok(seconds.to_le_bytes()),
                    Err(_) => Err(self.beyond("1970 to 2105", "DateTime")),
                })?;
            }
            (View::Timestamp(units, ..), _) => {
                put(block, values, rows, |row| units[row].to_le_bytes());
            }
            (View::Coded(codes, _), Wire::Listed(1)) => {
                put(block, values, rows, |row| [codes.narrow(row) as u8 + 1]);
            }
            (View::Coded(codes, _), Wire::Listed(_)) => {
                put(block, values, rows, |row| (codes.narrow(row) as u16 + 1).to_le_bytes());
            }
            (View::Coded(codes, texts), Wire::Dictionary) => {
                put_dictionary(block, values, rows, (*codes, texts), self.nullable);
            }
            (View::Coded(codes, texts), _) => {
                put_texts(block, values, rows, |row| texts.value(codes.narrow(row) as usize));
            }
            (View::Text(texts), _) => put_texts(block, values, rows, |row| texts.value(row)),
            (View::Bool(bools), _) => put(block, values, rows, |row| [u8::from(bools.value(row))]),
            (View::Float32(floats), _) => {
                put(block, values, rows, |row| floats[row].to_le_bytes());
            }
            (View::Float64(floats), _) => {
                put(block, values, rows, |row| floats[row].to_le_bytes());
            }
            (View::Uuid(uuids), _) => put(block, values, rows, |row| {
                // Two halves, each with its lowest byte first.
                let mut bytes = [0; 16];
                bytes.copy_from_slice(uuids.value(row));
                bytes[..8].reverse();
                bytes[8..].reverse();
                bytes
            }),
            (View::Point(latitudes, longitudes), _) => {
                for row in rows.of(values) {
                    let point = |row: usize| format!("{},{}", latitudes[row], longitudes[row]);
                    text(block, row.map_or(String::new(), point).as_bytes());
                }
            }
            _ => unreachable!("a column is written as it is held"),
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::types::{UInt8Type, UInt32Type};
    use arrow_array::{
        ArrayRef, Date32Array, DictionaryArray, ListArray, StringArray, TimestampMillisecondArray,
        UInt32Array,
    };
    use proptest::collection::vec;
    use proptest::prelude::*;
    use std::sync::Arc;
    use typhos_core::schema::{ColumnDecl, TimeUnit as Unit};

    /// What a column of one value becomes behind its name and type, or why it does not.
    fn encoded(version: (u32, u32), ty: Scalar, array: ArrayRef) -> Result<Vec<u8>, String> {
        let column = ColumnDecl { required: true, ..ColumnDecl::new("at", ty) };
        let schema = Schema { columns: vec![column], ..Schema::default() };
        let batch = RecordBatch::try_from_iter([("at", array)]).unwrap();
        let mut block = Vec::new();
        let rows = ClickHouseRows::new(&schema, ClickHouse { version });
        rows.encode(&batch, &mut block).map_err(|error| error.to_string())?;
        let head = "\u{1}\u{1}\u{2}at\u{0}".len() + rows.columns[0].ty.len();
        Ok(block.split_off(head))
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

    /// A block as whoever reads it sees it.
    struct Block<'b>(&'b [u8]);

    impl<'b> Block<'b> {
        fn take(&mut self, bytes: usize) -> &'b [u8] {
            let (taken, rest) = self.0.split_at(bytes);
            self.0 = rest;
            taken
        }

        fn number(&mut self, bytes: usize) -> u64 {
            self.take(bytes).iter().rev().fold(0, |sum, byte| sum << 8 | u64::from(*byte))
        }

        fn length(&mut self) -> usize {
            let (mut length, mut shift) = (0, 0);
            loop {
                let byte = self.take(1)[0];
                length |= usize::from(byte & 0x7f) << shift;
                if byte < 0x80 {
                    return length;
                }
                shift += 7;
            }
        }

        fn text(&mut self) -> String {
            let length = self.length();
            String::from_utf8(self.take(length).to_vec()).unwrap()
        }

        fn texts(&mut self, count: usize) -> Vec<String> {
            (0..count).map(|_| self.text()).collect()
        }

        /// Values that may be null, by what reads those that are not.
        fn nullable<T>(&mut self, rows: usize, read: impl Fn(&mut Self) -> T) -> Vec<Option<T>> {
            let nulls = self.take(rows).to_vec();
            let values: Vec<_> = (0..rows).map(|_| read(self)).collect();
            values.into_iter().zip(nulls).map(|(v, null)| (null == 0).then_some(v)).collect()
        }
    }

    proptest! {
        #[test]
        fn blocks_hold_what_batches_do(
            numbers in vec(proptest::option::of(any::<u32>()), 1..400),
            many in any::<bool>(),
        ) {
            let rows = numbers.len();
            let word = |number: u32| format!("w{}", if many { number } else { number % 3 });
            let texts: Vec<_> = numbers.iter().map(|n| n.map(word)).collect();
            let lists: Vec<_> = numbers
                .iter()
                .map(|n| n.map(|n| (0..n % 4).map(|at| (at != 1).then_some(at as u8)).collect::<Vec<_>>()))
                .collect();
            let dictionary: DictionaryArray<UInt32Type> =
                texts.iter().map(Option::as_deref).collect();
            let batch = RecordBatch::try_from_iter_with_nullable([
                ("number", Arc::new(UInt32Array::from(numbers.clone())) as ArrayRef, true),
                ("text", Arc::new(StringArray::from(texts.clone())), true),
                ("word", Arc::new(dictionary), true),
                ("list", Arc::new(ListArray::from_iter_primitive::<UInt8Type, _, _>(lists.clone())), true),
            ]);
            let list = Type::List(Box::new(Scalar::Int(IntType::UInt8).into()));
            let mut columns = vec![
                ColumnDecl::new("number", Scalar::Int(IntType::UInt32)),
                ColumnDecl::new("text", Scalar::Text { most: None }),
                ColumnDecl::new("word", Scalar::Lowcard),
                ColumnDecl::new("list", Scalar::Json),
            ];
            columns[3].ty = list;
            let schema = Schema { columns, ..Schema::default() };
            let mut block = Vec::new();
            let encoder = ClickHouseRows::new(&schema, ClickHouse::newest());
            encoder.encode(&batch.unwrap(), &mut block).unwrap();

            let mut block = Block(&block);
            prop_assert_eq!([block.length(), block.length()], [4, rows]);
            prop_assert_eq!(block.texts(2), ["number", "Nullable(UInt32)"]);
            let found = block.nullable(rows, |block| block.number(4) as u32);
            prop_assert_eq!(found, numbers);
            prop_assert_eq!(block.texts(2), ["text", "Nullable(String)"]);
            prop_assert_eq!(&block.nullable(rows, Block::text), &texts);
            prop_assert_eq!(block.texts(2), ["word", "LowCardinality(Nullable(String))"]);
            prop_assert_eq!(block.number(8), 1);
            let width = match block.number(8) ^ 0x600 { 0 => 1, 1 => 2, 2 => 4, other => panic!("{other}") };
            let count = block.number(8) as usize;
            let words = block.texts(count);
            prop_assert_eq!(block.number(8), rows as u64);
            let places: Vec<_> = (0..rows).map(|_| block.number(width) as usize).collect();
            let found: Vec<_> = places.iter().map(|at| (*at > 0).then(|| words[*at].clone())).collect();
            prop_assert_eq!(found, texts);
            prop_assert_eq!(block.texts(2), ["list", "Array(Nullable(UInt8))"]);
            let ends: Vec<_> = (0..rows).map(|_| block.number(8) as usize).collect();
            let elements = block.nullable(*ends.last().unwrap(), |block| block.number(1) as u8);
            let starts = [0].into_iter().chain(ends.iter().copied());
            let found: Vec<_> = starts.zip(&ends).map(|(from, to)| elements[from..*to].to_vec()).collect();
            let wanted: Vec<_> = lists.into_iter().map(Option::unwrap_or_default).collect();
            prop_assert_eq!(found, wanted);
            prop_assert!(block.0.is_empty());
        }
    }
}
