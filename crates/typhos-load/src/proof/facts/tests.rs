//! Facts about rows are those that a plain loop over all values finds, however the rows are cut and merged.

use super::*;
use arrow_array::{
    BooleanArray, Decimal128Array, DictionaryArray, Float64Array, Int16Array, Int64Array,
    StringArray, UInt8Array,
};
use proptest::prelude::*;
use std::sync::Arc;

/// Facts about one column.
pub fn facts(array: ArrayRef) -> ColumnFacts {
    let mut facts = SentFacts::new(1).columns.remove(0);
    facts.add(&Field::new("n", array.data_type().clone(), true), &array, array.nulls());
    facts
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
        (end(values.iter().min()), end(values.iter().max()), Some(i256::from_i128(sum)))
    };
    let found = |array: ArrayRef| {
        let facts = facts(array);
        (facts.low, facts.high, facts.sum)
    };
    assert_eq!(found(Arc::new(Int64Array::from(values.clone()))), want(&values));
    assert_eq!(found(Arc::new(some)), want(&kept().collect::<Vec<_>>()));
}

#[test]
fn wide_and_narrow_integers_are_one_column() {
    let end = |value: i128| Some(End::Int(value));
    let wide = i128::from(i64::MAX) * 1_000;
    for (values, sum) in [
        (vec![Some(5), None, Some(-7), Some(wide)], Some(wide - 2)),
        (vec![Some(-wide), Some(wide), Some(-wide)], Some(-wide)),
        (vec![Some(3)], Some(3)),
    ] {
        let facts = facts(Arc::new(Decimal128Array::from(values.clone())));
        let some = || values.iter().flatten().copied();
        let sum = sum.map(i256::from_i128);
        let want = (end(some().min().unwrap()), end(some().max().unwrap()), sum);
        assert_eq!((facts.low, facts.high, facts.sum), want);
    }
}

#[test]
fn truths_are_counted_with_and_without_nulls() {
    for (values, low, high, sum) in [
        (vec![Some(true), None, Some(false)], 0, 1, 1),
        (vec![Some(true), Some(true)], 1, 1, 2),
        (vec![None, Some(false)], 0, 0, 0),
    ] {
        let array = BooleanArray::from(values.clone());
        let facts = facts(Arc::new(array));
        assert_eq!(facts.values, values.iter().flatten().count() as u64);
        let end = |value| Some(End::Int(value));
        assert_eq!(
            (facts.low, facts.high, facts.sum),
            (end(low), end(high), Some(i256::from_i128(sum)))
        );
    }
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
    assert_eq!((whole.values, whole.sum), (5, Some(i256::from_i128(11))));
    assert_eq!(whole.high, Some(End::Bytes("Å".as_bytes().to_vec())));
}

/// The sums that a plain loop finds.
fn sum_of(values: impl Iterator<Item = i128>) -> Option<i256> {
    Some(values.fold(i256::ZERO, |sum, value| sum.checked_add(i256::from_i128(value)).unwrap()))
}

/// Facts about an array that is cut in pieces, merged in some order.
fn merged(
    array: &ArrayRef,
    cuts: &[prop::sample::Index],
    order: &[prop::sample::Index],
) -> ColumnFacts {
    let mut ends: Vec<_> = cuts.iter().map(|cut| cut.index(array.len() + 1)).collect();
    ends.extend([0, array.len()]);
    ends.sort_unstable();
    let mut pieces: Vec<_> =
        ends.windows(2).map(|ends| facts(array.slice(ends[0], ends[1] - ends[0]))).collect();
    for at in order {
        let at = at.index(pieces.len());
        let piece = pieces.remove(at);
        let next = at.checked_sub(1).unwrap_or(pieces.len().saturating_sub(1));
        match pieces.get_mut(next) {
            Some(other) => other.merge(piece),
            None => pieces.push(piece),
        }
    }
    pieces
        .into_iter()
        .reduce(|mut all, piece| {
            all.merge(piece);
            all
        })
        .unwrap()
}

fn places() -> impl Strategy<Value = Vec<prop::sample::Index>> {
    proptest::collection::vec(any::<prop::sample::Index>(), 0..6)
}

fn some<T: std::fmt::Debug + Clone + 'static>(
    value: impl Strategy<Value = T> + 'static,
) -> impl Strategy<Value = Vec<Option<T>>> {
    proptest::collection::vec(proptest::option::weighted(0.8, value), 0..40)
}

