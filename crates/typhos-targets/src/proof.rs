//! The proof of a load: facts about what was sent, to be held against what the target says it has.
//!
//! For every column: how many values there are, the smallest and the largest, and a sum. Integers,
//! decimals, dates and times are compared as exact integers of their units; texts by their bytes and
//! summed by their lengths in bytes; floats are summed with a tolerance that covers every order of
//! adding. What a target cannot be asked for is not compared, and its [`Asked`] says so by having no
//! question for it.

use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_buffer::NullBuffer;
use typhos_core::schema::{ColumnDecl, Type};

use crate::view::{Ints, View};

/// A value at either end of a column.
#[derive(Debug, Clone, PartialEq)]
pub enum End {
    /// Units of the type: mantissas, days, seconds or parts of them, 0 and 1.
    Int(i128),
    /// A number.
    Float(f64),
    /// A text, by its bytes; of a UUID its sixteen bytes.
    Bytes(Vec<u8>),
}

impl End {
    /// Whether it stands before another of the same kind.
    fn is_before(&self, other: &End) -> bool {
        match (self, other) {
            (End::Int(a), End::Int(b)) => a < b,
            (End::Float(a), End::Float(b)) => a.total_cmp(b).is_lt(),
            (End::Bytes(a), End::Bytes(b)) => a < b,
            _ => unreachable!("values of one column are of one kind"),
        }
    }
}

/// What is known of the values of one column.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ColumnFacts {
    /// Values that are not null.
    pub values: u64,
    /// The smallest.
    pub low: Option<End>,
    /// The largest.
    pub high: Option<End>,
    /// The sum of units, or of lengths in bytes; `None` once it left 128 bits, and of floats.
    pub sum: Option<i128>,
    /// The sum of floats.
    pub float_sum: f64,
    /// The sum of floats without their signs.
    pub float_size: f64,
    /// Of values with codes: what is known of the codes, counted from 1. It has a meaning where all codes are
    /// those of one list.
    pub codes: Option<Codes>,
}

/// What is known of codes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Codes {
    /// The smallest.
    pub low: i128,
    /// The largest.
    pub high: i128,
    /// The sum, over all values.
    pub sum: i128,
}

/// What is known of rows.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Facts {
    /// How many there are.
    pub rows: u64,
    /// Their columns.
    pub columns: Vec<ColumnFacts>,
}

impl Facts {
    /// Facts about no rows.
    pub fn new(columns: usize) -> Facts {
        let none = ColumnFacts { sum: Some(0), ..ColumnFacts::default() };
        Facts { rows: 0, columns: vec![none; columns] }
    }

    /// Adds the rows of a batch.
    pub fn add(&mut self, batch: &RecordBatch) {
        self.add_columns(batch.num_rows(), batch.columns());
    }

    /// Adds rows, column by column.
    pub fn add_columns(&mut self, rows: usize, columns: &[ArrayRef]) {
        self.rows += rows as u64;
        for (facts, array) in self.columns.iter_mut().zip(columns) {
            facts.add(array);
        }
    }

    /// Adds what is known of other rows of the same columns.
    pub fn merge(&mut self, other: Facts) {
        self.rows += other.rows;
        for (ours, theirs) in self.columns.iter_mut().zip(other.columns) {
            ours.merge(theirs);
        }
    }
}

impl ColumnFacts {
    fn widen(&mut self, low: End, high: End) {
        if self.low.as_ref().is_none_or(|known| low.is_before(known)) {
            self.low = Some(low);
        }
        if self.high.as_ref().is_none_or(|known| known.is_before(&high)) {
            self.high = Some(high);
        }
    }

    fn merge(&mut self, other: ColumnFacts) {
        self.values += other.values;
        if let (Some(low), Some(high)) = (other.low, other.high) {
            self.widen(low, high);
        }
        self.sum = self.sum.zip(other.sum).and_then(|(a, b)| a.checked_add(b));
        self.float_sum += other.float_sum;
        self.float_size += other.float_size;
        self.codes = match (self.codes, other.codes) {
            (Some(a), Some(b)) => {
                Some(Codes { low: a.low.min(b.low), high: a.high.max(b.high), sum: a.sum + b.sum })
            }
            (one, other) => one.or(other),
        };
    }

