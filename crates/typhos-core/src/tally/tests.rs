//! Groups against the plainest way there is, over random rows; and what is refused.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;

use arrow_array::RecordBatch;
use proptest::prelude::*;

use super::*;
use crate::columns::{Plan, cell_text};
use crate::filter::Filter;
use crate::spilling::testing::Memory;
use crate::table::{InputTable, Selection, Table};
use crate::text::{Dialect, Input, InputChoice};

const SCHEMA: &str = "typhos = 1\n[columns]\ncabin = { type = \"category\", values = [\"deck\", \"berth\", \"saloon\"], ranked = true }\non = { type = \"date\", patterns = [\"yyyy-MM-dd\"] }\nfare = { type = \"decimal(8,2)\" }\nlevel = { type = \"float64\" }\nnote = { type = \"text\" }\nroute = { type = \"lowcard\" }\nid = { type = \"uint64\" }\n";

/// A row as the test knows it.
#[derive(Debug, Clone)]
struct Row {
    cabin: Option<usize>,
    day: Option<i32>,
    cents: Option<i64>,
    level: Option<f64>,
    note: Option<String>,
}

fn row() -> impl Strategy<Value = Row> {
    use proptest::option::of;
    (
        of(0usize..3),
        of(-800i32..20_000),
        of(-500_000i64..500_000),
        of(prop_oneof![Just(0.1), Just(1e16), Just(-1e16), -9.0f64..9.0]),
        of("[a-c]{1,2}"),
    )
        .prop_map(|(cabin, day, cents, level, note)| Row { cabin, day, cents, level, note })
}

fn batches(rows: &[Row]) -> (Plan, Vec<RecordBatch>) {
    let mut text = "cabin,on,fare,level,note,route,id\n".to_owned();
    for (at, row) in rows.iter().enumerate() {
        let day = row.day.map(crate::dates::format_days);
        let fare = row.cents.map(|cents| {
            let sign = if cents < 0 { "-" } else { "" };
            format!("{sign}{}.{:02}", cents.abs() / 100, cents.abs() % 100)
        });
        let cells = [
            row.cabin.map(|cabin| ["deck", "berth", "saloon"][cabin].to_owned()),
            day,
            fare,
            row.level.map(|level| level.to_string()),
            row.note.clone(),
            row.note.clone(),
            Some((u64::MAX - at as u64).to_string()),
        ];
        let cells: Vec<_> = cells.into_iter().map(Option::unwrap_or_default).collect();
        text.push_str(&cells.join(","));
        text.push('\n');
    }
    let choice = InputChoice::from(Dialect::RFC_4180);
    let input = Input::from_bytes("t.csv", text.into_bytes(), &choice);
    let plan = Plan::new(crate::read_schema(SCHEMA).unwrap(), &input).unwrap();
    let mut batches = Vec::new();
    let passed = InputTable::new(&input, &plan)
        .read(&Selection::default(), &mut |batch| {
            batches.push(batch);
            ControlFlow::Continue(())
        })
        .unwrap();
    assert_eq!(passed.misfits, 0);
    (plan, batches)
}

fn spec(by: &str, show: &str) -> Result<TallySpec, String> {
    let (plan, _) = batches(&[]);
    let spec = TallySpec::parse(by, show, plan.schema(), &plan.arrow());
    spec.map_err(|(_, error)| error.message)
}

/// Rows in batches of a few, over so many threads, with so much memory; the groups as texts.
fn tallied(
    rows: &[Row],
    by: &str,
    show: &str,
    threads: usize,
    memory: usize,
) -> Result<Vec<Vec<String>>, TallyError> {
    let (_, all) = batches(rows);
    let spec = spec(by, show).unwrap();
    let tally = Tally::new(spec.clone(), threads, memory, Arc::new(Memory::default()));
    let mut turn = 0;
    for batch in all {
        for at in (0..batch.num_rows()).step_by(7) {
            let few = batch.slice(at, 7.min(batch.num_rows() - at));
            tally.take(turn % threads, &few.project(spec.columns()).unwrap())?;
            turn += 1;
        }
    }
    let mut groups = tally.finish()?;
    assert_eq!(groups.rows(), rows.len() as u64);
    let mut found = Vec::new();
    while let Some(batch) = groups.next(5)? {
        assert_eq!(batch.schema(), spec.arrow());
        for row in 0..batch.num_rows() {
            let cells = batch.columns().iter();
            found.push(cells.map(|it| cell_text(it, row).unwrap_or_default()).collect());
        }
    }
    Ok(found)
}

/// What a group is known by, in the order that groups have: absent last.
type Key = (bool, i64, bool, String);

fn by_hand(rows: &[Row], key: impl Fn(&Row) -> Key) -> BTreeMap<Key, Vec<&Row>> {
    let mut groups: BTreeMap<Key, Vec<&Row>> = BTreeMap::new();
    for row in rows {
        groups.entry(key(row)).or_default().push(row);
    }
    groups
}

