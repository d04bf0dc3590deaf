//! Facts and types against a slow, obvious oracle, on generated columns of every kind, with and without
//! misfits; and every boundary there is. Tests only.

use std::collections::BTreeSet;

use proptest::prelude::*;

use super::*;
use crate::run::{NoMonitor, RunOptions};
use crate::schema::IntType;
use crate::survey::{Survey, SurveyOptions};
use crate::text::{Dialect, Input};

fn decide_column(values: &[String]) -> Decision {
    // A second column keeps blank values from being blank lines.
    let rows: String = values.iter().map(|value| format!("\"{value}\",.\n")).collect();
    let text = format!("c,d\n{rows}");
    let input = Input::from_bytes("t.csv", text.into_bytes(), &Dialect::RFC_4180.into());
    let options = SurveyOptions::default();
    let survey = Survey::take(&input, &options, &RunOptions::default(), &NoMonitor).unwrap();
    decide(&survey, &Rules { headroom: 1.0, ..Rules::default() }).remove(0)
}

/// What a column should be found to be.
#[derive(Debug, Clone)]
struct Expected {
    values: Vec<String>,
    ty: Scalar,
    range: (String, String),
}

/// An exact number: its digits, and how many stand behind the mark.
fn written(mantissa: i128, scale: usize) -> String {
    let digits = format!("{:0>width$}", mantissa.unsigned_abs(), width = scale + 1);
    let (whole, fraction) = digits.split_at(digits.len() - scale);
    let sign = if mantissa < 0 { "-" } else { "" };
    if scale == 0 { format!("{sign}{whole}") } else { format!("{sign}{whole}.{fraction}") }
}

fn digits(number: i128) -> u8 {
    number.unsigned_abs().to_string().len() as u8
}

/// The narrowest type that holds all, by looking at each type in turn.
fn narrowest(numbers: &[i128]) -> Scalar {
    let (low, high) = (*numbers.iter().min().unwrap(), *numbers.iter().max().unwrap());
    let order = [
        IntType::UInt8,
        IntType::Int8,
        IntType::UInt16,
        IntType::Int16,
        IntType::UInt32,
        IntType::Int32,
        IntType::UInt64,
        IntType::Int64,
    ];
    let holds = |ty: &IntType| {
        let (least, most) = ty.range();
        numbers.iter().all(|number| (least..=most).contains(number)) && (low < 0 || least == 0)
    };
    match order.into_iter().find(holds) {
        Some(int) => Scalar::Int(int),
        None => Scalar::Decimal { precision: digits(low).max(digits(high)), scale: 0 },
    }
}

fn integers() -> impl Strategy<Value = Expected> {
    (proptest::collection::vec(any::<i128>(), 1..40), 0u32..126).prop_map(|(numbers, shift)| {
        // Below the digits that a decimal holds, and of any size.
        let numbers: Vec<i128> = numbers.iter().map(|n| (n >> shift) % 10i128.pow(37)).collect();
        let (low, high) = (*numbers.iter().min().unwrap(), *numbers.iter().max().unwrap());
        Expected {
            values: numbers.iter().map(i128::to_string).collect(),
            ty: narrowest(&numbers),
            range: (low.to_string(), high.to_string()),
        }
    })
}

fn decimals() -> impl Strategy<Value = Expected> {
    (proptest::collection::vec(any::<i64>(), 1..40), 0u32..50, 1usize..10).prop_map(
        |(numbers, shift, scale)| {
            let numbers: Vec<i128> = numbers.iter().map(|n| i128::from(n >> shift)).collect();
            let (low, high) = (*numbers.iter().min().unwrap(), *numbers.iter().max().unwrap());
            let precision = digits(low).max(digits(high)).max(scale as u8);
            Expected {
                values: numbers.iter().map(|n| written(*n, scale)).collect(),
                ty: Scalar::Decimal { precision, scale: scale as u8 },
                range: (written(low, scale), written(high, scale)),
            }
        },
    )
}

/// The same numbers in a house's own clothes: read exactly as the plain ones are.
fn clothed() -> impl Strategy<Value = Expected> {
    // Three digits behind a comma could be a group, and only a person knows.
    let is_clear = |plain: &Expected| !matches!(plain.ty, Scalar::Decimal { scale: 3, .. });
    let plain = decimals().prop_filter("three digits could be a group", is_clear);
    (plain, any::<bool>(), any::<bool>()).prop_map(|(plain, euro, first)| {
        let dress = |value: &String| {
            let (sign, digits) = match value.strip_prefix('-') {
                Some(digits) => ("-", digits),
                None => ("", value.as_str()),
            };
            let (whole, fraction) = digits.split_once('.').unwrap();
            let mut grouped = String::new();
            for (at, digit) in whole.chars().enumerate() {
                if at > 0 && (whole.len() - at).is_multiple_of(3) {
                    grouped.push(' ');
                }
                grouped.push(digit);
            }
            let number = format!("{sign}{grouped},{fraction}");
            match (euro, first) {
                (false, _) => number,
                (true, true) => format!("€ {number}"),
                (true, false) => format!("{number} €"),
            }
        };
        Expected { values: plain.values.iter().map(dress).collect(), ..plain }
    })
}

