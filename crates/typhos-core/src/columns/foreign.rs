//! Cells of arrays that others made, as text: every type that Arrow has, and values that no column of ours would have.
//!
//! Nothing here is fast or read back: it is for looking at files of other programs. Nested cells are cut once they are
//! longer than anybody looks at.

use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, RunArray, UnionArray};
use arrow_schema::{DataType, IntervalUnit};

use super::moments::{push_decimal, push_instant};

/// Bytes of a nested cell after which the rest is left out.
const MOST_NESTED: usize = 1 << 14;

/// How a cell is written that stands inside another one.
type CellText = fn(&dyn Array, usize) -> Option<String>;

/// A cell inside another one.
fn inner(array: &ArrayRef, row: usize, cell: CellText) -> String {
    cell(array, row).unwrap_or_else(|| "null".into())
}

fn bytes_text(bytes: &[u8]) -> String {
    let hex = bytes.iter().take(MOST_NESTED / 2).map(|byte| format!("{byte:02x}"));
    let more = if bytes.len() > MOST_NESTED / 2 { "…" } else { "" };
    format!("0x{}{more}", hex.collect::<String>())
}

/// What is appended to a text of its own.
fn written(write: impl FnOnce(&mut String)) -> String {
    let mut text = String::new();
    write(&mut text);
    text
}

/// Some cells in a row, between two marks.
fn joined(open: char, close: char, cells: impl Iterator<Item = String>) -> String {
    let mut text = String::from(open);
    for (at, cell) in cells.enumerate() {
        if at > 0 {
            text.push_str(", ");
        }
        if text.len() > MOST_NESTED {
            text.push('…');
            break;
        }
        text.push_str(&cell);
    }
    text.push(close);
    text
}

fn list(values: &ArrayRef, cell: CellText) -> String {
    joined('[', ']', (0..values.len()).map(|at| inner(values, at, cell)))
}

fn run_end<R: RunEndIndexType>(array: &RunArray<R>, row: usize, cell: CellText) -> Option<String> {
    let at = array.get_physical_index(row);
    (at < array.values().len()).then(|| cell(array.values(), at)).flatten()
}

fn of_union(array: &UnionArray, row: usize, cell: CellText) -> Option<String> {
    cell(&array.value(row), 0)
}