fn money(cents: i128) -> String {
    let sign = if cents < 0 { "-" } else { "" };
    format!("{sign}{}.{:02}", cents.abs() / 100, cents.abs() % 100)
}

fn number(value: f64) -> String {
    let array: ArrayRef = Arc::new(arrow_array::Float64Array::from(vec![value]));
    cell_text(&array, 0).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]
    /// The law: groups are those of the plainest way there is, whatever the threads, the batches and the memory.
    #[test]
    fn groups_are_what_they_are_by_hand(
        rows in proptest::collection::vec(row(), 0..90),
        threads in 1usize..4,
        memory in prop_oneof![Just(0usize), Just(5_000), Just(1 << 20)],
    ) {
        let show = "count, count(fare), sum(fare), min(fare), max(note), mean(level), sum(level) as levels, \
                    median(fare), quantile(level, 0.9), distinct(note), distinct(month(on)), max(cabin), min(on), share";
        let found = tallied(&rows, "cabin, year(on)", show, threads, memory).unwrap();
        let year = |day: i32| i64::from(crate::dates::civil_from_days(day).0);
        let key = |row: &Row| {
            let cabin = row.cabin.map_or(9, |cabin| cabin as i64);
            let on = row.day.map(year);
            (false, cabin, on.is_none(), on.map_or(String::new(), |year| year.to_string()))
        };
        let groups = by_hand(&rows, key);
        prop_assert_eq!(found.len(), groups.len());
        for (line, ((_, cabin, _, year), members)) in found.iter().zip(&groups) {
            let cabins = ["deck", "berth", "saloon"];
            let named = |cabin: usize| cabins.get(cabin).copied().unwrap_or_default();
            let mut cents: Vec<i64> = members.iter().filter_map(|row| row.cents).collect();
            cents.sort_unstable();
            let mut levels: Vec<f64> = members.iter().filter_map(|row| row.level).collect();
            levels.sort_by(f64::total_cmp);
            let sum = {
                let mut sum = exact_sum::ExactSum::default();
                levels.iter().for_each(|level| sum.add(*level));
                sum.value()
            };
            let notes: BTreeSet<&String> = members.iter().filter_map(|row| row.note.as_ref()).collect();
            let months: BTreeSet<u32> = members
                .iter()
                .filter_map(|row| row.day.map(|day| crate::dates::civil_from_days(day).1))
                .collect();
            let median = match cents.len() {
                0 => String::new(),
                n => number(f64::midpoint(cents[(n - 1) / 2] as f64 / 100.0, cents[n / 2] as f64 / 100.0)),
            };
            let quantile = match levels.len() {
                0 => String::new(),
                n => {
                    let place = (n - 1) as f64 * 0.9;
                    let (low, high) = (levels[place.floor() as usize], levels[place.ceil() as usize]);
                    number(if place.fract() == 0.0 { low } else { low + (high - low) * place.fract() })
                }
            };
            let some = |is: bool, text: String| if is { text } else { String::new() };
            let want = [
                named(*cabin as usize).to_owned(),
                year.clone(),
                members.len().to_string(),
                cents.len().to_string(),
                some(!cents.is_empty(), money(cents.iter().map(|c| i128::from(*c)).sum())),
                cents.first().map_or(String::new(), |cents| money((*cents).into())),
                notes.last().map_or(String::new(), ToString::to_string),
                some(!levels.is_empty(), number(sum / levels.len() as f64)),
                some(!levels.is_empty(), number(sum)),
                median,
                quantile,
                notes.len().to_string(),
                months.len().to_string(),
                named(*cabin as usize).to_owned(),
                members.iter().filter_map(|row| row.day).min().map_or(String::new(), crate::dates::format_days),
                number(members.len() as f64 / rows.len() as f64),
            ];
            for ((found, want), at) in line.iter().zip(&want).zip(0..) {
                // A median of decimals is rounded once from whole cents.
                let is_near = at == 9
                    && found.parse::<f64>().ok().zip(want.parse().ok()).is_some_and(|(a, b): (f64, f64)| (a - b).abs() < 1e-9);
                prop_assert!(found == want || is_near, "column {}: {} and not {} in {:?}", at, found, want, line);
            }
        }
    }

    /// Without anything to group by all rows are one group, and there is one of no rows too.
    #[test]
    fn all_rows_are_a_group(rows in proptest::collection::vec(row(), 0..40), threads in 1usize..3) {
        let found = tallied(&rows, "", "count, max(id), distinct(route), share(fare)", threads, 0).unwrap();
        let routes: BTreeSet<_> = rows.iter().filter_map(|row| row.note.as_ref()).collect();
        prop_assert_eq!(found.len(), 1);
        let most = if rows.is_empty() { String::new() } else { u64::MAX.to_string() };
        prop_assert_eq!(&found[0][..3], &[rows.len().to_string(), most, routes.len().to_string()]);
        let sum: i64 = rows.iter().filter_map(|row| row.cents).sum();
        prop_assert!(sum == 0 || found[0][3] == "1");
    }
}

