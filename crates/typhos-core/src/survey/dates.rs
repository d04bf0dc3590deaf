//! Facts about dates: per shape, which orders of year, month and day read every value.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::example::{earlier, join};
use super::saved::ranges;
use super::{Example, Tally};
use crate::dates::{
    DAY_NANOS, DEFAULT_PIVOT, DateOrder, MOULD_BYTES, Mould, Shape, Shaped, days_from_civil,
};
use crate::text::LineRef;

/// Shapes of one column that are told apart. A column of more is no date column.
const MAX_SHAPES: usize = 24;

/// Cuts of one column that are known: months and days of one digit and of two, and both halves of a day.
const MOST_MOULDS: usize = 16;

/// Values of a shape that may be models of moulds: of more the usual cuts are known.
const MOST_MODELS: u64 = 256;

/// What one order makes of the values of a shape.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OrderFacts {
    /// Values that are existing days in this order.
    pub valid: u64,
    /// Values that are not, and the first of them: they rule the order out.
    pub refused: Tally,
    /// Smallest and largest moment, in nanoseconds since 1970 (in UTC, where there is an offset).
    #[serde(with = "ranges")]
    pub range: Option<(i128, i128)>,
}

/// Facts about the values of one shape.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ShapeFacts {
    /// The shape.
    pub shape: Shape,
    /// Values of this shape.
    pub count: u64,
    /// The first of them.
    pub first: Option<Example>,
    /// Most digits after the second.
    pub fraction_digits: u8,
    /// Names of months in small letters, and how often each was seen.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub months: BTreeMap<String, u64>,
    /// Names of weekdays.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub weekdays: BTreeMap<String, u64>,
    /// Facts per order, as in [`Order::ALL`]; a time without a date keeps its own in the first.
    pub orders: [OrderFacts; 3],
}

/// Dates and times of one column, by shape.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DateFacts {
    shapes: Vec<ShapeFacts>,
    /// Whether there were more shapes than are told apart.
    pub too_many: bool,
    /// How values of the shapes were cut, each with the place of its shape.
    #[serde(skip)]
    moulds: Vec<(Mould, usize)>,
}

impl PartialEq for DateFacts {
    /// Whatever order the shapes were found in.
    fn eq(&self, other: &DateFacts) -> bool {
        (self.shapes(), self.too_many) == (other.shapes(), other.too_many)
    }
}

impl DateFacts {
    /// The shapes, in an order that does not depend on how they were found.
    pub fn shapes(&self) -> Vec<&ShapeFacts> {
        let mut shapes: Vec<_> = self.shapes.iter().collect();
        shapes.sort_by_key(|facts| (std::cmp::Reverse(facts.count), facts.shape));
        shapes
    }

    pub(super) fn add(&mut self, shaped: &Shaped<'_>, value: &[u8], count: u64, place: LineRef) {
        let Some(at) = self.of(shaped.shape) else { return };
        if self.moulds.len() < MOST_MOULDS
            && self.shapes[at].count < MOST_MODELS
            && let Some(mould) = Mould::of(value, shaped)
            && self.moulds.iter().all(|(known, _)| *known != mould)
        {
            self.moulds.push((mould, at));
        }
        self.add_at(at, shaped, value, count, place);
    }

    /// Whether values may be of a known cut.
    #[inline(always)]
    pub(super) fn has_moulds(&self) -> bool {
        !self.moulds.is_empty()
    }

    /// Adds a value at the start of `bytes`, seen `count` times, that is of a known cut; says whether it is.
    #[inline]
    pub(super) fn add_cast(
        &mut self,
        value: &[u8],
        bytes: &[u8; MOULD_BYTES],
        count: u64,
        place: LineRef,
    ) -> bool {
        let read = |(mould, at): &(Mould, usize)| Some((mould.read(value.len(), bytes)?, *at));
        let Some((shaped, at)) = self.moulds.iter().find_map(read) else { return false };
        self.add_at(at, &shaped, value, count, place);
        true
    }

