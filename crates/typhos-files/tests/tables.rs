//! Every table against one expectation: what is selected of an input under a schema is what is selected of the files
//! that it was loaded into.

use std::collections::HashMap;
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::Arc;

use arrow_array::{ArrayRef, Int32Array, RecordBatch};
use arrow_schema::{DataType, Field, Schema};
use parquet::arrow::ArrowWriter;
use proptest::prelude::*;
use proptest::sample::Index;
use typhos_core::columns::{Plan, cell_text};
use typhos_core::filter::Filter;
use typhos_core::read_schema;
use typhos_core::run::NoMonitor;
use typhos_core::table::{InputTable, Passed, Selection, Table, selected_rows};
use typhos_core::text::{Dialect, Input};
use typhos_files::tables::{ArrowTable, FileForm, ParquetTable, SqliteTable};
use typhos_load::{Address, LoadOptions, load};

const SCHEMA: &str = r#"typhos = 1
[columns]
crossing = { type = "uint32", required = true }
harbour = { type = "lowcard" }
fare = { type = "float64" }
sails = { type = "date" }
note = { type = "text" }
"#;

fn world() -> (Plan, Input) {
    let mut text = String::from("crossing,harbour,fare,sails,note\n");
    for row in 0..3000u32 {
        let harbour = ["Holm", "Ternvik", "", "Aukness"][(row % 4) as usize];
        let (fare, day) = (row * 7 % 5000, row % 28 + 1);
        text += &format!(
            "{row},{harbour},{}.{:02},2025-02-{day:02},n{}\n",
            fare / 100,
            fare % 100,
            row / 3
        );
    }
    let input = Input::from_bytes("t.csv", text.into_bytes(), &Dialect::RFC_4180.into());
    (Plan::new(read_schema(SCHEMA).unwrap(), &input).unwrap(), input)
}

fn loaded(folder: &Path, plan: &Plan, input: &Input) {
    for name in ["t.parquet", "t.arrow", "t.sqlite"] {
        let path = folder.join(name);
        let destination = typhos_files::destination(&Address {
            into: path.to_str().unwrap(),
            table: "t",
            ..Address::default()
        });
        let options = LoadOptions::new(folder.join("rejects.csv"));
        load(input, plan, &*destination.unwrap(), &options, &NoMonitor).unwrap();
    }
}

fn opened(folder: &Path) -> (ParquetTable, ArrowTable, SqliteTable) {
    (
        ParquetTable::open(&folder.join("t.parquet")).unwrap(),
        ArrowTable::open(&folder.join("t.arrow")).unwrap(),
        SqliteTable::open(&folder.join("t.sqlite"), "t").unwrap(),
    )
}

fn rows(table: &mut dyn Table, selection: &Selection) -> Vec<Vec<Option<String>>> {
    let (batches, passed) = selected_rows(table, selection).unwrap();
    assert_eq!(passed, Passed::default());
    let row = |batch: &RecordBatch, row: usize| {
        batch.columns().iter().map(|column| cell_text(column, row)).collect()
    };
    batches
        .iter()
        .flat_map(|b| (0..b.num_rows()).map(|at| row(b, at)).collect::<Vec<_>>())
        .collect()
}

fn selection() -> impl Strategy<Value = (Option<Vec<Index>>, Option<&'static str>, Option<u64>)> {
    let columns = proptest::option::of(proptest::collection::vec(any::<Index>(), 0..6));
    let question = proptest::option::of(prop_oneof![
        Just("crossing < 1500 and harbour = 'Holm'"),
        Just("harbour is absent or fare > 40"),
        Just("sails between '2025-02-03' and '2025-02-05'"),
        Just("note in ('n7', 'n900')"),
        Just("crossing > 5000"),
    ]);
    (columns, question, proptest::option::of(0u64..4000))
}

