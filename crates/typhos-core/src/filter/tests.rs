//! Questions asked of typed rows, and of the extremes of their pages.

use std::ops::Range;

use arrow_array::RecordBatch;
use proptest::prelude::*;

use super::*;
use crate::columns::{Converter, MisfitValue, OnMisfit, Plan, cell_text};
use crate::read_schema as read;
use crate::text::{Block, BlockReader, Dialect, Input};

const SCHEMA: &str = "typhos = 1\n[columns]\nn = { type = 'int16' }\nfare = { type = 'decimal(6,2)' }\n\
    x = { type = 'float32', rounding = 'half-even' }\nroute = { type = 'lowcard' }\n\
    cabin = { type = 'category', values = ['deck', 'saloon', 'cabin'], ranked = true }\n\
    port = { type = 'category', values = ['Sund', 'Holm'] }\non = { type = 'date', patterns = ['dd.MM.yy'] }\n\
    paid = { type = 'bool' }\nid = { type = 'uuid' }\n'the note' = { type = 'text' }\nat = { type = 'geopoint' }\n";

const TEXT: &str = "n,fare,x,route,cabin,port,on,paid,id,the note,at\n\
    1,10.00,0.1,Holm,deck,Sund,01.02.24,yes,6f9619ff-8b86-d011-b42d-00cf4fc964ff,it's,\"1,2\"\n\
    -2,7.25,2.5,Sund,saloon,Holm,31.12.23,no,,,\n\
    3,0.50,-inf,Ormsey,cabin,Holm,29.02.24,yes,00000000-0000-0000-0000-000000000000,b,\n\
    ,,,,,,,,,,\n";

fn rows_of(text: &str) -> (Plan, RecordBatch) {
    let input = Input::from_bytes("t.csv", text.as_bytes().to_vec(), &Dialect::RFC_4180.into());
    let plan = Plan::new(read(SCHEMA).unwrap(), &input).unwrap();
    let mut block = Block::default();
    BlockReader::new(&input, 1 << 20).next(&mut block).unwrap();
    let mut found = RecordBatch::new_empty(plan.arrow());
    let mut keep = |batch| {
        found = batch;
        Ok::<(), MisfitValue>(())
    };
    Converter::new(&plan, OnMisfit::AsDeclared).convert(&block, &mut keep).unwrap();
    (plan, found)
}

fn ask(question: &str) -> Result<Vec<usize>, String> {
    let (plan, batch) = rows_of(TEXT);
    let filter = Filter::parse(question, plan.schema(), &plan.arrow())
        .map_err(|error| format!("{:?} {}", &question[error.span], error.message))?;
    let matches = filter.matches(&batch);
    Ok((0..batch.num_rows()).filter(|row| matches[*row]).collect())
}

#[test]
fn comparisons_are_typed() {
    for (question, want) in [
        ("n = 1", &[0][..]),
        ("n != 1", &[1, 2]),
        ("n > -2 and n <= 3", &[0, 2]),
        ("not (n > -2 and n <= 3)", &[1]),
        ("n > 2.5", &[2]),
        ("n = 2.5", &[]),
        ("n < 1e30", &[0, 1, 2]),
        ("n not in (1, 3)", &[1]),
        ("fare = 7.250", &[1]),
        ("fare > 7.249", &[0, 1]),
        ("fare < 7.251", &[1, 2]),
        ("fare between 0.5 and 7.25", &[1, 2]),
        ("x = 0.1", &[0]),
        ("x < 0", &[2]),
        ("x <> 0.1", &[1, 2]),
        ("route = 'Holm' or route = 'Sund'", &[0, 1]),
        ("route >= 'Ormsey'", &[1, 2]),
        ("cabin > 'deck'", &[1, 2]),
        ("cabin <= 'saloon'", &[0, 1]),
        ("port < 'Ormsey'", &[1, 2]),
        ("on >= '2024-01-01'", &[0, 2]),
        ("paid = true", &[0, 2]),
        ("not paid = true", &[1]),
        ("id = '6F9619FF-8B86-D011-B42D-00CF4FC964FF'", &[0]),
        ("\"the note\" = 'it''s'", &[0]),
        ("\"the note\" IS ABSENT", &[1, 3]),
        ("n is not null and at is absent", &[1, 2]),
        ("n = 1 or n = 3 and cabin = 'deck'", &[0]),
    ] {
        assert_eq!(ask(question).as_deref(), Ok(want), "{question}");
    }
}

