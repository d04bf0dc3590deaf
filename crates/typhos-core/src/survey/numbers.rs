//! Facts about numbers: how wide the integers are, how long the fractions, what floats would lose.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::Spread;
use super::example::{Example, Tally, earlier, join};
use super::saved::ranges;
use crate::readings::{
    Decimal, Number, nearest_float64, survives_float32, survives_float64, wider,
};
use crate::text::LineRef;

/// Ranges of integers that no integer type tells apart: what fits one integer of a range fits them all.
pub const WIDTHS: [(i128, i128); 14] = [
    (0, i8::MAX as i128),
    (i8::MAX as i128 + 1, u8::MAX as i128),
    (u8::MAX as i128 + 1, i16::MAX as i128),
    (i16::MAX as i128 + 1, u16::MAX as i128),
    (u16::MAX as i128 + 1, i32::MAX as i128),
    (i32::MAX as i128 + 1, u32::MAX as i128),
    (u32::MAX as i128 + 1, i64::MAX as i128),
    (i64::MAX as i128 + 1, u64::MAX as i128),
    (u64::MAX as i128 + 1, i128::MAX),
    (i8::MIN as i128, -1),
    (i16::MIN as i128, i8::MIN as i128 - 1),
    (i32::MIN as i128, i16::MIN as i128 - 1),
    (i64::MIN as i128, i32::MIN as i128 - 1),
    (i128::MIN, i64::MIN as i128 - 1),
];

/// The place in [`WIDTHS`] by how many bits an integer has; for negative ones, those of its complement.
static BY_BITS: [[u8; 65]; 2] = {
    let mut places = [[0; 65]; 2];
    let limits = [[7, 8, 15, 16, 31, 32, 63, 64], [7, 15, 31, 63, 99, 99, 99, 99]];
    let mut sign = 0;
    while sign < 2 {
        let mut bits = 0;
        while bits <= 64 {
            let mut at = 0;
            while at < 7 && bits > limits[sign][at] {
                at += 1;
            }
            places[sign][bits] = at as u8 + sign as u8 * 9;
            bits += 1;
        }
        sign += 1;
    }
    places
};

/// The place in [`WIDTHS`] of an integer.
#[inline]
pub(super) fn width_of(number: i64) -> usize {
    let bits = u64::BITS - (number ^ (number >> 63)).leading_zeros();
    usize::from(BY_BITS[usize::from(number < 0)][bits as usize])
}

/// As [`width_of`], for any.
pub(super) fn wide_width_of(number: i128) -> usize {
    if let Ok(number) = i64::try_from(number) {
        return width_of(number);
    }
    let found = WIDTHS.iter().position(|(low, high)| (*low..=*high).contains(&number));
    found.expect("the widths hold every integer")
}

/// Facts about the numbers of a column that are written plainly, codes not among them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NumberFacts {
    /// Decimals by how many digits they have behind the mark.
    pub scales: BTreeMap<u8, Tally>,
    /// Decimals that are integers if their mark groups digits (`1.234`): how many, and the smallest and
    /// largest integer.
    #[serde(with = "grouped")]
    pub as_groups: Option<(u64, i128, i128)>,
    /// The smallest and largest of those that are not small integers.
    #[serde(with = "ranges")]
    numbers: Option<(Decimal, Decimal)>,
    /// The smallest and largest number with an exponent, or infinity.
    #[serde(with = "ranges")]
    pub floats: Option<(f64, f64)>,
    /// The first number that is another one as float32.
    pub float32_loses: Option<Example>,
    /// Numbers with a fraction or an exponent that are another one as float32: counted up to [`MOST_LOSSES`].
    pub float32_losses: Tally,
    /// The first number that is another one as float64.
    pub float64_loses: Option<Example>,
    /// How the numbers are spread.
    pub spread: Spread,
    small: (i64, i64),
    /// Whether the spread is of no interest.
    #[serde(skip)]
    no_spread: bool,
}

impl Default for NumberFacts {
    fn default() -> Self {
        NumberFacts {
            scales: BTreeMap::new(),
            as_groups: None,
            numbers: None,
            floats: None,
            float32_loses: None,
            float32_losses: Tally::default(),
            float64_loses: None,
            spread: Spread::default(),
            small: (i64::MAX, i64::MIN),
            no_spread: false,
        }
    }
}

/// Losses that are counted. A column of more is none that a few values keep from float32, and nobody asks again.
pub const MOST_LOSSES: u64 = 65_536;

/// Integers up to here are exact in a float32 and are printed by it as they were written; the same for
/// float64.
pub(super) const FLOAT32_SURE: i64 = 1 << 24;
pub(super) const FLOAT64_SURE: i64 = 1 << 53;