    #[inline]
    fn add_at(&mut self, at: usize, shaped: &Shaped<'_>, value: &[u8], count: u64, place: LineRef) {
        let facts = &mut self.shapes[at];
        // Names that are found are those of a table, so that there are not too many of them.
        if !shaped.month_name.is_empty() {
            note(&mut facts.months, shaped.month_name, count);
        }
        if let Some((name, _)) = shaped.weekday {
            note(&mut facts.weekdays, name, count);
        }
        facts.count += count;
        if facts.first.as_ref().is_none_or(|first| place < first.place) {
            facts.first = Some(Example::new(value, place));
        }
        facts.fraction_digits = facts.fraction_digits.max(shaped.fraction_digits);
        for (order, known) in DateOrder::ALL.into_iter().zip(&mut facts.orders) {
            if shaped.shape.date.is_some() && !shaped.shape.allows(order) {
                continue;
            }
            let days = if shaped.shape.date.is_none() {
                Some(0)
            } else {
                shaped
                    .date(order, DEFAULT_PIVOT)
                    .map(|(year, month, day)| days_from_civil(year, month, day))
            };
            match days {
                Some(days) => {
                    let local = i128::from(days) * i128::from(DAY_NANOS) + i128::from(shaped.nanos);
                    let moment = local - i128::from(shaped.offset) * 1_000_000_000;
                    let (low, high) = known.range.unwrap_or((moment, moment));
                    known.range = Some((low.min(moment), high.max(moment)));
                    known.valid += count;
                }
                None => known.refused.add(value, count, place),
            }
        }
    }

    /// The place of a shape, where not too many others are known.
    fn of(&mut self, shape: Shape) -> Option<usize> {
        let known = self.shapes.iter().position(|facts| facts.shape == shape);
        Some(match known {
            Some(at) => at,
            None if self.shapes.len() >= MAX_SHAPES => {
                self.too_many = true;
                return None;
            }
            None => {
                self.shapes.push(ShapeFacts {
                    shape,
                    count: 0,
                    first: None,
                    fraction_digits: 0,
                    months: BTreeMap::new(),
                    weekdays: BTreeMap::new(),
                    orders: Default::default(),
                });
                self.shapes.len() - 1
            }
        })
    }

    /// Every count there is.
    pub(super) fn counts(&self) -> impl Iterator<Item = u64> {
        let of = |shape: &ShapeFacts| {
            // Each value is in an order or is not.
            let seen = shape.orders.each_ref().map(|order| order.valid.max(order.refused.count));
            [shape.count, seen[0], seen[1], seen[2]]
        };
        let names = |shape: &'_ ShapeFacts| -> Vec<u64> {
            shape.months.values().chain(shape.weekdays.values()).copied().collect()
        };
        self.shapes.iter().flat_map(move |shape| of(shape).into_iter().chain(names(shape)))
    }

    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        for shape in &mut self.shapes {
            let refused = shape.orders.iter_mut().map(|order| &mut order.refused);
            refused.for_each(|tally| tally.move_places(new));
            shape.first.iter_mut().for_each(|example| example.move_places(new));
        }
    }

    pub(super) fn merge(&mut self, other: DateFacts) {
        self.too_many |= other.too_many;
        for theirs in other.shapes {
            let Some(at) = self.of(theirs.shape) else { continue };
            let ours = &mut self.shapes[at];
            ours.count += theirs.count;
            earlier(&mut ours.first, theirs.first);
            ours.fraction_digits = ours.fraction_digits.max(theirs.fraction_digits);
            for (name, count) in theirs.months {
                *ours.months.entry(name).or_default() += count;
            }
            for (name, count) in theirs.weekdays {
                *ours.weekdays.entry(name).or_default() += count;
            }
            for (ours, theirs) in ours.orders.iter_mut().zip(theirs.orders) {
                ours.valid += theirs.valid;
                ours.refused.merge(theirs.refused);
                ours.range = join(ours.range, theirs.range, |(a, b), (c, d)| (a.min(c), b.max(d)));
            }
        }
    }
}

/// Counts a name, in small letters.
fn note(names: &mut BTreeMap<String, u64>, name: &[u8], count: u64) {
    let known = std::str::from_utf8(name).ok().and_then(|name| names.get_mut(name));
    match known {
        Some(known) => *known += count,
        None => {
            *names.entry(String::from_utf8_lossy(name).to_lowercase()).or_default() += count;
        }
    }
}