    fn add(&mut self, array: &ArrayRef) {
        let nulls = array.nulls();
        let rows = || (0..array.len()).filter(|row| nulls.is_none_or(|nulls| nulls.is_valid(*row)));
        let count = (array.len() - array.null_count()) as u64;
        if count == 0 {
            return;
        }
        self.values += count;
        match View::of(array) {
            View::Bool(values) => self.ints(rows().map(|row| i128::from(values.value(row)))),
            View::Int(ints) | View::Decimal(ints, _) | View::Time(ints, _) => match ints {
                Ints::I8(values) => self.narrow(values, nulls),
                Ints::I16(values) => self.narrow(values, nulls),
                Ints::I32(values) => self.narrow(values, nulls),
                Ints::I64(values) => self.narrow(values, nulls),
                Ints::U8(values) => self.narrow(values, nulls),
                Ints::U16(values) => self.narrow(values, nulls),
                Ints::U32(values) => self.narrow(values, nulls),
                Ints::U64(values) => self.ints(rows().map(|row| values[row].into())),
                Ints::I128(values) => self.ints(rows().map(|row| values[row])),
            },
            View::Date(days) => self.narrow(days, nulls),
            View::Timestamp(units, ..) => self.narrow(units, nulls),
            View::Float32(values) => {
                self.floats(rows().map(|row| f64::from(values[row])));
            }
            View::Float64(values) => self.floats(rows().map(|row| values[row])),
            View::Point(latitudes, _) => self.floats(rows().map(|row| latitudes[row])),
            View::Text(texts) => self.bytes(rows().map(|row| (texts.value(row).as_bytes(), 1))),
            View::Uuid(uuids) => self.bytes(rows().map(|row| (uuids.value(row), 1))),
            View::Coded(codes, texts) => {
                let mut counts = vec![0u64; texts.len()];
                let mut count = |code: usize| counts[code] += 1;
                match codes {
                    Ints::U8(codes) => rows().for_each(|row| count(codes[row].into())),
                    Ints::U16(codes) => rows().for_each(|row| count(codes[row].into())),
                    codes => rows().for_each(|row| count(codes.narrow(row) as usize)),
                }
                let used = counts.iter().enumerate().filter(|(_, count)| **count > 0);
                self.merge_codes(used.clone().map(|(code, count)| (code as i128 + 1, *count)));
                self.bytes(used.map(|(code, count)| (texts.value(code).as_bytes(), *count)));
            }
        }
    }

    /// The same facts by the codes of a list.
    fn by_list(&self, codes: Codes, of: Of, column: &ColumnDecl) -> ColumnFacts {
        let end = |code: i128| match of {
            Of::ListOrder => {
                let value = usize::try_from(code - 1).ok().and_then(|at| column.values.get(at));
                End::Bytes(value.map_or(Vec::new(), |value| value.clone().into_bytes()))
            }
            _ => End::Int(code),
        };
        ColumnFacts {
            low: Some(end(codes.low)),
            high: Some(end(codes.high)),
            sum: Some(codes.sum),
            ..self.clone()
        }
    }

    fn merge_codes(&mut self, codes: impl Iterator<Item = (i128, u64)>) {
        for (code, count) in codes {
            let known = self.codes.get_or_insert(Codes { low: code, high: code, sum: 0 });
            known.low = known.low.min(code);
            known.high = known.high.max(code);
            known.sum += code * i128::from(count);
        }
    }

    /// Integers of at most 64 bits.
    fn narrow<N: Copy + Into<i64>>(&mut self, values: &[N], nulls: Option<&NullBuffer>) {
        let mut some = Narrow { low: i64::MAX, high: i64::MIN, sum: 0 };
        match nulls {
            None => values
                .chunks(STRETCH)
                .for_each(|values| some.add(values.iter().map(|value| (*value).into()))),
            Some(nulls) => {
                let mut rows = nulls.valid_indices().peekable();
                while rows.peek().is_some() {
                    some.add(rows.by_ref().take(STRETCH).map(|row| values[row].into()));
                }
            }
        }
        self.sum = self.sum.and_then(|known| known.checked_add(some.sum));
        self.widen(End::Int(some.low.into()), End::Int(some.high.into()));
    }

    fn ints(&mut self, values: impl Iterator<Item = i128>) {
        let (mut low, mut high, mut sum) = (i128::MAX, i128::MIN, self.sum);
        for value in values {
            low = low.min(value);
            high = high.max(value);
            sum = sum.and_then(|sum| sum.checked_add(value));
        }
        self.sum = sum;
        self.widen(End::Int(low), End::Int(high));
    }

    fn floats(&mut self, values: impl Iterator<Item = f64>) {
        let (mut low, mut high) = (f64::INFINITY, f64::NEG_INFINITY);
        self.sum = None;
        for value in values {
            if value.total_cmp(&low).is_lt() {
                low = value;
            }
            if value.total_cmp(&high).is_gt() {
                high = value;
            }
            self.float_sum += value;
            self.float_size += value.abs();
        }
        self.widen(End::Float(low), End::Float(high));
    }