/// A cell of a type that no column of ours has, and that is not null; `cell` writes those inside it.
pub(super) fn foreign_text(array: &dyn Array, row: usize, cell: CellText) -> Option<String> {
    Some(match array.data_type() {
        DataType::Null => return None,
        DataType::Float16 => array.as_primitive::<Float16Type>().value(row).to_string(),
        DataType::Date64 => {
            let millis = array.as_primitive::<Date64Type>().value(row);
            written(|text| push_instant(text, i128::from(millis) * 1_000_000))
        }
        DataType::Decimal256(_, scale) => {
            let digits = array.as_primitive::<Decimal256Type>().value(row).to_string();
            written(|text| push_decimal(text, &digits, *scale))
        }
        DataType::Interval(IntervalUnit::YearMonth) => {
            format!("{} months", array.as_primitive::<IntervalYearMonthType>().value(row))
        }
        DataType::Interval(IntervalUnit::DayTime) => {
            let value = array.as_primitive::<IntervalDayTimeType>().value(row);
            format!("{} days {} ms", value.days, value.milliseconds)
        }
        DataType::Interval(IntervalUnit::MonthDayNano) => {
            let value = array.as_primitive::<IntervalMonthDayNanoType>().value(row);
            format!("{} months {} days {} ns", value.months, value.days, value.nanoseconds)
        }
        DataType::LargeUtf8 => array.as_string::<i64>().value(row).to_owned(),
        DataType::Utf8View => array.as_string_view().value(row).to_owned(),
        DataType::Binary => bytes_text(array.as_binary::<i32>().value(row)),
        DataType::LargeBinary => bytes_text(array.as_binary::<i64>().value(row)),
        DataType::BinaryView => bytes_text(array.as_binary_view().value(row)),
        DataType::FixedSizeBinary(_) => bytes_text(array.as_fixed_size_binary().value(row)),
        DataType::List(_) => list(&array.as_list::<i32>().value(row), cell),
        DataType::LargeList(_) => list(&array.as_list::<i64>().value(row), cell),
        DataType::ListView(_) => list(&array.as_list_view::<i32>().value(row), cell),
        DataType::LargeListView(_) => list(&array.as_list_view::<i64>().value(row), cell),
        DataType::FixedSizeList(..) => list(&array.as_fixed_size_list().value(row), cell),
        DataType::Struct(fields) => {
            let columns = array.as_struct().columns().iter().zip(fields);
            joined(
                '{',
                '}',
                columns
                    .map(|(cells, field)| format!("{}: {}", field.name(), inner(cells, row, cell))),
            )
        }
        DataType::Map(..) => {
            let entries = array.as_map().value(row);
            let [keys, values] = entries.columns() else { return None };
            let entry = |at| format!("{}: {}", inner(keys, at, cell), inner(values, at, cell));
            joined('{', '}', (0..entries.len()).map(entry))
        }
        DataType::Union(..) => return of_union(array.as_any().downcast_ref()?, row, cell),
        DataType::RunEndEncoded(ends, _) => match ends.data_type() {
            DataType::Int16 => return run_end(array.as_run::<Int16Type>(), row, cell),
            DataType::Int32 => return run_end(array.as_run::<Int32Type>(), row, cell),
            _ => return run_end(array.as_run::<Int64Type>(), row, cell),
        },
        DataType::Dictionary(..) => {
            let dictionary = array.as_any_dictionary();
            let code = match dictionary.keys().data_type() {
                DataType::Int8 => {
                    i128::from(dictionary.keys().as_primitive::<Int8Type>().value(row))
                }
                DataType::Int16 => dictionary.keys().as_primitive::<Int16Type>().value(row).into(),
                DataType::Int32 => dictionary.keys().as_primitive::<Int32Type>().value(row).into(),
                DataType::Int64 => dictionary.keys().as_primitive::<Int64Type>().value(row).into(),
                DataType::UInt8 => dictionary.keys().as_primitive::<UInt8Type>().value(row).into(),
                DataType::UInt16 => {
                    dictionary.keys().as_primitive::<UInt16Type>().value(row).into()
                }
                DataType::UInt32 => {
                    dictionary.keys().as_primitive::<UInt32Type>().value(row).into()
                }
                _ => dictionary.keys().as_primitive::<UInt64Type>().value(row).into(),
            };
            let code = usize::try_from(code).ok().filter(|code| *code < dictionary.values().len());
            return cell(dictionary.values(), code?);
        }
        // What later versions of Arrow add is named, and not guessed at.
        other => format!("({other})"),
    })
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::builder::{ListBuilder, MapBuilder, StringBuilder};
    use arrow_array::*;
    use arrow_buffer::i256;

    use super::*;
    use crate::columns::cell_text;

    #[test]
    fn cells_of_every_type_are_text() {
        let lists = || {
            let mut list = ListBuilder::new(StringBuilder::new());
            list.values().append_value("a");
            list.values().append_null();
            list.append(true);
            list.finish()
        };
        let mut map = MapBuilder::new(None, StringBuilder::new(), StringBuilder::new());
        map.keys().append_value("k");
        map.values().append_value("v");
        map.append(true).unwrap();
        let numbers: DictionaryArray<Int8Type> =
            DictionaryArray::new(Int8Array::from(vec![1]), Arc::new(Int64Array::from(vec![5, 7])));
        let runs = RunArray::<Int32Type>::try_new(
            &Int32Array::from(vec![1]),
            &StringArray::from(vec!["run"]),
        );
        let cases: Vec<(ArrayRef, Option<&str>)> = vec![
            (Arc::new(NullArray::new(1)), None),
            (Arc::new(LargeStringArray::from(vec!["large"])), Some("large")),
            (
                Arc::new(StringViewArray::from(vec!["a view, and a long one"])),
                Some("a view, and a long one"),
            ),
            (Arc::new(BinaryArray::from(vec![&b"\x00\xff"[..]])), Some("0x00ff")),
            (Arc::new(BinaryViewArray::from(vec![&b"\x01"[..]])), Some("0x01")),
            (
                Arc::new(FixedSizeBinaryArray::try_from_iter([b"abc"].iter()).unwrap()),
                Some("0x616263"),
            ),
            (Arc::new(DurationMillisecondArray::from(vec![-5])), Some("-0:00:00.005")),
            (Arc::new(Date64Array::from(vec![86_400_000])), Some("1970-01-02 00:00:00")),
            (Arc::new(Date32Array::from(vec![i32::MAX])), Some("2147483647 days")),
            (Arc::new(Time32SecondArray::from(vec![-1])), Some("-1000000000 ns")),
            (
                Arc::new(TimestampSecondArray::from(vec![i64::MIN])),
                Some("-106751991167301 days 08:29:52"),
            ),
            (
                Arc::new(
                    Decimal256Array::from(vec![i256::from_i128(-5)])
                        .with_precision_and_scale(40, 2)
                        .unwrap(),
                ),
                Some("-0.05"),
            ),
            (
                Arc::new(Decimal128Array::from(vec![12]).with_precision_and_scale(5, -2).unwrap()),
                Some("1200"),
            ),
            (Arc::new(IntervalYearMonthArray::from(vec![13])), Some("13 months")),
            (Arc::new(lists()), Some("[a, null]")),
            (Arc::new(map.finish()), Some("{k: v}")),
            (Arc::new(numbers), Some("7")),
            (Arc::new(runs.unwrap()), Some("run")),
            (
                Arc::new(StructArray::from(vec![(
                    Arc::new(arrow_schema::Field::new("n", DataType::Int8, true)),
                    Arc::new(Int8Array::from(vec![3])) as ArrayRef,
                )])),
                Some("{n: 3}"),
            ),
        ];
        for (array, want) in cases {
            assert_eq!(cell_text(&array, 0).as_deref(), want, "{}", array.data_type());
        }
    }

    #[test]
    fn nested_cells_end_somewhere() {
        let mut list = ListBuilder::new(StringBuilder::new());
        (0..100_000).for_each(|_| list.values().append_value("a text"));
        list.append(true);
        let text = cell_text(&list.finish(), 0).unwrap();
        assert!(text.len() < 2 * MOST_NESTED && text.ends_with("…]"), "{}", text.len());
    }
}
