//! JSON lines against an independent reader.

use std::collections::BTreeMap;
use std::num::NonZeroUsize;

use proptest::prelude::*;
use serde_json::{Map, Value};

use super::learn;
use super::learn::learn_some;
use super::walk::{Listen, Name, Span, Walk};
use crate::records::{Holds, JsonFault, PathKind, Step, path_of};
use crate::run::{NoMonitor, RunOptions};
use crate::survey::{Survey, SurveyOptions};
use crate::text::{Input, InputChoice, InputFormat, WithoutElements};

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
    ];
    let object = |values: proptest::collection::BTreeMapStrategy<
        &'static str,
        BoxedStrategy<Value>,
    >| { values.prop_map(|values| Value::Object(values.into_iter().collect())) };
    let value = leaf.boxed().prop_recursive(3, 12, 4, move |inner| {
        prop_oneof![
            object(proptest::collection::btree_map("[a-c]|x[.]y", inner.clone(), 0..4)),
            proptest::collection::vec(inner, 0..4).prop_map(Value::from),
        ]
        .boxed()
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

/// What an independent reader finds at a path that is a column.
#[derive(Debug, Default)]
struct Expected {
    /// How often each value is there.
    values: BTreeMap<String, u64>,
    /// How many are null.
    nulls: u64,
    /// How many there may be: one for each record, or for each element of a list.
    places: u64,
}

/// The paths that are columns, by an independent reader.
fn expected(records: &[Value]) -> BTreeMap<Vec<Step>, Expected> {
    type Found = Vec<(Vec<Step>, Option<Value>)>;
    fn visit(value: &Value, path: &mut Vec<Step>, found: &mut Found) {
        found.push((path.clone(), Some(value.clone())));
        match value {
            Value::Object(members) => {
                for (name, value) in members {
                    path.push(Step::Member(name.clone()));
                    visit(value, path, found);
                    path.pop();
                }
            }
            Value::Array(items) => {
                path.push(Step::Items);
                // Where there may be elements is a path even if there are none.
                found.push((path.clone(), None));
                items.iter().for_each(|item| visit(item, path, found));
                path.pop();
            }
            _ => {}
        }
    }
    let mut found = Found::new();
    records.iter().for_each(|record| visit(record, &mut Vec::new(), &mut found));
    let at = |path: &[Step]| -> Vec<&Value> {
        let here = found.iter().filter(|(known, _)| known == path);
        here.filter_map(|(_, value)| value.as_ref()).filter(|value| !value.is_null()).collect()
    };
    let has_below = |path: &[Step]| {
        found.iter().any(|(known, _)| known.len() == path.len() + 1 && known.starts_with(path))
    };
    // What has values that do not nest, or that nest in two ways, or that have nothing in them.
    let ends = |path: &[Step]| {
        let values = at(path);
        let (objects, arrays): (Vec<&Value>, Vec<&Value>) = (
            values.iter().filter(|v| v.is_object()).copied().collect(),
            values.iter().filter(|v| v.is_array()).copied().collect(),
        );
        values.len() > objects.len() + arrays.len()
            || !objects.is_empty() && !arrays.is_empty()
            || !has_below(path)
    };
    let mut columns: BTreeMap<Vec<Step>, Expected> = BTreeMap::new();
    for (path, value) in found.iter().filter(|(path, _)| !path.is_empty()) {
        if !ends(path) || (1..path.len()).any(|above| ends(&path[..above])) {
            continue;
        }
        let column = columns.entry(path.clone()).or_default();
        match value {
            None => {}
            Some(Value::Null) => column.nulls += 1,
            Some(Value::String(text)) => *column.values.entry(text.clone()).or_default() += 1,
            Some(other) => *column.values.entry(other.to_string()).or_default() += 1,
        }
        let scope = path.iter().rposition(|step| *step == Step::Items);
        column.places = match scope {
            None => records.len() as u64,
            Some(last) if last + 1 == path.len() => {
                let here = found.iter().filter(|(known, value)| known == path && value.is_some());
                here.count() as u64
            }
            // Of an element that is no object nothing is asked.
            Some(last) => at(&path[..=last]).len() as u64,
        };
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
        let mut names: Vec<String> = want.keys().map(|path| path_of(path)).collect();
        let mut found = input.names().to_vec();
        names.sort();
        found.sort();
        prop_assert_eq!(&found, &names, "{}", text);
        for (path, want) in &want {
            let name = path_of(path);
            let at = input.names().iter().position(|known| *known == name).unwrap();
            let column = &survey.columns[at];
            let found = column.distinct_values().into_iter();
            let found: BTreeMap<String, u64> =
                found.map(|found| (String::from_utf8(found.value.to_vec()).unwrap(), found.count)).collect();
            prop_assert_eq!(&found, &want.values, "{} in {}", name, text);
            let kinds = column.kinds().unwrap();
            prop_assert_eq!(kinds.of(PathKind::Null).0, want.nulls, "{} in {}", name, text);
            prop_assert_eq!(kinds.count() - want.nulls, want.values.values().sum::<u64>(), "{}", name);
            prop_assert_eq!(survey.records_of(at), want.places, "{} in {}", name, text);
        }
    }

    /// Texts are counted, and the first distinct ones are examples, in whatever blocks they come.
    #[test]
    fn texts_are_told_from_numbers(
        values in proptest::collection::vec((0usize..2, 0usize..8), 1..60), block_bytes in 1usize..120, threads in 1usize..3,
    ) {
        let written = ["\"a\"", "7", "\"b\"", "null", "\" \"", "\"\"", "\"\\\"q\"", "\"7\""];
        // Mostly the first few, so that all distinct values are known at times.
        let values: Vec<&str> = values.iter().map(|(few, any)| written[any * few + any % 3 * (1 - few)]).collect();
        let text: String = values.iter().map(|value| format!("{{\"a\":{value}}}\n")).collect();
        let mut input = input_of(&text);
        let run = run(threads, block_bytes);
        learn(&mut input, &[], &run, &NoMonitor).unwrap();
        let survey = Survey::take(&input, &SurveyOptions::default(), &run, &NoMonitor).unwrap();
        let texts = || values.iter().zip(1u64..).filter(|(value, _)| value.starts_with('"'));
        let mut examples: Vec<(u64, String)> = Vec::new();
        for (value, line) in texts() {
            let text: String = serde_json::from_str(value).unwrap();
            if examples.iter().all(|(_, known)| *known != text) {
                examples.push((line, text));
            }
        }
        examples.truncate(crate::survey::MAX_EXAMPLES);
        let found = survey.columns[0].quoted();
        prop_assert_eq!(found.count, texts().count() as u64);
        let found: Vec<_> = found.examples.iter().map(|one| (one.place.line, one.text())).collect();
        prop_assert_eq!(found, examples);
    }

    /// Whatever the first records show, and wherever others are, the survey is that under the paths of all of them.
    #[test]
    fn first_records_make_the_survey_of_all(
        records in proptest::collection::vec((object(), 0u8..20), 1..14), block_bytes in 1usize..200,
        threads in 1usize..4, firsts in 0usize..400, wants: bool,
    ) {
        let lines = records.iter().map(|(record, die)| match die {
            0 => format!("{}\n", &record.to_string()[1..]),
            1 => "{\"a\":1,\"a\":{\"b\":[[]]}}\n".to_owned(),
            _ => format!("{record}\n"),
        });
        let text: String = lines.collect();
        let wanted: Vec<String> = wants.then(|| "a".to_owned()).into_iter().collect();
        let run = run(threads, block_bytes);
        let options = SurveyOptions::default();
        let (mut whole, mut firsts_of) = (input_of(&text), input_of(&text));
        learn(&mut whole, &wanted, &run, &NoMonitor).unwrap();
        let want = Survey::take(&whole, &options, &run, &NoMonitor).unwrap();
        learn_some(&mut firsts_of, &wanted, Holds::All, firsts, &run, &NoMonitor).unwrap();
        let found = Survey::take_confirmed(&mut firsts_of, &wanted, &options, &run, &NoMonitor).unwrap();
        prop_assert_eq!(firsts_of.names(), whole.names(), "{}", text);
        let saved = |survey: &Survey| {
            let mut file = Vec::new();
            survey.save(&mut file).unwrap();
            file
        };
        prop_assert!(saved(&found) == saved(&want), "{text}: {found:?} for {want:?}");
    }

    /// A row of each element, with what its record has beside it: as an independent reader makes them.
    #[test]
    fn elements_are_rows_of_an_independent_reader(
        records in proptest::collection::vec(
            (0u8..4, proptest::option::of(proptest::collection::vec(
                proptest::option::of((proptest::option::of(0u8..9), proptest::option::of("[a-c]"))), 0..4,
            )), proptest::collection::vec(0u8..3, 0..3), any::<bool>()),
            1..10,
        ),
        block_bytes in 1usize..300, threads in 1usize..4, drops: bool,
    ) {
        let (mut text, mut rows, mut broken) = (String::new(), Vec::new(), 0);
        for (id, list, others, is_broken) in &records {
            let list = list.as_ref().map(|list| {
                list.iter().map(|element| match element {
                    None => Value::Null,
                    Some((n, t)) => {
                        let mut members = Map::new();
                        members.extend(n.map(|n| ("n".to_owned(), Value::from(n))));
                        members.extend(t.as_ref().map(|t| ("t".to_owned(), Value::from(t.as_str()))));
                        Value::from(members)
                    }
                }).collect::<Vec<_>>()
            });
            let record = serde_json::json!({ "id": id, "r": list, "o": others });
            if *is_broken && *id == 0 {
                text += &format!("{}\n", record.to_string().replace("\"id\"", "\"o\":1,\"id\""));
                broken += 1;
                continue;
            }
            text += &format!("{record}\n");
            let elements = list.unwrap_or_default();
            let of = |element: &Value, name: &str| element.get(name).map(|v| v.as_str().map_or(v.to_string(), str::to_owned));
            let is_without = elements.is_empty();
            rows.extend(elements.iter().map(|element| (*id, of(element, "n"), of(element, "t"))));
            if is_without && !drops {
                rows.push((*id, None, None));
            }
        }
        let has_list = records.iter().any(|(id, list, _, is_broken)| !(*is_broken && *id == 0) && list.is_some());
        prop_assume!(has_list);
        let without_elements = drops.then_some(WithoutElements::Drop);
        let choice = InputChoice {
            format: Some(InputFormat::Json), unnest: Some("r".into()), without_elements, ..InputChoice::default()
        };
        let mut input = Input::from_bytes("t.ndjson", text.clone().into_bytes(), &choice);
        let run = run(threads, block_bytes);
        learn(&mut input, &[], &run, &NoMonitor).unwrap();
        let survey = Survey::take(&input, &SurveyOptions::default(), &run, &NoMonitor).unwrap();
        prop_assert_eq!((survey.records, survey.broken), (rows.len() as u64, broken), "{}", text);
        type Rows = [(u8, Option<String>, Option<String>)];
        let check = |name: &str, of: &dyn Fn(&Rows) -> Vec<String>| {
            let Some(at) = input.names().iter().position(|known| known == name) else {
                prop_assert!(of(&rows).is_empty(), "{}", name);
                return Ok(());
            };
            let mut want: BTreeMap<String, u64> = BTreeMap::new();
            of(&rows).into_iter().for_each(|value| *want.entry(value).or_default() += 1);
            let found = survey.columns[at].distinct_values().into_iter();
            let found: BTreeMap<String, u64> =
                found.map(|found| (String::from_utf8(found.value.to_vec()).unwrap(), found.count)).collect();
            prop_assert_eq!(found, want, "{} in {}", name, &text);
            prop_assert_eq!(survey.records_of(at), rows.len() as u64);
            Ok(())
        };
        check("id", &|rows| rows.iter().map(|row| row.0.to_string()).collect())?;
        check("r[].n", &|rows| rows.iter().filter_map(|row| row.1.clone()).collect())?;
        check("r[].t", &|rows| rows.iter().filter_map(|row| row.2.clone()).collect())?;
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
            fn member(&mut self, _: Name, _: PathKind) -> Result<bool, Box<JsonFault>> {
                Ok(true)
            }
            fn value(&mut self, _: Span) {}
            fn leave(&mut self) {}
        }
        let walked = Walk::new(text.as_bytes()).record(&mut Nobody);
        let is_sound = serde_json::from_str::<serde::de::IgnoredAny>(&text).is_ok();
        let is_object = is_sound && text.trim_start().starts_with('{');
        // The independent reader does not look at surrogates where it ignores a text.
        let is_surrogate = walked.as_ref().is_err_and(|fault| matches!(**fault, JsonFault::Surrogate { .. }));
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
    assert_eq!(survey.broken_examples[0].reason(), "has a name twice in one object, at byte 8");
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
fn names_are_in_the_order_of_sound_records() {
    let text = "{\"z\":1,\"y\":[1],\"a\":{\"b\":1}\n{\"a\":{\"c\":1,\"b\":2},\"z\":3}\n{\"y\":[2],\"x\":\"q\",\"z\":4}\n";
    for block_bytes in [1, 1 << 10] {
        for threads in [1, 3] {
            let mut input = input_of(text);
            learn(&mut input, &[], &run(threads, block_bytes), &NoMonitor).unwrap();
            assert_eq!(input.names(), ["a.c", "a.b", "z", "y[]", "x"]);
        }
    }
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

#[test]
fn records_of_more_values_than_are_followed_are_read_like_others() {
    let list = |length: u64| {
        let elements: Vec<String> = (0..length).map(|n| format!("{{\"n\":{n}}}")).collect();
        format!("{{\"a\":[{}],\"b\":{length}}}\n", elements.join(","))
    };
    let lengths = [3, 5_000, 2, 3_000, 0, 4_000, 1];
    let text: String = lengths.iter().map(|length| list(*length)).collect();
    let mut input = input_of(&text);
    learn(&mut input, &[], &RunOptions::default(), &NoMonitor).unwrap();
    assert_eq!(input.names(), ["a[].n", "b"]);
    let options = SurveyOptions::default();
    let survey = Survey::take(&input, &options, &run(1, 1 << 20), &NoMonitor).unwrap();
    assert_eq!((survey.records, survey.broken), (7, 0));
    assert_eq!(survey.records_of(0), lengths.iter().sum::<u64>());
    assert_eq!(survey.columns[0].distinct().count, 5_000);
    assert_eq!(survey.columns[1].distinct().count, 7);
}

/// As many names are learned on the way as were asked for, wherever they are.
#[test]
fn names_that_come_late_have_the_limit_that_was_said() {
    let members: Vec<String> = (0..10_500).map(|id| format!("\"n{id}\":{id}")).collect();
    let text = format!("{{\"a\":1}}\n{{{}}}\n{{\"a\":2,\"last\":1}}\n", members.join(","));
    for (limit, names) in [(20_000, Some(10_502)), (10_000, None)] {
        let choice = InputChoice {
            format: Some(InputFormat::Json),
            field_limit: Some(limit),
            ..InputChoice::default()
        };
        let mut input = Input::from_bytes("t.ndjson", text.clone().into_bytes(), &choice);
        let (run, options) = (run(1, 1), SurveyOptions::default());
        learn_some(&mut input, &[], Holds::All, 1, &run, &NoMonitor).unwrap();
        let survey = Survey::take_confirmed(&mut input, &[], &options, &run, &NoMonitor);
        assert_eq!(survey.ok().map(|survey| survey.columns.len()), names, "{limit}");
    }
}