impl NumberFacts {
    /// No numbers yet, and never more cells of their spread than these.
    pub(super) fn with_most(cells: usize) -> NumberFacts {
        NumberFacts { spread: Spread::with_most(cells), ..NumberFacts::default() }
    }

    pub(super) fn clone_without_spread(&self) -> NumberFacts {
        NumberFacts {
            scales: self.scales.clone(),
            float32_loses: self.float32_loses.clone(),
            float32_losses: self.float32_losses.clone(),
            float64_loses: self.float64_loses.clone(),
            spread: Spread::default(),
            no_spread: true,
            ..*self
        }
    }

    #[inline]
    pub(super) fn spread(&mut self, number: f64, count: u64) {
        if !self.no_spread {
            self.spread.add(number, count);
        }
    }

    /// Adds an integer of at most 18 digits. Among codes it is none, and nobody asks how it is spread.
    #[inline]
    pub(super) fn add_small(&mut self, number: i64, count: u64, is_code: bool) {
        self.small = (self.small.0.min(number), self.small.1.max(number));
        if !is_code {
            self.spread(number as f64, count);
        }
    }

    /// As [`add_small`](Self::add_small) of integers from the first to the last, none where that is less;
    /// but for how they are spread.
    pub(super) fn add_small_range(&mut self, (low, high): (i64, i64)) {
        self.small = (self.small.0.min(low), self.small.1.max(high));
    }

    /// Adds integers of more digits from the first to the last, none where that is less; but for how they are spread.
    pub(super) fn add_large_range(&mut self, (low, high): (i64, i64)) {
        if low <= high {
            let whole = |number: i64| Decimal { mantissa: number.into(), scale: 0 };
            let range = Some((whole(low), whole(high)));
            self.numbers = join(self.numbers, range, wider);
        }
    }

    /// Whether nothing is to be noted of an integer beyond [`FLOAT32_SURE`] from `place` on, if it has at
    /// most eight digits.
    pub(super) fn knows_float32_loss(&self, place: LineRef) -> bool {
        self.float32_loses.as_ref().is_some_and(|known| known.place <= place)
    }

    /// Whether nothing is to be noted of a number from `place` on that float64 loses.
    pub(super) fn knows_float64_loss(&self, place: LineRef) -> bool {
        self.float64_loses.as_ref().is_some_and(|known| known.place <= place)
    }

    /// Takes note of what an integer beyond [`FLOAT32_SURE`] is as a float.
    pub(super) fn large_integer(&mut self, value: &[u8], number: i64, place: LineRef) {
        if self.knows_float32_loss(place) && number.abs() <= FLOAT64_SURE {
            return;
        }
        let exact = Number {
            mantissa: i128::from(number),
            scale: 0,
            whole_digits: number.unsigned_abs().checked_ilog10().unwrap_or(0) as u8 + 1,
            marked: false,
            plus: false,
            leading_zero: false,
            exponent: None,
        };
        self.float_losses(value, &exact, 0, place);
    }

    /// Adds any other number.
    pub(super) fn add(&mut self, number: &Number, value: &[u8], count: u64, place: LineRef) {
        let is_fraction = number.marked || number.exponent.is_some();
        self.float_losses(value, number, if is_fraction { count } else { 0 }, place);
        if number.exponent.is_some() {
            let parsed = || std::str::from_utf8(value).ok()?.parse::<f64>().ok();
            let float = nearest_float64(value, number).map(|(float, _)| float).or_else(parsed);
            self.add_float(float.unwrap_or(0.0), count);
            return;
        }
        let decimal = Decimal { mantissa: number.mantissa, scale: number.scale };
        match &self.numbers {
            // Nearly all are between two that are known.
            Some((low, high)) if decimal > *low && decimal < *high => {}
            known => self.numbers = join(*known, Some((decimal, decimal)), wider),
        }
        self.spread(decimal.near_f64(), count);
        if !number.marked {
            return;
        }
        self.scales.entry(number.scale).or_default().add(value, count, place);
        let whole = number.mantissa / 1000;
        if number.scale == 3 && number.whole_digits <= 3 && whole != 0 && !number.plus {
            let n = number.mantissa;
            let (known, low, high) = self.as_groups.unwrap_or((0, n, n));
            self.as_groups = Some((known + count, low.min(n), high.max(n)));
        }
    }

    /// Adds fractions of one scale that have their tally already, all but how they are spread: how many, the smallest
    /// and the largest.
    pub(super) fn add_fractions(&mut self, scale: u8, count: u64, range: (Decimal, Decimal)) {
        self.scales.entry(scale).or_default().count += count;
        self.numbers = join(self.numbers, Some(range), wider);
    }