#[test]
fn groups_of_every_type_come_back_as_they_were() {
    let row = Row {
        cabin: Some(2),
        day: Some(20_000),
        cents: Some(-1),
        level: Some(0.5),
        note: Some("ä".into()),
    };
    let empty = Row { cabin: None, day: None, cents: None, level: None, note: None };
    let rows = [row.clone(), empty, row];
    for memory in [0, 1 << 20] {
        let found =
            tallied(&rows, "cabin, on, fare, level, note, route as way", "count as n", 2, memory);
        assert_eq!(
            found.unwrap(),
            [
                ["saloon", "2024-10-04", "-0.01", "0.5", "ä", "ä", "2"],
                ["", "", "", "", "", "", "1"]
            ]
        );
    }
}

#[test]
fn sums_are_exact_or_said_to_be_too_large() {
    let rows =
        vec![
            Row { cabin: None, day: None, cents: None, level: Some(f64::INFINITY), note: None };
            3
        ];
    let found = tallied(&rows, "", "sum(id), mean(id), sum(level), mean(fare)", 1, 1 << 20);
    let all = 3 * u128::from(u64::MAX) - 3;
    assert_eq!(
        found.unwrap(),
        [[all.to_string(), number(u64::MAX as f64), number(f64::INFINITY), String::new()]]
    );
    let text = format!("n\n{0}\n{0}\n", "9".repeat(38));
    let schema = "typhos = 1\n[columns]\nn = { type = \"decimal(38,0)\" }\n";
    let choice = InputChoice::from(Dialect::RFC_4180);
    let input = Input::from_bytes("t.csv", text.into_bytes(), &choice);
    let plan = Plan::new(crate::read_schema(schema).unwrap(), &input).unwrap();
    let spec = TallySpec::parse("", "sum(n)", plan.schema(), &plan.arrow()).unwrap();
    let tally = Tally::new(spec, 1, 1 << 20, Arc::new(Memory::default()));
    InputTable::new(&input, &plan)
        .read(&Selection::default(), &mut |batch| {
            tally.take(0, &batch).unwrap();
            ControlFlow::Continue(())
        })
        .unwrap();
    let error = tally.finish().unwrap().next(9).unwrap_err();
    assert_eq!(error.to_string(), "sum(n): a sum has more than 38 digits");
}

#[test]
fn what_cannot_be_measured_is_said() {
    for (by, show, want) in [
        ("", "sum(note)", "sum is of numbers, and 'note' is of type text"),
        ("", "mean(on)", "mean is of numbers, and 'on' is of type date"),
        ("", "maen(fare)", "'maen' is not a measure; did you mean 'mean'?"),
        ("", "sum", "'sum' of which column? sum(COLUMN)"),
        ("", "fare", "'fare' is a column or nothing; what of it? Such as max(fare)"),
        ("", "quantile(fare)", "which one?"),
        ("", "quantile(fare, 2)", "which one?"),
        ("", "max(fare, 2)", "'max' is of a column alone"),
        ("", "count, count", "'count' stands there twice"),
        ("fare, fare", "count", "'fare' stands there twice"),
        ("fare cabin", "count", "',' is missing before 'cabin'"),
        ("fair", "count", "there is no column 'fair'; the columns are"),
        ("year(year(on))", "count", "'year' is of a column"),
        ("fare", "count as", "a name is missing behind 'as'"),
        ("fare", "max(year(month(on)))", "a column belongs here, and not a function of one"),
    ] {
        let error = spec(by, show).unwrap_err();
        assert!(error.starts_with(want), "{by} {show}: {error}");
    }
}

#[test]
fn questions_may_be_about_parts_of_dates() {
    let days = [Some(20_000), Some(20_100), None];
    let rows: Vec<Row> = days
        .iter()
        .map(|day| Row { cabin: None, day: *day, cents: None, level: None, note: None })
        .collect();
    let (plan, batches) = batches(&rows);
    for (question, want) in [
        ("year(on) = 2025", [false, true, false]),
        ("not year(on) = 2025", [true, false, false]),
        ("month(on) in (1, 10) and weekday(on) <= 'Sun'", [true, true, false]),
        ("weekday(on) = 'Sun'", [false, true, false]),
        ("year(on) is absent", [false, false, true]),
        ("bucket(id, 2) > 0", [true, true, true]),
    ] {
        let filter = Filter::parse(question, plan.schema(), &plan.arrow()).unwrap();
        assert_eq!(filter.matches(&batches[0]), want, "{question}");
        let candidates = filter.candidates(3, &|_| Vec::new());
        assert_eq!(candidates, vec![0..3; usize::from(!candidates.is_empty())], "{question}");
    }
    let error = Filter::parse("weekday(on) = 'Sunday'", plan.schema(), &plan.arrow()).unwrap_err();
    assert_eq!(error.message, "'Sunday' is not among the values of 'weekday(on)'");
}
