//! JSON lines against an independent reader.

use std::collections::BTreeMap;
use std::num::NonZeroUsize;

use proptest::prelude::*;
use serde_json::{Map, Value};

use super::learn;
use super::walk::{Listen, Name, Span, Walk};
use crate::records::{JsonFault, PathKind};
use crate::run::{NoMonitor, RunOptions};
use crate::survey::{Survey, SurveyOptions};
use crate::text::{Input, InputChoice, InputFormat};

/// An object with values of all kinds, nested a few levels deep.
fn object() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i64>().prop_map(Value::from),
        (-1e6..1e6f64).prop_map(Value::from),
        "[a-z0-9 é\"\\\\\n.:-]{1,8}"
            .prop_filter("not blank", |text| !text.trim().is_empty())
            .prop_map(Value::from),
        proptest::collection::vec(any::<i8>(), 0..3).prop_map(Value::from),
    ];
    let object = |values: proptest::collection::BTreeMapStrategy<
        &'static str,
        BoxedStrategy<Value>,
    >| { values.prop_map(|values| Value::Object(values.into_iter().collect())) };
    let value = leaf.boxed().prop_recursive(3, 12, 4, move |inner| {
        object(proptest::collection::btree_map("[a-c]|x[.]y", inner, 0..4)).boxed()
    });
    proptest::collection::btree_map("[a-e]", value, 0..5)
        .prop_map(|values| Value::Object(values.into_iter().collect::<Map<_, _>>()))
}

fn input_of(text: &str) -> Input {
    let choice = InputChoice { format: Some(InputFormat::Json), ..InputChoice::default() };
    Input::from_bytes("t.ndjson", text.as_bytes().to_vec(), &choice)
}

fn run(threads: usize, block_bytes: usize) -> RunOptions {
    RunOptions { threads: NonZeroUsize::new(threads).unwrap(), block_bytes }
}

/// For each path that is a column, how often each value is there, and how many are null; by an independent reader.
fn expected(records: &[Value]) -> BTreeMap<Vec<String>, (BTreeMap<String, u64>, u64)> {
    fn visit(value: &Value, path: &mut Vec<String>, found: &mut Vec<(Vec<String>, Value)>) {
        if !path.is_empty() {
            found.push((path.clone(), value.clone()));
        }
        if let Value::Object(members) = value {
            for (name, value) in members {
                path.push(name.clone());
                visit(value, path, found);
                path.pop();
            }
        }
    }
    let mut found = Vec::new();
    records.iter().for_each(|record| visit(record, &mut Vec::new(), &mut found));
    // A path is a column if it has a value that is no object, or nothing but empty objects and nulls.
    let is_plain = |path: &[String]| {
        found.iter().any(|(at, value)| at == path && !value.is_object() && !value.is_null())
    };
    let has_below = |path: &[String]| {
        found.iter().any(|(at, _)| at.len() == path.len() + 1 && at.starts_with(path))
    };
    let is_column = |path: &[String]| {
        (is_plain(path) || !has_below(path))
            && !(1..path.len()).any(|above| is_plain(&path[..above]))
    };
    let mut columns: BTreeMap<Vec<String>, (BTreeMap<String, u64>, u64)> = BTreeMap::new();
    for (path, value) in &found {
        if !is_column(path) {
            continue;
        }
        let (values, nulls) = columns.entry(path.clone()).or_default();
        match value {
            Value::Null => *nulls += 1,
            Value::String(text) => *values.entry(text.clone()).or_default() += 1,
            other => *values.entry(other.to_string()).or_default() += 1,
        }
    }
    columns
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Paths, counts and values are those that an independent reader finds, in any blocks and on any threads.
    #[test]
    fn paths_and_values_are_those_of_an_independent_reader(
        records in proptest::collection::vec(object(), 1..12), block_bytes in 1usize..300, threads in 1usize..4,
    ) {
        let text: String = records.iter().map(|record| format!("{record}\n")).collect();
        let mut input = input_of(&text);
        let run = run(threads, block_bytes);
        learn(&mut input, &[], &run, &NoMonitor).unwrap();
        let survey = Survey::take(&input, &SurveyOptions::default(), &run, &NoMonitor).unwrap();
        prop_assert_eq!((survey.records, survey.broken), (records.len() as u64, 0));
        let want = expected(&records);
        let mut names: Vec<String> = want
            .keys()
            .map(|path| path.iter().map(|name| if name.contains('.') { format!("{name:?}") } else { name.clone() }).collect::<Vec<_>>().join("."))
            .collect();
        let mut found = input.names().to_vec();
        names.sort();
        found.sort();
        prop_assert_eq!(&found, &names);
        for (path, (values, nulls)) in &want {
            let name = path.iter().map(|name| if name.contains('.') { format!("{name:?}") } else { name.clone() }).collect::<Vec<_>>().join(".");
            let at = input.names().iter().position(|known| *known == name).unwrap();
            let column = &survey.columns[at];
            let found = column.distinct_values().into_iter();
            let found: BTreeMap<String, u64> =
                found.map(|found| (String::from_utf8(found.value.to_vec()).unwrap(), found.count)).collect();
            prop_assert_eq!(&found, values, "{}", name);
            let kinds = column.kinds().unwrap();
            prop_assert_eq!(kinds.of(PathKind::Null).0, *nulls, "{}", name);
            prop_assert_eq!(kinds.count() - nulls, values.values().sum::<u64>(), "{}", name);
        }
    }

    /// A line is a record exactly where an independent reader takes it for an object without a name twice.
    #[test]
    fn what_is_refused_is_no_object(
        text in prop_oneof![
            "[{}\\[\\]\",:0-9a-u\\\\. -]{0,24}",
            object().prop_map(|value| value.to_string()),
            (object(), any::<prop::sample::Index>(), "[{}\\[\\]\",:0e+\\\\u-]").prop_map(|(value, at, letter)| {
                let mut text: Vec<char> = value.to_string().chars().collect();
                let at = at.index(text.len());
                text[at] = letter.chars().next().unwrap();
                text.into_iter().collect()
            }),
        ],
    ) {
        struct Nobody;
        impl Listen for Nobody {
            fn member(&mut self, _: Name, _: PathKind) -> Result<bool, JsonFault> {
                Ok(true)
            }
            fn value(&mut self, _: Span) {}
            fn leave(&mut self) {}
        }
        let walked = Walk::new(text.as_bytes()).record(&mut Nobody);
        let is_sound = serde_json::from_str::<serde::de::IgnoredAny>(&text).is_ok();
        let is_object = is_sound && text.trim_start().starts_with('{');
        // The independent reader does not look at surrogates where it ignores a text.
        let is_surrogate = matches!(walked, Err(JsonFault::Surrogate { .. }));
        prop_assert!(walked.is_ok() == is_object || is_surrogate, "{walked:?}: {text}");
    }
}

