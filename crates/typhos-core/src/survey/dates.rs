//! Facts about dates: per shape, which orders of year, month and day read every value.

use serde::{Deserialize, Serialize, Serializer};

use super::cut::{Cut, Name, moment_key};
use super::example::{earlier, join};
use super::saved::ranges;
use super::{Example, NameCounts, Tally};
use crate::dates::{
    DAY_NANOS, DEFAULT_PIVOT, DateOrder, MOULD_BYTES, Mould, Shape, Shaped, days_from_civil,
    days_in_month, weekday,
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

impl OrderFacts {
    /// Adds a moment to the range: a day, nanoseconds since its start, and seconds ahead of UTC.
    #[inline]
    fn stretch(&mut self, days: i32, nanos: i64, offset: i32) {
        let local = i128::from(days) * i128::from(DAY_NANOS) + i128::from(nanos);
        let moment = local - i128::from(offset) * 1_000_000_000;
        let (low, high) = self.range.unwrap_or((moment, moment));
        self.range = Some((low.min(moment), high.max(moment)));
    }
}

/// Whether there is such a day.
#[inline(always)]
fn exists((year, month, day): (i32, u32, u32)) -> bool {
    year >= 1
        && (1..=12).contains(&month)
        && day >= 1
        && (day <= 28 || day <= days_in_month(year, month))
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
    #[serde(default, skip_serializing_if = "NameCounts::is_empty")]
    pub months: NameCounts,
    /// Names of weekdays.
    #[serde(default, skip_serializing_if = "NameCounts::is_empty")]
    pub weekdays: NameCounts,
    /// Facts per order, as in [`Order::ALL`]; a time without a date keeps its own in the first.
    pub orders: [OrderFacts; 3],
}

/// Dates and times of one column, by shape.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DateFacts {
    #[serde(serialize_with = "in_their_order")]
    shapes: Vec<ShapeFacts>,
    /// Whether there were more shapes than are told apart.
    pub too_many: bool,
    /// How values of the shapes were cut.
    #[serde(skip)]
    cuts: Vec<Cut>,
    /// The one of the last value.
    #[serde(skip)]
    last: usize,
}

/// Shapes in an order that does not depend on how they were found.
fn ordered(shapes: &[ShapeFacts]) -> Vec<&ShapeFacts> {
    let mut shapes: Vec<_> = shapes.iter().collect();
    shapes.sort_by_key(|facts| (std::cmp::Reverse(facts.count), facts.shape));
    shapes
}

