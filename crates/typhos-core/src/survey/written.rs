//! Facts about numbers that are written as people write them, read with either mark.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::Spread;
use super::example::{Example, earlier, join};
use super::saved::{bytes_as_text, ranges};
use crate::readings::{
    Decimal, Grouping, Mark, Number, Undressed, survives_float32, survives_float64, undress, wider,
};
use crate::text::LineRef;

/// Signs of one column that are told apart. A column of more is no column of numbers.
const MOST_SIGNS: usize = 8;

/// What the numbers of a column are if one mark is meant.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ViewFacts {
    /// Values that are numbers then.
    pub read: u64,
    /// The first value that is none: it rules the mark out.
    pub refused: Option<Example>,
    /// Values grouped by each of [`Grouping`](crate::readings::Grouping).
    pub groupings: [u64; 4],
    /// Values with each number of digits behind the mark, by that number.
    pub scales: BTreeMap<u8, u64>,
    /// Smallest and largest.
    #[serde(with = "ranges")]
    pub range: Option<(Decimal, Decimal)>,
    /// Fewest and most digits before the mark.
    pub whole_digits: Option<(u8, u8)>,
    /// The first number that is another one as float32.
    pub float32_loses: Option<Example>,
    /// The first number that is another one as float64.
    pub float64_loses: Option<Example>,
    /// How the numbers are spread.
    pub spread: Spread,
}

impl ViewFacts {
    fn add(&mut self, number: &Number, value: &[u8], count: u64, place: LineRef) {
        let worth = Decimal { mantissa: number.mantissa, scale: number.scale };
        self.note(worth, number.whole_digits, count);
        let note = |known: &mut Option<Example>, survives: fn(&[u8], &Number) -> bool| {
            let is_open = known.as_ref().is_none_or(|known| place < known.place);
            if is_open && !survives(&[], number) {
                *known = Some(Example::new(value, place));
            }
        };
        note(&mut self.float32_loses, survives_float32);
        note(&mut self.float64_loses, survives_float64);
    }

    /// Notes what a number is, but not what it would lose as a float.
    fn note(&mut self, worth: Decimal, digits: u8, count: u64) {
        self.note_many(worth.scale, count, (worth, worth), (digits, digits));
        self.spread.add(worth.to_f64(), count);
    }

    /// Notes numbers of one scale, but not how they are spread: how many, the smallest and the largest, and the fewest and
    /// the most digits before the mark.
    pub(super) fn note_many(
        &mut self,
        scale: u8,
        count: u64,
        range: (Decimal, Decimal),
        digits: (u8, u8),
    ) {
        self.read += count;
        *self.scales.entry(scale).or_default() += count;
        self.range = join(self.range, Some(range), wider);
        self.whole_digits =
            join(self.whole_digits, Some(digits), |(a, b), (c, d)| (a.min(c), b.max(d)));
    }

    fn merge(&mut self, other: ViewFacts) {
        self.read += other.read;
        earlier(&mut self.refused, other.refused);
        self.groupings.iter_mut().zip(other.groupings).for_each(|(a, b)| *a += b);
        other.scales.into_iter().for_each(|(s, n)| *self.scales.entry(s).or_default() += n);
        self.range = join(self.range, other.range, wider);
        self.whole_digits =
            join(self.whole_digits, other.whole_digits, |(a, b), (c, d)| (a.min(c), b.max(d)));
        earlier(&mut self.float32_loses, other.float32_loses);
        earlier(&mut self.float64_loses, other.float64_loses);
        self.spread.merge(other.spread);
    }
}

/// Numbers of a column that are not written plainly.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WrittenFacts {
    /// Values by the currency or percent sign around them; the empty text where there is none.
    #[serde(with = "bytes_as_text")]
    pub signs: BTreeMap<Vec<u8>, u64>,
    /// Whether there were more signs than are told apart.
    pub many_signs: bool,
    /// Accounting negatives.
    pub accounting: u64,
    /// Values on each [`Side`] of an account.
    pub sides: [u64; 2],
    /// Values of three groups or more by commas, that are groups of two digits but for the last, and of
    /// three.
    pub in_twos: u64,
    /// See [`in_twos`](Self::in_twos).
    pub in_threes: u64,
    /// Facts by mark, as in [`Mark::ALL`].
    pub views: [ViewFacts; 2],
}

