//! Random nested documents: drafted, checked, loaded and read back as what they were, with nulls, missing members and
//! empty lists told apart.

use std::path::Path;

use proptest::prelude::*;
use serde_json::{Map, Value};
use typhos_core::columns::{Plan, write_json};
use typhos_core::infer::{DraftOptions, Objects, Rules, Strings, decide, draft};
use typhos_core::json::learn;
use typhos_core::read_schema as read;
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::survey::{Survey, SurveyOptions};
use typhos_core::table::{Selection, Table, selected_rows};
use typhos_core::text::{Input, InputChoice, InputFormat};
use typhos_files::tables::{ArrowTable, ParquetTable};
use typhos_load::{Address, LoadOptions, Proof, load};

/// An object whose members nest a few levels deep.
fn document() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        2 => Just(Value::Null),
        1 => any::<bool>().prop_map(Value::from),
        3 => (-300i64..300).prop_map(Value::from),
        1 => any::<i32>().prop_map(Value::from),
        2 => (-9000..9000i32).prop_map(|n| Value::from(f64::from(n) / 8.0)),
        2 => "[a-zé\"\\\\\n0-9]{1,6}".prop_filter("not blank", |t| !t.trim().is_empty()).prop_map(Value::from),
    ];
    let value = leaf.prop_recursive(4, 24, 4, |inner| {
        prop_oneof![
            proptest::collection::btree_map("[abc]|p[.]q", inner.clone(), 0..4)
                .prop_map(|members| Value::Object(members.into_iter().collect())),
            proptest::collection::vec(inner, 0..4).prop_map(Value::from),
        ]
    });
    proptest::collection::btree_map("[k-n]", value, 0..4)
        .prop_map(|members| Value::Object(members.into_iter().collect::<Map<_, _>>()))
}

fn input_of(text: &str) -> Input {
    let choice = InputChoice { format: Some(InputFormat::Json), ..InputChoice::default() };
    Input::from_bytes("t.ndjson", text.as_bytes().to_vec(), &choice)
}

/// Whether what came back is what was sent. A column that is text, where values of several kinds stand, has their
/// letters.
fn is_same(found: &Value, sent: &Value) -> bool {
    match (found, sent) {
        (Value::Null, Value::Null) => true,
        (Value::Object(found), Value::Object(sent)) => {
            found.iter().all(|(name, value)| is_same(value, sent.get(name).unwrap_or(&Value::Null)))
                && sent.iter().all(|(name, value)| value.is_null() || found.contains_key(name))
        }
        (Value::Array(found), Value::Array(sent)) => {
            found.len() == sent.len() && found.iter().zip(sent).all(|(a, b)| is_same(a, b))
        }
        (Value::String(found), Value::String(sent)) => found == sent,
        (Value::String(found), sent) => {
            serde_json::from_str::<Value>(found).is_ok_and(|found| is_same(&found, sent))
        }
        (Value::Number(found), Value::Number(sent)) => {
            found == sent || found.as_f64() == sent.as_f64()
        }
        (found, sent) => found == sent,
    }
}

/// The rows of a table as objects, by the names of its columns.
fn rows_of(table: &mut dyn Table) -> Vec<Vec<(String, Value)>> {
    let schema = table.schema();
    let mut rows = Vec::new();
    for batch in selected_rows(table, &Selection::default()).unwrap().0 {
        for row in 0..batch.num_rows() {
            let cell = |(field, array): (&arrow_schema::FieldRef, &arrow_array::ArrayRef)| {
                let mut text = String::new();
                write_json(field, array, row, &mut text);
                (field.name().clone(), serde_json::from_str(&text).unwrap())
            };
            rows.push(schema.fields().iter().zip(batch.columns()).map(cell).collect());
        }
    }
    rows
}

/// A value at the path that is the name of a column.
fn at<'v>(record: &'v Value, name: &str) -> &'v Value {
    let steps = typhos_core::records::steps(name).unwrap();
    steps.iter().fold(record, |value, step| match step {
        typhos_core::records::Step::Member(name) => value.get(name).unwrap_or(&Value::Null),
        typhos_core::records::Step::Items => panic!("no column is inside of a list"),
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn documents_come_back_as_they_were(
        records in proptest::collection::vec(document(), 1..8),
        objects in prop_oneof![Just(Objects::Flat), Just(Objects::Keep)],
        is_arrow: bool,
    ) {
        let text: String = records.iter().map(|record| format!("{record}\n")).collect();
        let run = RunOptions::default();
        let mut input = input_of(&text);
        learn(&mut input, &[], &run, &NoMonitor).unwrap();
        prop_assume!(!input.names().is_empty());
        let survey = Survey::take(&input, &SurveyOptions::default(), &run, &NoMonitor).unwrap();
        let rules = Rules { strings: Strings::Text, ..Rules::default() };
        let decisions = decide(&survey, &rules);
        let wanted = DraftOptions { objects, table: "t".into(), ..DraftOptions::default() };
        let drafted = draft(&survey, &decisions, &wanted).to_toml();
        let schema = read(&drafted).unwrap_or_else(|wrong| panic!("{drafted}\n{wrong:?}"));

        let mut input = input_of(&text);
        learn(&mut input, &schema.source_names(), &run, &NoMonitor).unwrap();
        let plan = Plan::new(schema, &input).unwrap_or_else(|wrong| panic!("{drafted}\n{wrong:?}"));
        prop_assert_eq!(plan.undeclared(), &[] as &[String], "{}\n{}", drafted, text);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(if is_arrow { "t.arrow" } else { "t.parquet" });
        let address = Address { into: path.to_str().unwrap(), table: "t", ..Address::default() };
        let into = typhos_files::destination(&address).unwrap();
        let options = LoadOptions::new(folder.path().join("rejects.ndjson"));
        let report = load(&input, &plan, &*into, &options, &NoMonitor);
        let report = report.unwrap_or_else(|error| panic!("{drafted}\n{text}\n{error}"));
        let is_proven = matches!(report.done.proof, Proof::Proven { .. });
        prop_assert!(is_proven);
        prop_assert_eq!(report.account.loaded, records.len() as u64);

        let rows = rows_of(&mut *open(&path, is_arrow));
        prop_assert_eq!(rows.len(), records.len());
        for (row, record) in rows.iter().zip(&records) {
            for (name, found) in row {
                let sent = at(record, name);
                prop_assert!(is_same(found, sent), "{}: {} is not {}\n{}", name, found, sent, drafted);
            }
        }
    }
}

fn open(path: &Path, is_arrow: bool) -> Box<dyn Table> {
    match is_arrow {
        true => Box::new(ArrowTable::open(path).unwrap()),
        false => Box::new(ParquetTable::open(path).unwrap()),
    }
}