#[test]
fn questions_that_cannot_be_asked_say_where_and_why() {
    for (question, want) in [
        ("rout = 'Holm'", "\"rout\" there is no column 'rout'; did you mean 'route'?"),
        ("port = 'Hlom'", "did you mean 'Holm'?"),
        ("cabin > 'attic'", "\"'attic'\" 'attic' is not among the values of 'cabin'"),
        ("n = 'x'", "'x' is not a valid int16"),
        ("on = '01.02.24'", "is not a valid date; write one like 2024-03-01"),
        ("route = Holm", "texts and dates stand in single quotes: 'Holm'"),
        ("n = ", "a value is missing before the end"),
        ("n = 1 n = 2", "'and', 'or' or the end of the question is missing before 'n'"),
        ("n is 1", "'absent' is missing before '1'"),
        ("(n = 1", "')' is missing before the end"),
        ("route = 'Holm", "the quote ' is never closed"),
        ("at = '1,2'", "a column of type geopoint can be asked for with is absent alone"),
        ("id < '6F9619FF-8B86-D011-B42D-00CF4FC964FF'", "can be asked for with =, !=, in"),
        ("", "a column is missing before the end"),
        ("n ! 1", "for 'is not' write '!='"),
    ] {
        let error = ask(question).unwrap_err();
        assert!(error.contains(want), "{question}: {error}");
    }
    for (ty, value, want) in [
        ("date", "01.02.24", "write one like 2024-03-01"),
        ("time(s)", "8 am", "write one like 10:20:30"),
        ("timestamp(s)", "2024-03-01 10:20:30Z", "write one like 2024-03-01 10:20:30"),
        ("timestamp(ms, utc)", "2024-03-01 10:20:30", "write one like 2024-03-01 10:20:30Z"),
        ("duration(s)", "soon", "write one like 36:20:30"),
    ] {
        let error = moments(ty, value).unwrap_err();
        assert!(error.ends_with(want), "{ty}: {error}");
    }
    let deep = format!("{}n = 1", "not ".repeat(100_000));
    assert!(ask(&deep).unwrap_err().contains("nested more than 64 deep"));
}

/// Whether a column of this type, with values around one, can be asked for that one.
fn moments(ty: &str, value: &str) -> Result<(), String> {
    let schema = read(&format!("typhos = 1\n[columns]\nat = {{ type = '{ty}' }}\n")).unwrap();
    let input = Input::from_bytes("t.csv", b"at\n\n".to_vec(), &Dialect::RFC_4180.into());
    let plan = Plan::new(schema, &input).unwrap();
    let question = format!("at >= '{value}'");
    let filter = Filter::parse(&question, plan.schema(), &plan.arrow());
    filter.map(|_| ()).map_err(|error| error.message)
}

#[test]
fn moments_are_asked_for_as_they_are_shown_and_as_iso_8601_has_them() {
    for (ty, values) in [
        ("date", &["2024-03-01"][..]),
        ("time(ms)", &["10:20:30.125", "10:20:30", "10:20"]),
        (
            "timestamp(us)",
            &[
                "2024-03-01 10:20:30.000125",
                "2024-03-01T10:20:30.5",
                "2024-03-01 10:20",
                "2024-03-01",
            ],
        ),
        (
            "timestamp(us, utc)",
            &[
                "2024-03-01 10:20:30.000125Z",
                "2024-03-01T10:20:30Z",
                "2024-03-01 10:20:30+01:00",
                "2024-03-01T10:20:30+01",
                "2024-03-01T10:20:30.5+0100",
                "2024-03-01 10:20Z",
                "2024-03-01",
            ],
        ),
        ("duration(s)", &["36:20:30", "-0:00:01", "PT36H"]),
    ] {
        for value in values {
            assert_eq!(moments(ty, value), Ok(()), "{ty} {value}");
        }
    }
}

/// The pages of a column, of so many rows each, with their extremes.
fn pages(filter_schema: &Plan, batch: &RecordBatch, column: usize, rows: usize) -> Vec<Page> {
    let number = |text: &str| text.replace(['.', '-'], "").parse::<i128>().unwrap();
    let signed = |text: &str| if text.starts_with('-') { -number(text) } else { number(text) };
    let starts = (0..batch.num_rows()).step_by(rows);
    let page = |start: usize| {
        let range: Range<usize> = start..(start + rows).min(batch.num_rows());
        let cells: Vec<String> =
            range.clone().filter_map(|row| cell_text(batch.column(column), row)).collect();
        let extremes = match filter_schema.schema().columns[column].name.as_str() {
            "n" | "fare" => cells
                .iter()
                .map(|text| signed(text))
                .fold(None, |known: Option<(i128, i128)>, v| {
                    Some(known.map_or((v, v), |(low, high)| (low.min(v), high.max(v))))
                })
                .map(|(low, high)| Extremes::Ints(low, high)),
            _ => cells.iter().min().zip(cells.iter().max()).map(|(low, high)| {
                Extremes::Bytes(low.clone().into_bytes(), high.clone().into_bytes())
            }),
        };
        let absent = Some((range.len() - cells.len()) as u64);
        Page { rows: range.start as u64..range.end as u64, extremes, absent }
    };
    starts.map(page).collect()
}