impl WrittenFacts {
    pub(super) fn add(
        &mut self,
        (undressed, readings): &Written<'_>,
        value: &[u8],
        count: u64,
        place: LineRef,
    ) {
        self.sign(undressed.sign, count);
        self.accounting += if undressed.accounting { count } else { 0 };
        if let Some(side) = undressed.side {
            self.sides[side as usize] += count;
        }
        match undressed.second_group() {
            Some(2) => self.in_twos += count,
            Some(_) => self.in_threes += count,
            None => {}
        }
        for (reading, view) in readings.iter().zip(&mut self.views) {
            match reading {
                Some((number, grouping)) => {
                    if let Some(grouping) = grouping {
                        view.groupings[*grouping as usize] += count;
                    }
                    view.add(number, value, count, place);
                }
                None if view.refused.as_ref().is_none_or(|known| place < known.place) => {
                    view.refused = Some(Example::new(value, place));
                }
                None => {}
            }
        }
    }

    pub(super) fn sign(&mut self, sign: &[u8], count: u64) {
        // One sign stands around all numbers of a column, nearly always.
        if let Some((known, seen)) = self.signs.iter_mut().next()
            && known.len() == sign.len()
            && known.iter().eq(sign)
        {
            *seen += count;
        } else if let Some(known) = self.signs.get_mut(sign) {
            *known += count;
        } else if !self.many_signs {
            self.signs.insert(sign.to_vec(), count);
            if self.signs.len() > MOST_SIGNS {
                self.many_signs = true;
                self.signs.clear();
            }
        }
    }

    /// Every count there is.
    pub(super) fn counts(&self) -> impl Iterator<Item = u64> {
        let of = |view: &ViewFacts| {
            let scales = view.scales.values().copied();
            scales.chain(view.groupings).chain([view.read, view.spread.count()]).collect::<Vec<_>>()
        };
        let views = self.views.iter().flat_map(of);
        let own = [self.accounting, self.in_twos, self.in_threes];
        self.signs.values().copied().chain(own).chain(self.sides).chain(views)
    }

    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        for view in &mut self.views {
            let kept = [&mut view.refused, &mut view.float32_loses, &mut view.float64_loses];
            kept.into_iter().flatten().for_each(|example| example.move_places(new));
        }
    }

    pub(super) fn merge(&mut self, other: WrittenFacts) {
        if other.many_signs {
            self.many_signs = true;
            self.signs.clear();
        }
        other.signs.into_iter().for_each(|(sign, count)| self.sign(&sign, count));
        self.accounting += other.accounting;
        self.sides.iter_mut().zip(other.sides).for_each(|(ours, theirs)| *ours += theirs);
        self.in_twos += other.in_twos;
        self.in_threes += other.in_threes;
        self.views.iter_mut().zip(other.views).for_each(|(ours, theirs)| ours.merge(theirs));
    }
}

/// A value undressed, and the number that it is by each of [`Mark::ALL`], with what groups its digits.
pub(super) type Written<'v> = (Undressed<'v>, [Option<(Number, Option<Grouping>)>; 2]);

/// Whether the last digits of a number may be its last group or behind its mark: behind a space or an apostrophe there are
/// three, by either mark. Telephone numbers and the like end here.
fn ends_well(body: &[u8]) -> bool {
    let run = body.iter().rev().take_while(|byte| byte.is_ascii_digit()).count();
    let is_all = run == body.len();
    is_all || run == 3 || matches!(body[body.len() - run - 1], b'.' | b',')
}

/// A value that is a number by at least one mark.
#[inline]
pub(super) fn written(value: &[u8]) -> Option<Written<'_>> {
    let undressed = undress(value)?;
    if !ends_well(undressed.body) {
        return None;
    }
    let readings = Mark::ALL.map(|mark| undressed.read(mark));
    readings.iter().any(Option::is_some).then_some((undressed, readings))
}
