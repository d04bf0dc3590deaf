//! The proof of a load: facts about what was sent, to be held against what the target says it has.
//!
//! For every column: how many values there are, the smallest and the largest, and a sum. Integers,
//! decimals, dates and times are compared as exact integers of their units; texts by their bytes and
//! summed by their lengths in bytes; floats are summed with a tolerance that covers every order of
//! adding. What a target cannot be asked for is not compared, and its [`Asked`] says so by having no
//! question for it.

mod facts;

use typhos_core::schema::{ColumnDecl, Scalar};
use typhos_sql::{Asked, Of, PART};

use facts::KEPT_BYTES;
pub use facts::{ColumnFacts, End, SentFacts};

/// What became of the proof.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Proof {
    /// Nobody asked.
    Skipped,
    /// The target has what was sent: so many facts were compared, about so many rows.
    Proven {
        /// Facts that were compared.
        facts: usize,
        /// Rows of the target that they are about.
        rows: u64,
        /// Whether that was before the rows were moved to where readers see them.
        is_before_move: bool,
    },
}

/// Holds what was sent against the answers to the questions about a column, in their order. Returns how
/// many facts were compared, or what differs.
pub fn compare(
    column: &ColumnDecl,
    sent: &ColumnFacts,
    asked: &Asked,
    answers: &mut dyn Iterator<Item = Option<String>>,
) -> Result<usize, Vec<String>> {
    let (name, ty) = (&column.name, column.scalar());
    let listed;
    let sent = match (asked.of, sent.codes) {
        (Of::Values, _) | (_, None) => sent,
        (of, Some(codes)) => {
            listed = sent.by_list(codes, of, column);
            &listed
        }
    };
    let mut wrong = Vec::new();
    let mut compared = 0;
    let shown = |answer: &Option<String>| answer.clone().unwrap_or_else(|| "nothing".into());
    if asked.count.is_some() {
        let count = answers.next().flatten();
        compared += 1;
        if count.as_deref().and_then(|n| n.parse::<u64>().ok()) != Some(sent.values) {
            wrong.push(format!(
                "'{name}': {} values were sent, {} are there",
                sent.values,
                shown(&count)
            ));
        }
    }
    // Of no values some targets say that the smallest is nothing, and some that it is zero.
    let has_values = sent.values > 0;
    let has_nans = sent.nans > 0;
    for (what, question, sent) in
        [("smallest", &asked.low, &sent.low), ("largest", &asked.high, &sent.high)]
    {
        if question.is_none() {
            continue;
        }
        let answer = answers.next().flatten();
        if !has_values {
            continue;
        }
        compared += 1;
        let is_same = match (sent, &answer) {
            // Some targets count what is not a number among the largest, some leave it out.
            (_, Some(text)) if has_nans && is_nan(text) => true,
            (None, None) => has_nans,
            (Some(end), Some(text)) => is_end(end, text, ty),
            _ => false,
        };
        if !is_same {
            let sent = sent.as_ref().map_or("nothing".into(), |end| end_text(end, ty));
            wrong.push(format!(
                "'{name}': the {what} value sent is {sent}, there it is {}",
                shown(&answer)
            ));
        }
    }
    if asked.sum.is_some() {
        let answer = answers.next().flatten();
        let text = answer.clone().unwrap_or_else(|| "0".into());
        let (is_same, sent) = match sent.sum {
            // What is beyond 128 bits not every target can say.
            Some(sum) => sum.to_i128().map_or((true, String::new()), |sum| {
                let there = sum_of(&text, scale(ty));
                let is_same = match asked.goes_round {
                    true => there.is_some_and(|there| there as u64 == sum as u64),
                    false => there == Some(sum),
                };
                (is_same, unit_text(sum, ty))
            }),
            None if has_nans && is_nan(&text) => (true, String::new()),
            None if matches!(sent.low, Some(End::Float(_))) => {
                // Adding n numbers in any order errs by at most n times the last place of their size.
                let order = sent.values as f64 * f64::EPSILON;
                // A float32 may be kept as the double of its shortest text.
                let width = if ty == Scalar::Float32 { f64::from(f32::EPSILON) } else { 0.0 };
                // The smallest ones have few digits: each may be off by half of the smallest there is.
                let smallest = match ty {
                    Scalar::Float32 => f64::from(f32::from_bits(1)) * sent.values as f64,
                    _ => 0.0,
                };
                let most = (order + width) * sent.float_size + smallest;
                let is_same =
                    text.parse::<f64>().is_ok_and(|sum| (sum - sent.float_sum).abs() <= most);
                (is_same, sent.float_sum.to_string())
            }
            None => (true, String::new()),
        };
        compared += 1;
        if !is_same {
            wrong.push(format!(
                "'{name}': the sum of what was sent is {sent}, there it is {}",
                shown(&answer)
            ));
        }
    }
    if wrong.is_empty() { Ok(compared) } else { Err(wrong) }
}