#[test]
fn depth_has_a_limit_and_costs_no_stack() {
    for (depth, is_sound) in [(100, true), (127, true), (129, false), (100_000, false)] {
        for (open, close) in [("{\"a\":", "}"), ("[", "]")] {
            let text = format!("{{\"a\":{}1{}}}\n", open.repeat(depth), close.repeat(depth));
            let mut input = input_of(&text);
            learn(&mut input, &[], &RunOptions::default(), &NoMonitor).unwrap();
            let survey =
                Survey::take(&input, &SurveyOptions::default(), &RunOptions::default(), &NoMonitor);
            assert_eq!(survey.unwrap().records, u64::from(is_sound), "{open} {depth}");
        }
    }
}

#[test]
fn names_may_be_escaped_and_stand_once() {
    let text = "{\"\\u0061\":1}\n{\"a\":2}\n{\"a\":1,\"\\u0061\":2}\n{\"b\":{\"c\":1,\"c\":2}}\n";
    let mut input = input_of(text);
    learn(&mut input, &[], &RunOptions::default(), &NoMonitor).unwrap();
    assert_eq!(input.names(), ["a"]);
    let survey =
        Survey::take(&input, &SurveyOptions::default(), &RunOptions::default(), &NoMonitor);
    let survey = survey.unwrap();
    assert_eq!((survey.records, survey.broken), (2, 2));
    assert_eq!(survey.broken_examples[0].reason, "has a name twice in one object, at byte 8");
}

#[test]
fn what_is_wanted_is_a_column() {
    let text = "{\"a\":{\"b\":1},\"c\":2}\n";
    let wanted = ["a".to_owned(), "late".to_owned(), "c.d".to_owned()];
    let mut input = input_of(text);
    learn(&mut input, &wanted, &RunOptions::default(), &NoMonitor).unwrap();
    // What would stand within the values of a column is not there for the asking.
    assert_eq!(input.names(), ["a", "c", "late"]);
}

#[test]
fn names_that_are_data_are_refused() {
    let text: String = (0..20_000).map(|id| format!("{{\"n{id}\":1}}\n")).collect();
    for threads in [1, 2] {
        let learned = learn(&mut input_of(&text), &[], &run(threads, 1 << 10), &NoMonitor);
        let told = learned.unwrap_err().to_string();
        assert!(told.starts_with("the records have more than 10000 different fields"), "{told}");
    }
}