    /// Texts, and how often each of them stands there.
    fn bytes<'t>(&mut self, values: impl Iterator<Item = (&'t [u8], u64)>) {
        let (mut low, mut high): (Option<&[u8]>, Option<&[u8]>) = (None, None);
        for (value, count) in values {
            if low.is_none_or(|low| value < low) {
                low = Some(value);
            }
            if high.is_none_or(|high| value > high) {
                high = Some(value);
            }
            let length = value.len() as i128 * i128::from(count);
            self.sum = self.sum.and_then(|sum| sum.checked_add(length));
        }
        if let (Some(low), Some(high)) = (low, high) {
            self.widen(End::Bytes(low.to_vec()), End::Bytes(high.to_vec()));
        }
    }
}

/// Values that are added up before the sum is carried into 128 bits: with a carry for each, facts took a
/// tenth of a load into a file.
const STRETCH: usize = 1 << 16;

/// What is known of some integers.
struct Narrow {
    low: i64,
    high: i64,
    sum: i128,
}

impl Narrow {
    /// Adds at most [`STRETCH`] values.
    #[inline(always)]
    fn add(&mut self, values: impl Iterator<Item = i64>) {
        // In halves of 32 bits, so many of them stay within 64.
        let (mut upper, mut lower) = (0i64, 0i64);
        for value in values {
            self.low = self.low.min(value);
            self.high = self.high.max(value);
            upper += value >> 32;
            lower += value & 0xffff_ffff;
        }
        self.sum += (i128::from(upper) << 32) + i128::from(lower);
    }
}

/// The questions about a column that a target can answer, in its own words.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Asked {
    /// How many values there are.
    pub count: Option<String>,
    /// The smallest value.
    pub low: Option<String>,
    /// The largest value.
    pub high: Option<String>,
    /// The sum of numbers, or of lengths in bytes. Where it may be too large for the target, two sums with a
    /// colon between them: that of [`PART`]s, rounded towards zero, and that of the rest.
    pub sum: Option<String>,
    /// Whether the target is asked for codes and not for texts.
    pub of: Of,
}

/// What is asked for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Of {
    /// The values.
    #[default]
    Values,
    /// The numbers of the values in their list, from 1.
    Codes,
    /// The values, in the order of their list; there is no sum of them.
    ListOrder,
}

/// What sums are taken apart by.
pub const PART: i128 = 1_000_000_000;

impl Asked {
    /// Questions about the smallest and the largest value; `of` makes one of the name of an aggregate.
    pub fn extremes(of: impl Fn(&str) -> String) -> Asked {
        Asked { low: Some(of("min")), high: Some(of("max")), ..Asked::default() }
    }

    /// The question about a sum alone.
    pub fn total(sum: String) -> Asked {
        Asked::default().sum(sum)
    }

    /// A question about the sum as well.
    pub fn sum(self, sum: String) -> Asked {
        Asked { sum: Some(sum), ..self }
    }

    /// The questions there are.
    pub fn questions(&self) -> impl Iterator<Item = &String> {
        [&self.count, &self.low, &self.high, &self.sum].into_iter().flatten()
    }
}

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
    },
}