    /// Adds decimals that are integers if their mark groups digits: how many, the smallest and the largest.
    pub(super) fn add_as_groups(&mut self, count: u64, low: i128, high: i128) {
        let (known, least, most) = self.as_groups.unwrap_or((0, low, high));
        self.as_groups = Some((known + count, low.min(least), high.max(most)));
    }

    /// Adds a number that is known as a double, which may be infinite.
    pub(super) fn add_float(&mut self, float: f64, count: u64) {
        let (low, high) = self.floats.unwrap_or((float, float));
        self.floats = Some((low.min(float), high.max(float)));
        if float.is_finite() {
            self.spread(float, count);
        }
    }

    /// Looks for what a number loses as a float. Losses are counted `count` times; the first one of each
    /// width is looked for only where it would stand before the one that is known.
    #[inline]
    fn float_losses(&mut self, value: &[u8], number: &Number, count: u64, place: LineRef) {
        let open = |known: &Option<Example>| known.as_ref().is_none_or(|known| place < known.place);
        let is_first = open(&self.float32_loses);
        let is_counted = count > 0 && self.float32_losses.count < MOST_LOSSES;
        if (is_counted || is_first) && !survives_float32(value, number) {
            if is_first {
                self.float32_loses = Some(Example::new(value, place));
            }
            if is_counted {
                self.float32_losses.add(value, count, place);
                self.float32_losses.count = self.float32_losses.count.min(MOST_LOSSES);
            }
        }
        if open(&self.float64_loses) && !survives_float64(value, number) {
            self.float64_loses = Some(Example::new(value, place));
        }
    }

    /// The smallest and largest integer of at most 18 digits.
    pub fn small_range(&self) -> Option<(Decimal, Decimal)> {
        let (low, high) = self.small;
        let whole = |n: i64| Decimal { mantissa: i128::from(n), scale: 0 };
        (low <= high).then(|| (whole(low), whole(high)))
    }

    /// The smallest and largest integer or decimal.
    pub fn range(&self) -> Option<(Decimal, Decimal)> {
        join(self.numbers, self.small_range(), wider)
    }

    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.scales.values_mut().for_each(|tally| tally.move_places(new));
        self.float32_losses.move_places(new);
        let kept = [&mut self.float32_loses, &mut self.float64_loses];
        kept.into_iter().flatten().for_each(|example| example.move_places(new));
    }

    pub(super) fn merge(&mut self, other: NumberFacts) {
        for (scale, tally) in other.scales {
            self.scales.entry(scale).or_default().merge(tally);
        }
        self.as_groups = join(self.as_groups, other.as_groups, |(n, a, b), (m, c, d)| {
            (n + m, a.min(c), b.max(d))
        });
        self.numbers = join(self.numbers, other.numbers, wider);
        self.floats = join(self.floats, other.floats, |(a, b), (c, d)| (a.min(c), b.max(d)));
        self.small = (self.small.0.min(other.small.0), self.small.1.max(other.small.1));
        earlier(&mut self.float32_loses, other.float32_loses);
        earlier(&mut self.float64_loses, other.float64_loses);
        self.float32_losses.merge(other.float32_losses);
        self.float32_losses.count = self.float32_losses.count.min(MOST_LOSSES);
        self.spread.merge(other.spread);
    }
}

/// A count and a range of wide integers, as texts.
mod grouped {
    use super::super::saved::ranges;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    #[derive(Serialize, Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Saved {
        count: u64,
        #[serde(with = "ranges")]
        range: Option<(i128, i128)>,
    }

    pub fn serialize<S: Serializer>(
        facts: &Option<(u64, i128, i128)>,
        to: S,
    ) -> Result<S::Ok, S::Error> {
        facts.map(|(count, low, high)| Saved { count, range: Some((low, high)) }).serialize(to)
    }

    pub fn deserialize<'d, D: Deserializer<'d>>(
        from: D,
    ) -> Result<Option<(u64, i128, i128)>, D::Error> {
        let saved = Option::<Saved>::deserialize(from)?;
        Ok(saved.and_then(|saved| saved.range.map(|(low, high)| (saved.count, low, high))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema::IntType;

    #[test]
    fn widths_are_cut_where_integer_types_end() {
        for ty in IntType::ALL {
            let (least, most) = ty.range();
            for (low, high) in WIDTHS {
                let inside = low >= least && high <= most;
                let outside = high < least || low > most;
                assert!(inside || outside, "{} cuts {low} to {high}", ty.name());
            }
            for edge in [least, most] {
                for number in [edge - 1, edge, edge + 1] {
                    let (low, high) = WIDTHS[wide_width_of(number)];
                    assert!((low..=high).contains(&number), "{number}");
                    if let Ok(small) = i64::try_from(number) {
                        assert_eq!(width_of(small), wide_width_of(number), "{number}");
                    }
                }
            }
        }
    }
}