/// Whether a target says that something is not a number.
fn is_nan(text: &str) -> bool {
    text.trim().eq_ignore_ascii_case("nan")
}

/// Digits after the mark of the numbers of a type.
fn scale(ty: Scalar) -> u8 {
    match ty {
        Scalar::Decimal { scale, .. } => scale,
        _ => 0,
    }
}

/// A decimal number in units of a scale; `None` where it is none, or finer than that.
fn units(text: &str, scale: u8) -> Option<i128> {
    let (whole, fraction) = text.trim().split_once('.').unwrap_or((text.trim(), ""));
    let fraction = fraction.trim_end_matches('0');
    if fraction.len() > usize::from(scale) {
        return None;
    }
    format!("{whole}{fraction:0<width$}", width = usize::from(scale)).parse().ok()
}

/// A sum as a target tells it.
fn sum_of(text: &str, scale: u8) -> Option<i128> {
    match text.split_once(':') {
        Some((parts, rest)) => units(parts, 0)?.checked_mul(PART)?.checked_add(units(rest, 0)?),
        None => units(text, scale),
    }
}

fn unit_text(units: i128, ty: Scalar) -> String {
    typhos_core::readings::Decimal { mantissa: units, scale: scale(ty) }.to_string()
}

fn is_end(end: &End, text: &str, ty: Scalar) -> bool {
    match end {
        End::Int(int) => units(text, scale(ty)) == Some(*int),
        End::Float(float) if ty == Scalar::Float32 => {
            text.parse::<f64>().is_ok_and(|answer| answer as f32 == *float as f32)
        }
        End::Float(float) => text.parse::<f64>().is_ok_and(|answer| answer == *float),
        // Of a long text its start is known.
        End::Bytes(start) if start.len() == KEPT_BYTES => text.as_bytes().starts_with(start),
        End::Bytes(_) => end_text(end, ty) == text,
    }
}