fn question() -> impl Strategy<Value = String> {
    let op = prop_oneof![Just("="), Just("!="), Just("<"), Just("<="), Just(">"), Just(">=")];
    let test = prop_oneof![
        (op.clone(), -3i8..4).prop_map(|(op, n)| format!("n {op} {n}")),
        (op.clone(), 0u8..30).prop_map(|(op, n)| format!("fare {op} 0.{n:02}5")),
        (op.clone(), "[A-C]").prop_map(|(op, word)| format!("route {op} '{word}'")),
        (op, prop_oneof![Just("deck"), Just("cabin")])
            .prop_map(|(op, word)| format!("cabin {op} '{word}'")),
        Just("n is absent".to_owned()),
        Just("cabin is not absent".to_owned()),
        Just("n not in (0, 2)".to_owned()),
    ];
    test.prop_recursive(3, 8, 2, |part| {
        prop_oneof![
            part.clone().prop_map(|part| format!("not ({part})")),
            (part.clone(), part.clone()).prop_map(|(a, b)| format!("({a}) and ({b})")),
            (part.clone(), part).prop_map(|(a, b)| format!("({a}) or ({b})")),
        ]
    })
}

proptest! {
    /// The laws: a row that is meant is a candidate; and of a comparison, its negation and "is absent"
    /// exactly one holds.
    #[test]
    fn no_row_that_is_meant_is_skipped(
        picks in proptest::collection::vec((proptest::option::of(-3i8..4), 0u8..40, "[A-C]?", 0usize..4), 1..60),
        question in question(), rows in 1usize..20,
    ) {
        let cabins = ["deck", "saloon", "cabin", ""];
        let lines: String = picks
            .iter()
            .map(|(n, cents, route, cabin)| {
                let n = n.map_or(String::new(), |n| n.to_string());
                format!("{n},0.{cents:02},1,{route},{},Sund,01.02.24,yes,,,\n", cabins[*cabin])
            })
            .collect();
        let (header, _) = TEXT.split_once('\n').unwrap();
        let (plan, batch) = rows_of(&format!("{header}\n{lines}"));
        let parse = |question: &str| Filter::parse(question, plan.schema(), &plan.arrow()).unwrap();
        let filter = parse(&question);
        let matches = filter.matches(&batch);
        let all = batch.num_rows() as u64;
        let candidates = filter.candidates(all, &|column| pages(&plan, &batch, column, rows));
        for (row, is_meant) in matches.iter().enumerate() {
            let is_candidate = candidates.iter().any(|range| range.contains(&(row as u64)));
            prop_assert!(!is_meant || is_candidate, "row {} of {:?}", row, candidates);
        }
        for pair in candidates.windows(2) {
            prop_assert!(pair[0].end < pair[1].start);
        }
        if let [column] = filter.columns()[..]
            && !question.contains("absent")
        {
            let name = &plan.schema().columns[column].name;
            let not = parse(&format!("not ({question})")).matches(&batch);
            let absent = parse(&format!("{name} is absent")).matches(&batch);
            for row in 0..matches.len() {
                let count = [matches[row], not[row], absent[row]].into_iter().filter(|is| *is).count();
                prop_assert_eq!(count, 1, "row {}", row);
            }
        }
    }
}