/// Holds what was sent against the answers to the questions about a column, in their order. Returns how
/// many facts were compared, or what differs.
pub(crate) fn compare(
    column: &ColumnDecl,
    sent: &ColumnFacts,
    asked: &Asked,
    answers: &mut dyn Iterator<Item = Option<String>>,
) -> Result<usize, Vec<String>> {
    let (name, ty) = (&column.name, column.ty);
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
            Some(sum) => (sum_of(&text, scale(ty)) == Some(sum), unit_text(sum, ty)),
            None if matches!(sent.low, Some(End::Float(_))) => {
                // Adding n numbers in any order errs by at most n times the last place of their size.
                let order = sent.values as f64 * f64::EPSILON;
                // A float32 may be kept as the double of its shortest text.
                let width = if ty == Type::Float32 { f64::from(f32::EPSILON) } else { 0.0 };
                let most = (order + width) * sent.float_size;
                let is_same =
                    text.parse::<f64>().is_ok_and(|sum| (sum - sent.float_sum).abs() <= most);
                (is_same || !sent.float_size.is_finite(), sent.float_sum.to_string())
            }
            // It was too large for 128 bits.
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

/// Digits after the mark of the numbers of a type.
fn scale(ty: Type) -> u8 {
    match ty {
        Type::Decimal { scale, .. } => scale,
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

fn unit_text(units: i128, ty: Type) -> String {
    typhos_core::readings::Decimal { mantissa: units, scale: scale(ty) }.to_string()
}

fn is_end(end: &End, text: &str, ty: Type) -> bool {
    match end {
        End::Int(int) => units(text, scale(ty)) == Some(*int),
        End::Float(float) if ty == Type::Float32 => {
            text.parse::<f64>().is_ok_and(|answer| answer as f32 == *float as f32)
        }
        End::Float(float) => text.parse::<f64>().is_ok_and(|answer| answer == *float),
        End::Bytes(_) => end_text(end, ty) == text,
    }
}

fn end_text(end: &End, ty: Type) -> String {
    match end {
        End::Int(int) => unit_text(*int, ty),
        End::Float(float) => float.to_string(),
        End::Bytes(bytes) if ty == Type::Uuid => {
            let bytes = bytes.as_slice().try_into().expect("a UUID has sixteen bytes");
            typhos_core::readings::uuid_text(bytes)
        }
        End::Bytes(bytes) => String::from_utf8_lossy(bytes).into_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{
        DictionaryArray, Float64Array, Int32Array, Int64Array, StringArray, UInt8Array,
    };
    use std::sync::Arc;

    fn facts(array: ArrayRef) -> ColumnFacts {
        let mut facts = Facts::new(1).columns.remove(0);
        facts.add(&array);
        facts
    }

    fn all(answers: [&str; 4]) -> impl Iterator<Item = Option<String>> {
        answers.map(|answer| Some(answer.to_owned())).into_iter()
    }

    fn column(ty: Type) -> ColumnDecl {
        ColumnDecl::new("n", ty)
    }

    fn asked() -> Asked {
        let said = |word: &str| Some(word.to_owned());
        Asked {
            count: said("count"),
            low: said("min"),
            high: said("max"),
            sum: said("sum"),
            of: Of::Values,
        }
    }

    #[test]
    fn no_values_have_no_extremes() {
        let sent = facts(Arc::new(Int32Array::from(vec![None, None])));
        let integers = column(Type::Int(typhos_core::schema::IntType::Int32));
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
        let ty = Type::Decimal { precision: 5, scale: 2 };
        let same = compare(&column(ty), &sent, &asked(), &mut all(["3", "-0.05", "0.070", "0.03"]));
        assert_eq!(same, Ok(4));
        let integers = Type::Int(typhos_core::schema::IntType::Int64);
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
    fn integers_are_summed_exactly_with_and_without_nulls() {
        let values: Vec<i64> =
            (0..200_000).map(|n: i64| n.wrapping_mul(0x9e37_79b9_7f4a_7c15_u64 as i64)).collect();
        let every_third = |n: &usize| !n.is_multiple_of(3);
        let some: Int64Array =
            values.iter().enumerate().map(|(n, v)| every_third(&n).then_some(*v)).collect();
        let kept = || values.iter().enumerate().filter(|(n, _)| every_third(n)).map(|(_, v)| *v);
        let want = |values: &[i64]| {
            let sum = values.iter().map(|value| i128::from(*value)).sum();
            let end = |value: Option<&i64>| value.map(|value| End::Int(i128::from(*value)));
            (end(values.iter().min()), end(values.iter().max()), Some(sum))
        };
        let found = |array: ArrayRef| {
            let facts = facts(array);
            (facts.low, facts.high, facts.sum)
        };
        assert_eq!(found(Arc::new(Int64Array::from(values.clone()))), want(&values));
        assert_eq!(found(Arc::new(some)), want(&kept().collect::<Vec<_>>()));
    }

    #[test]
    fn categories_are_compared_by_their_list() {
        let column = ColumnDecl {
            values: ["z", "y", "x"].map(String::from).to_vec(),
            ..column(Type::Category)
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
    fn facts_merge_to_the_facts_of_all() {
        let texts = ["Holm", "", "Sund", "Å", "z"];
        let whole = facts(Arc::new(StringArray::from(texts.to_vec())));
        for cut in 0..=texts.len() {
            let mut merged = facts(Arc::new(StringArray::from(texts[..cut].to_vec())));
            merged.merge(facts(Arc::new(StringArray::from(texts[cut..].to_vec()))));
            assert_eq!(merged, whole);
        }
        assert_eq!((whole.values, whole.sum), (5, Some(11)));
        assert_eq!(whole.high, Some(End::Bytes("Å".as_bytes().to_vec())));
    }

    #[test]
    fn the_order_of_adding_floats_makes_no_difference() {
        let sent = facts(Arc::new(Float64Array::from(vec![1e16, 1.0, -1e16, 0.1])));
        let ask = asked();
        let ty = Type::Float64;
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