/// Numbers of up to 38 digits: two of the largest leave 128 bits.
fn wide() -> impl Strategy<Value = i128> {
    const MOST: i128 = 10i128.pow(38) - 1;
    prop_oneof![Just(MOST), Just(-MOST), -MOST..=MOST, -9i128..9, Just(i128::from(i64::MIN) - 1)]
}

proptest! {
    /// Two sides of a proof add in other orders; a sum must not be there on one of them alone.
    #[test]
    fn numbers_of_any_size_are_known_exactly_in_any_order(
        values in some(wide()), cuts in places(), order in places(),
    ) {
        let array: ArrayRef = Arc::new(Decimal128Array::from(values.clone()));
        let found = merged(&array, &cuts, &order);
        let all = || values.iter().flatten().copied();
        prop_assert_eq!(found.values, all().count() as u64);
        prop_assert_eq!(&found.low, &all().min().map(End::Int));
        prop_assert_eq!(&found.high, &all().max().map(End::Int));
        prop_assert_eq!(found.sum, sum_of(all()));
        let mut wrong = Vec::new();
        found.differences(&facts(array), "n", &mut 0, &mut wrong);
        prop_assert_eq!(wrong, Vec::<String>::new());
    }

    #[test]
    fn texts_as_such_and_by_codes_are_known_the_same(
        values in some(0u8..5), words in proptest::array::uniform5("[a-dÅ\u{0}]{0,12}"), cuts in places(),
        order in places(),
    ) {
        let texts = || values.iter().map(|at| at.map(|at| words[usize::from(at)].as_str()));
        let plain: ArrayRef = Arc::new(texts().collect::<StringArray>());
        let list: StringArray = words.iter().map(Some).collect();
        let coded = DictionaryArray::new(UInt8Array::from(values.clone()), Arc::new(list));
        let coded: ArrayRef = Arc::new(coded);
        let (plain, coded) = (merged(&plain, &cuts, &order), merged(&coded, &cuts, &order));
        let all = || texts().flatten();
        let end = |text: Option<&str>| text.map(|text| End::Bytes(text.as_bytes().to_vec()));
        prop_assert_eq!(&plain.low, &end(all().min()));
        prop_assert_eq!(&plain.high, &end(all().max()));
        prop_assert_eq!(plain.sum, sum_of(all().map(|text| text.len() as i128)));
        let codes = || values.iter().flatten().map(|code| i128::from(*code) + 1);
        let known = codes().min().map(|low| Codes { low, high: codes().max().unwrap(), sum: codes().sum() });
        prop_assert_eq!(coded.codes, known);
        prop_assert_eq!(ColumnFacts { codes: None, ..coded }, plain);
    }

    #[test]
    fn floats_are_ordered_with_their_zeros_and_without_what_is_no_number(
        values in some(prop_oneof![any::<f64>(), Just(f64::NAN), Just(0.0), Just(-0.0), -9f64..9.0]),
        cuts in places(), order in places(),
    ) {
        let array: ArrayRef = Arc::new(Float64Array::from(values.clone()));
        let found = merged(&array, &cuts, &order);
        let numbers = || values.iter().flatten().copied().filter(|value| !value.is_nan());
        prop_assert_eq!(found.values, values.iter().flatten().count() as u64);
        prop_assert_eq!(found.values - found.nans, numbers().count() as u64);
        let bits = |end: Option<End>| end.map(|end| match end {
            End::Float(value) => value.to_bits(),
            other => panic!("a float, not {other:?}"),
        });
        prop_assert_eq!(bits(found.low), numbers().min_by(f64::total_cmp).map(f64::to_bits));
        prop_assert_eq!(bits(found.high), numbers().max_by(f64::total_cmp).map(f64::to_bits));
    }

    /// What a proof is for: another value in place of one is seen in the facts, unless they are the same.
    #[test]
    fn another_integer_does_not_go_unnoticed(
        values in proptest::collection::vec(any::<i16>(), 1..40), at in any::<prop::sample::Index>(), other in any::<i16>(),
    ) {
        let mut changed = values.clone();
        let at = at.index(values.len());
        changed[at] = other;
        let known = |values: Vec<i16>| facts(Arc::new(Int16Array::from(values)));
        let mut wrong = Vec::new();
        known(values.clone()).differences(&known(changed), "n", &mut 0, &mut wrong);
        prop_assert_eq!(wrong.is_empty(), other == values[at]);
    }
}