#[test]
fn others_are_asked_for_no_less_than_is_meant() {
    let (plan, _) = rows_of(TEXT);
    let asked = |question: &str| {
        let filter = Filter::parse(question, plan.schema(), &plan.arrow()).unwrap();
        filter.superset(&plan.arrow(), &|column| column != 7)
    };
    let within = |column, ends: &[(Option<&str>, Option<&str>)]| {
        let text = |end: Option<&str>| end.map(str::to_owned);
        Superset::Within(column, ends.iter().map(|(low, high)| (text(*low), text(*high))).collect())
    };
    let one_of = |column, texts: &[&str]| {
        Superset::OneOf(column, texts.iter().map(|text| text.to_string()).collect())
    };
    assert_eq!(asked("n > 2.5"), within(0, &[(Some("3"), None)]));
    let least = within(1, &[(Some("1.00"), None)]);
    let most = within(1, &[(None, Some("2.50"))]);
    assert_eq!(asked("fare between 1 and 2.5"), Superset::All(vec![least, most]));
    assert_eq!(asked("x <= 0.5"), within(2, &[(None, Some("0.5"))]));
    assert_eq!(asked("route in ('Holm', 'it''s')"), one_of(3, &["Holm", "it's"]));
    // By rank, which a database need not have.
    assert_eq!(asked("cabin >= 'saloon'"), one_of(4, &["saloon", "cabin"]));
    assert_eq!(
        asked("\"on\" = '2024-02-29'"),
        within(6, &[(Some("2024-02-29"), Some("2024-02-29"))])
    );
    assert_eq!(asked("n is absent"), Superset::Absent(0));
    // Texts may be in another order there, and the same in other cases.
    for question in ["route > 'Holm'", "route != 'Holm'", "route is not absent"] {
        assert_eq!(asked(question), Superset::Present(3), "{question}");
    }
    assert_eq!(asked("month(\"on\") = 2"), Superset::Present(6));
    assert_eq!(
        asked("year(\"on\") = 2024"),
        within(6, &[(Some("2024-01-01"), Some("2024-12-31"))])
    );
    let others = [(None, Some("2022-12-31")), (Some("2025-01-01"), None)];
    assert_eq!(asked("year(\"on\") not in (2023, 2024)"), within(6, &others));
    // Of a column that nobody may be asked about nothing is said, nor where one of two would do.
    assert_eq!(asked("paid = true and n = 1"), within(0, &[(Some("1"), Some("1"))]));
    assert_eq!(asked("paid = true or n = 1"), Superset::Anything);
    let both = vec![one_of(3, &["Holm"]), Superset::Absent(0)];
    assert_eq!(asked("route = 'Holm' and n is absent"), Superset::All(both.clone()));
    assert_eq!(asked("route = 'Holm' or n is absent"), Superset::Any(both));
}

proptest! {
    /// A question about years is answered as the calendar has them, whatever it is made into.
    #[test]
    fn years_are_those_of_the_calendar(
        days in proptest::collection::vec(proptest::option::of(-900_000i32..900_000), 1..20),
        year in -700i32..4500, width in 0i32..9, form in 0usize..6, of_instants in any::<bool>(),
    ) {
        let ty = if of_instants { "timestamp(ms)" } else { "date" };
        let schema = read(&format!("typhos = 1\n[columns]\nx = {{ type = '{ty}' }}\n")).unwrap();
        let arrow_type = schema.columns[0].scalar().arrow(0);
        let arrow = ArrowSchema::new(vec![arrow_schema::Field::new("x", arrow_type.clone(), true)]);
        let (question, meant): (String, Box<dyn Fn(i32) -> bool>) = match form {
            0 => (format!("year(x) = {year}"), Box::new(move |y| y == year)),
            1 => (format!("year(x) != {year}"), Box::new(move |y| y != year)),
            2 => (format!("year(x) < {year}"), Box::new(move |y| y < year)),
            3 => (format!("not year(x) <= {year}"), Box::new(move |y| y > year)),
            4 => (format!("year(x) between {year} and {}", year + width), Box::new(move |y| (year..=year + width).contains(&y))),
            _ => {
                // Below zero that is less than the year.
                let half = format!("{year}.5");
                let above: f64 = half.parse().unwrap();
                (format!("year(x) > {half}"), Box::new(move |y| f64::from(y) > above))
            }
        };
        let filter = Filter::parse(&question, &schema, &arrow).unwrap();
        // The last millisecond of the day, where it has any.
        let units = |day: i32| match of_instants {
            true => i128::from(day) * 86_400_000 + 86_399_999,
            false => day.into(),
        };
        let values = days.iter().map(|day| day.map(units));
        let array = crate::columns::whole::whole_array(&arrow_type, values);
        let batch = RecordBatch::try_new(std::sync::Arc::new(arrow), vec![array]).unwrap();
        let want: Vec<bool> = days
            .iter()
            .map(|day| day.is_some_and(|day| meant(crate::dates::civil_from_days(day).0)))
            .collect();
        prop_assert_eq!(filter.matches(&batch), want, "{}", question);
    }
}