fn days() -> impl Strategy<Value = Expected> {
    proptest::collection::vec((1i32..3000, 1u32..13, 1u32..29), 1..30).prop_map(|days| {
        let iso = |(y, m, d): &(i32, u32, u32)| format!("{y:04}-{m:02}-{d:02}");
        let range = (iso(days.iter().min().unwrap()), iso(days.iter().max().unwrap()));
        Expected { values: days.iter().map(iso).collect(), ty: Scalar::Date, range }
    })
}

fn column() -> impl Strategy<Value = Expected> {
    prop_oneof![3 => integers(), 2 => decimals(), 2 => clothed(), 1 => days()]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn columns_are_what_the_oracle_says(
        expected in column(), blanks in 0usize..4, tokens in 0usize..4, repeats in 1usize..3,
    ) {
        let mut values: Vec<String> = Vec::new();
        for _ in 0..repeats {
            values.extend(expected.values.iter().cloned());
        }
        values.extend(std::iter::repeat_n(String::new(), blanks));
        values.extend(std::iter::repeat_n("n/a".to_owned(), tokens));
        let third = values.len() / 3;
        values.rotate_left(third);
        let found = decide_column(&values);
        prop_assert_eq!(found.ty, expected.ty, "{:?}", found);
        prop_assert_eq!(super::tests::range(&found).unwrap(), expected.range.clone(), "{:?}", found);
        prop_assert_eq!(found.absent, (blanks + tokens) as u64);
        let distinct: BTreeSet<_> = expected.values.iter().collect();
        prop_assert_eq!(found.distinct, DistinctCount { count: distinct.len() as u64, is_exact: true });
        prop_assert_eq!(found.required, blanks + tokens == 0);
        let longest = values.iter().map(|value| value.chars().count()).max().unwrap();
        prop_assert_eq!(found.max_chars, longest as u64);
    }

    /// One misfit makes the column text, and is named with its line; tolerated, it changes no type.
    #[test]
    fn a_misfit_is_named(expected in column(), at in 0usize..40) {
        let mut values: Vec<String> = Vec::new();
        while values.len() < 20 {
            values.extend(expected.values.iter().cloned());
        }
        let at = at % values.len();
        values.insert(at, "lost at sea".to_owned());
        let found = decide_column(&values);
        prop_assert!(found.ty.is_text(), "{:?}", found);
        let blocker = found.blockers.iter().find(|blocker| blocker.ty == expected.ty);
        let blocker = blocker.unwrap_or_else(|| panic!("no blocker of {}: {found:?}", expected.ty));
        prop_assert_eq!(blocker.count, 1);
        prop_assert_eq!(blocker.examples[0].text(), "lost at sea");
        prop_assert_eq!(blocker.examples[0].place.line, at as u64 + 2);
    }
}

#[test]
fn every_boundary_of_every_integer_type() {
    for ty in IntType::ALL {
        let (low, high) = ty.range();
        for edge in [low, high] {
            for number in [edge - 1, edge, edge + 1] {
                // Alone, and beside the other sign.
                for beside in [vec![], vec![-1], vec![0]] {
                    let numbers: Vec<i128> = std::iter::once(number).chain(beside).collect();
                    let values: Vec<String> = numbers.iter().map(i128::to_string).collect();
                    assert_eq!(decide_column(&values).ty, narrowest(&numbers), "{numbers:?}");
                }
            }
        }
    }
}

#[test]
fn numbers_at_the_edges_of_what_is_exact() {
    let nines = |count: usize| "9".repeat(count);
    for (values, want) in [
        (vec![nines(38)], "decimal(38,0)"),
        (vec![format!("-{}", nines(38))], "decimal(38,0)"),
        (vec![nines(39)], "text"),
        (vec![format!("{}.{}", nines(29), nines(9))], "decimal(38,9)"),
        (vec![format!("{}.{}", nines(30), nines(9))], "text"),
        (vec![format!("{}.5", nines(37)), "1.25".into()], "text"),
        // Survive float32, float64, neither.
        (vec!["1.5".into(), "0.1".into(), "0.2500025".into()], "float32"),
        (vec!["1.5".into(), "8388608.2500025".into()], "float64"),
        (vec!["16777216.5".into(), "0.2500025".into()], "float64"),
        // In 8 bytes, as a float would be.
        (vec!["1.5".into(), "0.1".into(), "0.25".into()], "decimal(3,2)"),
        (vec!["0.5".into(), "999999999999.123456".into()], "decimal(18,6)"),
        (vec!["0.5".into(), "9999999999999.123456".into()], "decimal(19,6)"),
        (vec!["1.5".into(), "0.1234567890123456789".into()], "decimal(20,19)"),
        (vec!["3.4e38".into()], "float32"),
        (vec!["3.5e38".into()], "float64"),
        (vec!["1.7e308".into()], "float64"),
        (vec!["1e-45".into()], "float32"),
        (vec!["1e-46".into()], "float64"),
        (vec!["1e5".into()], "text"),
        (vec!["1.5".into(), "inf".into(), "-Infinity".into()], "float32"),
        (vec!["1".into(), "inf".into()], "float32"),
    ] {
        let found = decide_column(&values).ty.to_string();
        let found = if want == "text" && found.starts_with("text") { "text" } else { &found };
        assert_eq!(found, want, "{values:?}");
    }
}