fn end_text(end: &End, ty: Scalar) -> String {
    match end {
        End::Int(int) => unit_text(*int, ty),
        End::Float(float) => float.to_string(),
        End::Bytes(bytes) if ty == Scalar::Uuid => {
            let bytes = bytes.as_slice().try_into().expect("a UUID has sixteen bytes");
            typhos_core::readings::uuid_text(bytes)
        }
        End::Bytes(bytes) => String::from_utf8_lossy(bytes).into_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::facts::tests::facts;
    use super::*;
    use arrow_array::{
        Array, ArrayRef, DictionaryArray, Float64Array, Int32Array, Int64Array, StringArray,
        UInt8Array,
    };
    use std::sync::Arc;

    fn all(answers: [&str; 4]) -> impl Iterator<Item = Option<String>> {
        answers.map(|answer| Some(answer.to_owned())).into_iter()
    }

    fn column(ty: Scalar) -> ColumnDecl {
        ColumnDecl::new("n", ty)
    }

    fn asked() -> Asked {
        let said = |word: &str| Some(word.to_owned());
        Asked {
            count: said("count"),
            low: said("min"),
            high: said("max"),
            sum: said("sum"),
            goes_round: false,
            of: Of::Values,
        }
    }

    #[test]
    fn no_values_have_no_extremes() {
        let sent = facts(Arc::new(Int32Array::from(vec![None, None])));
        let integers = column(Scalar::Int(typhos_core::schema::IntType::Int32));
        for end in [None, Some("0".to_owned())] {
            let answers = [Some("0".into()), end.clone(), end.clone(), end];
            let same = compare(&integers, &sent, &asked(), &mut answers.into_iter());
            assert_eq!(same, Ok(2));
        }
        let wrong = compare(&integers, &sent, &asked(), &mut all(["1", "0", "0", "0"]));
        assert_eq!(wrong, Err(vec!["'n': 0 values were sent, 1 are there".to_owned()]));
    }

    #[test]
    fn every_difference_is_named() {
        let sent = facts(Arc::new(Int32Array::from(vec![Some(-5), None, Some(7), Some(1)])));
        let ty = Scalar::Decimal { precision: 5, scale: 2 };
        let same = compare(&column(ty), &sent, &asked(), &mut all(["3", "-0.05", "0.070", "0.03"]));
        assert_eq!(same, Ok(4));
        let integers = Scalar::Int(typhos_core::schema::IntType::Int64);
        for (sum, want) in [("0:3", true), ("1:-999999997", true), ("1:3", false), ("x:3", false)] {
            let same = compare(&column(integers), &sent, &asked(), &mut all(["3", "-5", "7", sum]));
            assert_eq!(same.is_ok(), want, "{sum}");
        }
        for (at, wrong, want) in [
            (0, "2", "3 values were sent, 2 are there"),
            (1, "-0.06", "the smallest value sent is -0.05, there it is -0.06"),
            (2, "0.071", "the largest value sent is 0.07, there it is 0.071"),
            (3, "0.04", "the sum of what was sent is 0.03, there it is 0.04"),
        ] {
            let mut answers = ["3", "-0.05", "0.07", "0.03"];
            answers[at] = wrong;
            let found = compare(&column(ty), &sent, &asked(), &mut all(answers)).unwrap_err();
            assert!(found.len() == 1 && found[0].contains(want), "{found:?}");
        }
    }

    #[test]
    fn sums_may_go_round() {
        let sent = facts(Arc::new(Int64Array::from(vec![i64::MIN, i64::MIN, -3])));
        let integers = column(Scalar::Int(typhos_core::schema::IntType::Int64));
        let answers = |sum| all(["3", "-9223372036854775808", "-3", sum]);
        let round = Asked { goes_round: true, ..asked() };
        assert_eq!(compare(&integers, &sent, &round, &mut answers("-3")), Ok(4));
        assert_eq!(compare(&integers, &sent, &round, &mut answers("18446744073709551613")), Ok(4));
        assert!(compare(&integers, &sent, &round, &mut answers("-4")).is_err());
        assert!(compare(&integers, &sent, &asked(), &mut answers("-3")).is_err());
    }

    #[test]
    fn categories_are_compared_by_their_list() {
        let column = ColumnDecl {
            values: ["z", "y", "x"].map(String::from).to_vec(),
            ..column(Scalar::Category)
        };
        let words: StringArray = column.values.iter().map(Some).collect();
        let codes = UInt8Array::from(vec![Some(2), None, Some(1), Some(2)]);
        let half: ArrayRef = Arc::new(DictionaryArray::new(codes, Arc::new(words)));
        let mut sent = facts(half.slice(0, 2));
        sent.merge(facts(half.slice(2, 2)));
        let of = |of| Asked { of, ..asked() };
        let codes = compare(&column, &sent, &of(Of::Codes), &mut all(["3", "2", "3", "8"]));
        assert_eq!(codes, Ok(4));
        assert!(compare(&column, &sent, &of(Of::Codes), &mut all(["3", "1", "3", "8"])).is_err());
        let order = Asked { sum: None, ..of(Of::ListOrder) };
        assert_eq!(compare(&column, &sent, &order, &mut all(["3", "y", "x", ""])), Ok(3));
        let values = compare(&column, &sent, &asked(), &mut all(["3", "x", "y", "3"]));
        assert_eq!(values, Ok(4));
    }

    #[test]
    fn the_order_of_adding_floats_makes_no_difference() {
        let sent = facts(Arc::new(Float64Array::from(vec![1e16, 1.0, -1e16, 0.1])));
        let ask = asked();
        let ty = Scalar::Float64;
        for sum in ["1.1", "0", "2.1"] {
            let same = compare(
                &column(ty),
                &sent,
                &ask,
                &mut all(["4", "-1e16", "10000000000000000", sum]),
            );
            assert_eq!(same, Ok(4), "{sum}");
        }
        let other = compare(&column(ty), &sent, &ask, &mut all(["4", "-1e16", "1e16", "1000"]));
        assert!(other.is_err());
    }
}
