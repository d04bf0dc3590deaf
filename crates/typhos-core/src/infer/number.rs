//! Numbers: integers at their narrowest, decimals of one scale, floats that keep every value.

use super::{Decision, Rules, counted, shown};
use crate::readings::Decimal;
use crate::schema::{IntType, MAX_PRECISION, Type};
use crate::survey::{Class, ColumnFacts, Facts};

/// Digits after the mark up to which a column of one scale is a decimal; a longer fraction is more
/// likely a measurement.
const MAX_DECIMAL_SCALE: u8 = 9;

/// Eight-digit days must show as many distinct values before they are taken for dates.
const MIN_COMPACT_DAYS: u64 = 5;

/// Epochs that are pointed out: seconds, and milliseconds, from 2001-09-09 to 2100-01-01.
const EPOCH_SECONDS: (i128, i128) = (1_000_000_000, 4_102_444_800);

/// Values that are numbers, codes not among them.
pub(super) fn count(facts: &Facts) -> u64 {
    [Class::Integer, Class::Signed, Class::Decimal, Class::Exponent]
        .iter()
        .map(|class| facts.count(*class))
        .sum()
}

/// The type that holds all numbers of a column, whatever else is in it. `None` where no number type
/// does.
pub(super) fn decide(column: &ColumnFacts, facts: &Facts, rules: &Rules) -> Option<Decision> {
    let (decimals, exponents) = (facts.count(Class::Decimal), facts.count(Class::Exponent));
    if count(facts) == 0 || facts.count(Class::Code) > 0 {
        return None;
    }
    if decimals == 0 && exponents == 0 {
        return integer(column, facts, rules);
    }
    fraction(facts, rules)
}

/// `value` moved away from zero by the headroom.
fn stretch(value: i128, headroom: f64) -> i128 {
    // The headroom in thousandths, so that the product is exact for every integer that matters.
    let thousandths = (headroom * 1000.0).round() as i128;
    let round_away = if value < 0 { -999 } else { 999 };
    value.checked_mul(thousandths).map_or(value, |product| (product + round_away) / 1000)
}

fn integer(column: &ColumnFacts, facts: &Facts, rules: &Rules) -> Option<Decision> {
    // A plus on every value is how codes are written (calling codes, for one).
    if facts.count(Class::Signed) == count(facts) {
        return None;
    }
    let (low, high) = facts.number_range()?;
    if facts.compact_days == facts.plain_count()
        && column.distinct().is_none_or(|n| n >= MIN_COMPACT_DAYS)
    {
        let mut decision = Decision::new(Type::Date);
        decision.patterns.push(("yyyyMMdd".into(), facts.compact_days));
        let iso =
            |day: i128| format!("{:04}-{:02}-{:02}", day / 10_000, day / 100 % 100, day % 100);
        decision.range = Some((iso(low.mantissa), iso(high.mantissa)));
        decision.evidence.push("all are days in eight digits".into());
        return Some(decision);
    }
    let (least, most) = (low.mantissa, high.mantissa);
    let stretched = IntType::narrowest(
        stretch(least, rules.headroom).min(least),
        stretch(most, rules.headroom).max(most),
    );
    // Headroom is for comfort: where only it asks for more than 64 bits, do without.
    let int = stretched.or_else(|| IntType::narrowest(least, most));
    let mut decision = match int {
        Some(int) => Decision::new(Type::Int(int)),
        None => {
            Decision::new(Type::Decimal { precision: digits(least).max(digits(most)), scale: 0 })
        }
    };
    if int.is_none() {
        decision.evidence.push("more than 64 bits".into());
    }
    decision.range = Some((low.to_string(), high.to_string()));
    if (least, most) == (0, 1) {
        decision.notes.push("only 0 and 1: could be bool".into());
    }
    for (scale, unit) in [(1, "seconds"), (1000, "milliseconds")] {
        if least >= EPOCH_SECONDS.0 * scale && most <= EPOCH_SECONDS.1 * scale {
            decision.notes.push(format!("could be {unit} since 1970"));
        }
    }
    Some(decision)
}

fn digits(number: i128) -> u8 {
    number.unsigned_abs().checked_ilog10().map_or(1, |log| log as u8 + 1)
}

/// The smallest decimal of a scale that holds the range with headroom; without it, where 38 digits are
/// not enough for both; `None` where they are not enough at all.
fn decimal(low: Decimal, high: Decimal, scale: u8, headroom: f64) -> Option<Type> {
    let of = |value: Decimal, headroom: f64| {
        let unscaled = value.at_scale(scale)?;
        let precision = digits(stretch(unscaled, headroom)).max(scale);
        (precision <= MAX_PRECISION).then_some(precision)
    };
    let with = |headroom| Some(of(low, headroom)?.max(of(high, headroom)?));
    let precision = with(headroom).or_else(|| with(1.0))?;
    Some(Type::Decimal { precision: precision.max(1), scale })
}

fn fraction(facts: &Facts, rules: &Rules) -> Option<Decision> {
    let exponents = facts.count(Class::Exponent);
    let scales: Vec<u8> =
        (1..=MAX_PRECISION).filter(|scale| facts.scales[usize::from(*scale)] > 0).collect();
    let longest = scales.last().copied().unwrap_or(0);
    let exact = |scale| {
        facts.number_range().and_then(|(low, high)| decimal(low, high, scale, rules.headroom))
    };
    let mut decision = if exponents == 0 && scales.len() <= 1 && longest <= MAX_DECIMAL_SCALE {
        let mut decision = Decision::new(exact(longest)?);
        decision.evidence.push(match longest {
            0 => "a mark and no fraction".into(),
            _ => format!("all fractions have {}", counted(longest.into(), "digit")),
        });
        decision
    } else if facts.float32_loses.is_none() {
        let mut decision = Decision::new(Type::Float32);
        decision.evidence.push("every value survives float32".into());
        decision
    } else if facts.float64_loses.is_none() {
        let mut decision = Decision::new(Type::Float64);
        if let Some(example) = &facts.float32_loses {
            decision.evidence.push(format!("{} would not survive float32", shown(&example.text())));
        }
        decision
    } else if exponents == 0 {
        let mut decision = Decision::new(exact(longest)?);
        if let Some(example) = &facts.float64_loses {
            decision.evidence.push(format!("{} would not survive float64", shown(&example.text())));
        }
        decision
    } else {
        return None;
    };
    decision.range = range(facts);
    Some(decision)
}

/// Smallest and largest number; exact unless numbers with an exponent are the extremes.
fn range(facts: &Facts) -> Option<(String, String)> {
    let exact = facts.number_range();
    let Some((float_low, float_high)) = facts.floats else {
        return exact.map(|(low, high)| (low.to_string(), high.to_string()));
    };
    let (mut low, mut high) = (float_low.to_string(), float_high.to_string());
    if let Some((exact_low, exact_high)) = exact {
        if exact_low.to_f64() < float_low {
            low = exact_low.to_string();
        }
        if exact_high.to_f64() > float_high {
            high = exact_high.to_string();
        }
    }
    Some((low, high))
}
