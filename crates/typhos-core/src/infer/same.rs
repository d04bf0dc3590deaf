//! Texts that are one number: `2.1` and `2.10`, `5` and `5.0`. A number type keeps one of the two, and where
//! they were versions the other one is lost.

use std::collections::HashMap;

use crate::readings::{parse_number, trim};
use crate::survey::{Class, ColumnFacts, Example, Facts};

/// Columns of more distinct numbers than these are measurements, not versions.
const MOST_VERSIONS: u64 = 1000;

/// Versions have at most so many digits behind the point.
const MOST_VERSION_DIGITS: u8 = 3;

/// The first two texts with a fraction that are one number, in a column that could hold versions: of few
/// values, all of them without a sign or an exponent.
pub(super) fn versions(column: &ColumnFacts, facts: &Facts) -> Option<[Example; 2]> {
    let numbers = &facts.numbers;
    let others = [Class::Exponent, Class::Infinite, Class::Signed];
    let may_be = numbers.scales.keys().filter(|scale| **scale > 0).count() > 1
        && numbers.scales.keys().all(|scale| *scale <= MOST_VERSION_DIGITS)
        && others.iter().all(|class| facts.count(*class) == 0)
        && numbers.range().is_some_and(|(low, _)| low.mantissa >= 0)
        && column.distinct().count <= MOST_VERSIONS;
    if may_be { find(column, 1) } else { None }
}

/// The first two texts that are one number, as far as the distinct values are at hand.
pub(super) fn pair(column: &ColumnFacts, facts: &Facts) -> Option<[Example; 2]> {
    let mut scales = facts.numbers.scales.len();
    scales += usize::from(facts.count(Class::Integer) > 0);
    if scales > 1 { find(column, 0) } else { None }
}

/// The first two texts with at least so many digits behind the mark that are one number.
fn find(column: &ColumnFacts, least: u8) -> Option<[Example; 2]> {
    let mut seen: HashMap<(i128, u8), Example> = HashMap::new();
    let mut values = column.distinct_values();
    values.sort_by_key(|found| found.first);
    for found in values {
        let text = trim(found.value);
        let Some(number) = parse_number(text) else { continue };
        if number.exponent.is_some() || number.leading_zero || number.scale < least {
            continue;
        }
        let (mut mantissa, mut scale) = (number.mantissa, number.scale);
        while scale > 0 && mantissa % 10 == 0 {
            (mantissa, scale) = (mantissa / 10, scale - 1);
        }
        let example = Example { place: found.first, value: text.to_vec() };
        match seen.get(&(mantissa, scale)) {
            Some(known) if known.value == example.value => {}
            Some(known) => return Some([known.clone(), example]),
            None => _ = seen.insert((mantissa, scale), example),
        }
    }
    None
}
