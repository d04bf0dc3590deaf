//! Files that other programs wrote: every type is shown, and damage is an error.

use std::error::Error;
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use arrow_array::builder::{ListBuilder, StringBuilder};
use arrow_array::types::Int8Type;
use arrow_array::*;
use arrow_ipc::writer::FileWriter;
use arrow_schema::{DataType, Field, Schema};
use parquet::arrow::ArrowWriter;
use typhos_core::columns::cell_text;
use typhos_core::table::{Selection, Table, selected_rows};
use typhos_files::tables::{ArrowTable, ParquetTable};

/// A batch of types that no column of ours has.
fn batch() -> RecordBatch {
    let mut list = ListBuilder::new(StringBuilder::new());
    list.values().append_value("a");
    list.append(true);
    list.append_null();
    let numbers: DictionaryArray<Int8Type> = DictionaryArray::new(
        Int8Array::from(vec![Some(1), None]),
        Arc::new(Int64Array::from(vec![5, 7])),
    );
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("large", Arc::new(LargeStringArray::from(vec![Some("x"), None]))),
        ("view", Arc::new(StringViewArray::from(vec!["a text that is longer than a view", ""]))),
        ("bytes", Arc::new(BinaryArray::from(vec![&b"\x00\xff"[..], b""]))),
        ("list", Arc::new(list.finish())),
        ("numbers", Arc::new(numbers)),
        ("duration", Arc::new(DurationSecondArray::from(vec![90_061, -1]))),
        (
            "big",
            Arc::new(Decimal256Array::from(vec![arrow_buffer::i256::MAX, arrow_buffer::i256::MIN])),
        ),
        ("half", Arc::new(Float16Array::from_value(Default::default(), 2))),
        ("nothing", Arc::new(NullArray::new(2))),
        ("date", Arc::new(Date64Array::from(vec![i64::MAX, 0]))),
    ];
    let fields: Vec<Field> = columns
        .iter()
        .map(|(name, array)| Field::new(*name, array.data_type().clone(), true))
        .collect();
    let arrays = columns.into_iter().map(|(_, array)| array).collect();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).unwrap()
}

fn write_arrow(path: &Path, batch: &RecordBatch) {
    let mut writer = FileWriter::try_new(File::create(path).unwrap(), &batch.schema()).unwrap();
    writer.write(batch).unwrap();
    writer.finish().unwrap();
}

fn write_parquet(path: &Path, batch: &RecordBatch) {
    let mut writer =
        ArrowWriter::try_new(File::create(path).unwrap(), batch.schema(), None).unwrap();
    writer.write(batch).unwrap();
    writer.close().unwrap();
}

/// The first row, as it is shown.
fn shown(batches: &[RecordBatch]) -> Vec<Option<String>> {
    batches[0].columns().iter().map(|column| cell_text(column, 0)).collect()
}

#[test]
fn files_of_others_are_shown_whatever_their_types() {
    let folder = tempfile::tempdir().unwrap();
    let whole = batch();
    let path = folder.path().join("a.arrow");
    write_arrow(&path, &whole);
    let mut table = ArrowTable::open(&path).unwrap();
    assert_eq!(table.rows(), Some(2));
    let (batches, _) = selected_rows(&mut table, &Selection::first(1)).unwrap();
    let cells = shown(&batches);
    let want = ["x", "a text that is longer than a view", "0x00ff", "[a]", "7", "25:01:01"];
    assert_eq!(cells[..6].iter().flatten().collect::<Vec<_>>(), want);
    assert_eq!(cells[8], None);
    // Parquet has not all of them.
    let kept: Vec<usize> = (0..whole.num_columns())
        .filter(|at| {
            !matches!(whole.column(*at).data_type(), DataType::Duration(_) | DataType::Null)
        })
        .collect();
    let path = folder.path().join("a.parquet");
    write_parquet(&path, &whole.project(&kept).unwrap());
    let mut table = ParquetTable::open(&path).unwrap();
    let (batches, _) = selected_rows(&mut table, &Selection::first(1)).unwrap();
    assert_eq!((table.rows(), shown(&batches)[3].as_deref()), (Some(2), Some("[a]")));
}

fn arrow_rows(path: &Path) -> Result<Vec<RecordBatch>, Box<dyn Error>> {
    Ok(selected_rows(&mut ArrowTable::open(path)?, &Selection::first(5))?.0)
}

fn parquet_rows(path: &Path) -> Result<Vec<RecordBatch>, Box<dyn Error>> {
    Ok(selected_rows(&mut ParquetTable::open(path)?, &Selection::first(5))?.0)
}

/// Each byte of small files turned over, one after the other: an answer or an error, and no panic.
#[test]
fn damaged_files_are_errors() {
    let folder = tempfile::tempdir().unwrap();
    let (arrow, parquet) = (folder.path().join("a.arrow"), folder.path().join("a.parquet"));
    let small = RecordBatch::try_from_iter([
        ("n", Arc::new(Int32Array::from(vec![1, 2, 3])) as ArrayRef),
        ("t", Arc::new(StringArray::from(vec!["x", "y", "z"]))),
    ])
    .unwrap();
    write_arrow(&arrow, &small);
    write_parquet(&parquet, &small);
    let damaged = folder.path().join("damaged");
    for path in [&arrow, &parquet] {
        let sound = std::fs::read(path).unwrap();
        let mut errors = 0;
        for at in 0..sound.len() {
            for bit in [0x01, 0x80] {
                let mut bytes = sound.clone();
                bytes[at] ^= bit;
                std::fs::write(&damaged, &bytes).unwrap();
                let batches = if path == &arrow { arrow_rows } else { parquet_rows }(&damaged);
                match batches {
                    Ok(batches) => batches.iter().for_each(|batch| {
                        for row in 0..batch.num_rows().min(5) {
                            batch.columns().iter().for_each(|column| _ = cell_text(column, row));
                        }
                    }),
                    Err(error) => {
                        errors += 1;
                        assert!(error.to_string().contains("damaged"), "{error}");
                    }
                }
            }
        }
        assert!(errors > 20, "{errors}");
        // And cut off anywhere.
        for end in 0..sound.len() {
            std::fs::write(&damaged, &sound[..end]).unwrap();
            assert!(arrow_rows(&damaged).is_err() && parquet_rows(&damaged).is_err());
        }
    }
}