#[test]
fn every_table_hands_out_the_same_rows() {
    let folder = tempfile::tempdir().unwrap();
    let (plan, input) = world();
    loaded(folder.path(), &plan, &input);
    let (mut parquet, mut arrow, mut sqlite) = opened(folder.path());
    for table in [&mut parquet as &mut dyn Table, &mut arrow, &mut sqlite] {
        assert_eq!(table.rows(), Some(3000));
    }
    let mut runner = proptest::test_runner::TestRunner::new(ProptestConfig::with_cases(60));
    let law = |(columns, question, limit): (Option<Vec<Index>>, Option<&str>, Option<u64>)| {
        let of = |index: &Index| index.index(plan.schema().columns.len());
        let columns = columns.map(|columns| columns.iter().map(of).collect::<Vec<_>>());
        let filter =
            question.map(|text| Filter::parse(text, plan.schema(), &plan.arrow()).unwrap());
        let selection = Selection { columns, filter, limit };
        let want = rows(&mut InputTable::new(&input, &plan), &selection);
        prop_assert_eq!(&rows(&mut parquet, &selection), &want);
        prop_assert_eq!(&rows(&mut arrow, &selection), &want);
        // What it stores as text is no date, which a question about dates has to know.
        if selection.filter.is_none() {
            prop_assert_eq!(&rows(&mut sqlite, &selection), &want);
        }
        Ok(())
    };
    let law = std::cell::RefCell::new(law);
    runner.run(&selection(), |case| (law.borrow_mut())(case)).unwrap();
}

#[test]
fn who_has_seen_enough_gets_no_more() {
    let folder = tempfile::tempdir().unwrap();
    let (plan, input) = world();
    loaded(folder.path(), &plan, &input);
    let (mut parquet, mut arrow, mut sqlite) = opened(folder.path());
    for table in [&mut parquet as &mut dyn Table, &mut arrow, &mut sqlite] {
        let mut batches = 0;
        table
            .read(&Selection::default(), &mut |_| {
                batches += 1;
                ControlFlow::Break(())
            })
            .unwrap();
        assert_eq!(batches, 1);
    }
}

#[test]
fn what_a_file_is_its_first_bytes_say() {
    let folder = tempfile::tempdir().unwrap();
    let (plan, input) = world();
    loaded(folder.path(), &plan, &input);
    let of = |name: &str| FileForm::of(&folder.path().join(name)).unwrap();
    assert_eq!(of("t.parquet"), Some(FileForm::Parquet));
    assert_eq!(of("t.arrow"), Some(FileForm::Arrow));
    assert_eq!(of("t.sqlite"), Some(FileForm::Sqlite));
    std::fs::write(folder.path().join("t.csv"), "a,b\n").unwrap();
    assert_eq!(of("t.csv"), None);
    assert_eq!(FileForm::of(folder.path()).unwrap(), Some(FileForm::Parquet));
    assert!(FileForm::of(&folder.path().join("lost")).is_err());
}

#[test]
fn a_table_that_is_not_there_is_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let (plan, input) = world();
    loaded(folder.path(), &plan, &input);
    let error = SqliteTable::open(&folder.path().join("t.sqlite"), "lost").unwrap_err();
    assert!(error.to_string().contains("has no table 'lost'"), "{error}");
}

/// Parts that others wrote may differ in what is noted of their columns, but not in the columns.
#[test]
fn parts_have_the_same_columns() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, column: Field, values: ArrayRef| {
        let schema = Arc::new(Schema::new(vec![column]));
        let batch = RecordBatch::try_new(schema.clone(), vec![values]).unwrap();
        let file = std::fs::File::create(folder.path().join(name)).unwrap();
        let mut writer = ArrowWriter::try_new(file, schema, None).unwrap();
        writer.write(&batch).unwrap();
        writer.close().unwrap();
    };
    let numbers = || -> ArrayRef { Arc::new(Int32Array::from(vec![1, 2])) };
    write("a.parquet", Field::new("n", DataType::Int32, false), numbers());
    let noted = Field::new("n", DataType::Int32, true);
    let noted = noted.with_metadata(HashMap::from([("by".to_owned(), "others".to_owned())]));
    write("b.parquet", noted, numbers());
    let mut table = ParquetTable::open(folder.path()).unwrap();
    assert_eq!(table.rows(), Some(4));
    assert_eq!(rows(&mut table, &Selection::default()).len(), 4);
    write("c.parquet", Field::new("m", DataType::Int32, true), numbers());
    let error = ParquetTable::open(folder.path()).unwrap_err().to_string();
    assert!(error.contains("c.parquet has other columns than"), "{error}");
}