/// Saves shapes in that order: whichever thread comes upon which of them first, a survey is saved in the same bytes.
fn in_their_order<S: Serializer>(shapes: &[ShapeFacts], to: S) -> Result<S::Ok, S::Error> {
    ordered(shapes).serialize(to)
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
        ordered(&self.shapes)
    }

    pub(super) fn add(&mut self, shaped: &Shaped<'_>, value: &[u8], count: u64, place: LineRef) {
        let Some(at) = self.of(shaped.shape) else { return };
        let has_names = shaped.weekday.is_some() || !shaped.month_name.is_empty();
        // Names differ in length, and those of later months come late.
        if self.cuts.len() < MOST_MOULDS
            && (has_names || self.shapes[at].count < MOST_MODELS)
            && let Some(mould) = Mould::of(value, shaped)
            && self.cuts.iter().all(|cut| cut.mould != mould)
        {
            self.cuts.push(Cut::new(mould, value.len(), at));
        }
        let names = self.add_at(at, shaped, value, count, place);
        if has_names {
            self.cuts.iter_mut().filter(|cut| cut.at == at).for_each(|cut| cut.learn(value, names));
        }
    }

    /// Whether values may be of a known cut.
    #[inline(always)]
    pub(super) fn has_moulds(&self) -> bool {
        !self.cuts.is_empty()
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
        let fits = |cut: &Cut| cut.mould.fits(value.len(), bytes);
        if !self.cuts.get(self.last).is_some_and(fits) {
            let Some(fitting) = self.cuts.iter().position(fits) else { return false };
            self.last = fitting;
        }
        let Some(cut) = self.cuts.get_mut(self.last) else { return false };
        let facts = &mut self.shapes[cut.at];
        let is_behind = facts.first.as_ref().is_some_and(|first| first.place <= place);
        if is_behind
            && let Some(sorted) = &cut.sorted
            && sorted.is_between(bytes)
        {
            facts.count += count;
            facts.orders[sorted.order].valid += count;
            return true;
        }
        if !cut.clock.hold(bytes) {
            return false;
        }
        let mut fields = cut.mould.date(bytes);
        let mut of_week = None;
        if cut.mould.has_names() {
            let Some([weekday, month]) = cut.names(bytes) else { return false };
            if let Some(weekday) = weekday {
                facts.weekdays.add(weekday.at, count);
                of_week = Some(u32::from(weekday.number));
            }
            if let Some(month) = month {
                facts.months.add(month.at, count);
                fields[cut.mould.named_field()] = month.number.into();
            }
        }
        // Where the day leaves no doubt, what time it is need not be known.
        let mut known_nanos = None;
        facts.fraction_digits = facts.fraction_digits.max(cut.mould.fraction_digits());
        if !is_behind {
            facts.first = Some(Example::new(value, place));
        }
        facts.count += count;
        let has_date = cut.mould.shape().date.is_some();
        for (order, places) in cut.orders.iter().enumerate() {
            let Some([year, month, day]) = *places else { continue };
            let (year, month, day) = (fields[year], fields[month], fields[day]);
            let known = &mut facts.orders[order];
            let year = match cut.has_short_year[order] {
                true => DEFAULT_PIVOT + (i32::from(year) - DEFAULT_PIVOT).rem_euclid(100),
                false => i32::from(year),
            };
            let date = (year, u32::from(month), u32::from(day));
            let is_weekday = || {
                of_week
                    .is_none_or(|named| named == weekday(days_from_civil(date.0, date.1, date.2)))
            };
            if has_date && !(exists(date) && is_weekday()) {
                known.refused.add(value, count, place);
                continue;
            }
            known.valid += count;
            let (low, high) = &mut cut.known[order];
            if moment_key(date, 0) > *low && moment_key(date, DAY_NANOS) < *high {
                continue;
            }
            let nanos = *known_nanos.get_or_insert_with(|| cut.mould.nanos(bytes));
            let key = moment_key(date, nanos);
            // What lies between two that are known changes no range.
            if key <= *low || key >= *high {
                (*low, *high) = ((*low).min(key), (*high).max(key));
                let days = if has_date { days_from_civil(date.0, date.1, date.2) } else { 0 };
                known.stretch(days, nanos, cut.mould.offset());
            }
            if let Some(sorted) = &mut cut.sorted {
                sorted.know(bytes);
            }
        }
        true
    }

    /// Adds a value to the facts of its shape; says which names are its weekday and month.
    #[inline]
    fn add_at(
        &mut self,
        at: usize,
        shaped: &Shaped<'_>,
        value: &[u8],
        count: u64,
        place: LineRef,
    ) -> [Option<Name>; 2] {
        let facts = &mut self.shapes[at];
        let weekday = shaped.weekday.map(|(name, number)| {
            let at = facts.weekdays.note(name, count);
            Name { at, number }
        });
        let month = (!shaped.month_name.is_empty()).then(|| {
            let at = facts.months.note(shaped.month_name, count);
            let field = shaped.shape.date.and_then(|date| date.named_field()).unwrap_or_default();
            Name { at, number: shaped.fields[field] as u8 }
        });
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
                    known.stretch(days, shaped.nanos, shaped.offset);
                    known.valid += count;
                }
                None => known.refused.add(value, count, place),
            }
        }
        [weekday, month]
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
                    months: NameCounts::default(),
                    weekdays: NameCounts::default(),
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
            shape.months.iter().chain(shape.weekdays.iter()).map(|(_, count)| count).collect()
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
            ours.months.merge(theirs.months);
            ours.weekdays.merge(theirs.weekdays);
            for (ours, theirs) in ours.orders.iter_mut().zip(theirs.orders) {
                ours.valid += theirs.valid;
                ours.refused.merge(theirs.refused);
                ours.range = join(ours.range, theirs.range, |(a, b), (c, d)| (a.min(c), b.max(d)));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dates::read_shape;

    #[test]
    fn shapes_are_saved_alike_in_whatever_order_they_came() {
        let of = |values: &[&str]| {
            let mut facts = DateFacts::default();
            for (line, value) in (1..).zip(values) {
                let shaped = read_shape(value.as_bytes()).expect("a date");
                facts.add(&shaped, value.as_bytes(), 1, LineRef { part: 0, line });
            }
            facts
        };
        let (first, second) = (["1/8/2024 9:22 PM", "10/18/2024 9:22 PM"], ["11/18/2024 10:22 PM"]);
        let merged = |a: DateFacts, b: DateFacts| {
            let mut facts = DateFacts::default();
            facts.merge(a);
            facts.merge(b);
            serde_json::to_string(&facts).unwrap()
        };
        let one = merged(of(&first), of(&second));
        assert_eq!(one, merged(of(&second), of(&first)));
        assert_eq!(of(&first).shapes().len() + of(&second).shapes().len(), 3);
    }
}
