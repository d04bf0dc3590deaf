//! Numbers in the [usual clothes](super::dressed), taken note of many at a time, as short fractions are in
//! [`fractions`](super::fractions).
//!
//! Only what leaves nothing else to note goes this way: a value that might become an example, or the first that a float32
//! would lose or that a mark does not read, is left to the usual one.

use super::dressed::Dressed;
use super::{Class, Facts};
use crate::readings::{self, Decimal, EXACT_POW10, Grouping, Mark, survives_float32_of};
use crate::text::LineRef;

/// Signs that are told apart, and none; beside them one more.
const SIGNS: [&[u8]; 5] = [b"", b"$", b"%", "€".as_bytes(), "£".as_bytes()];

/// The marks that read a number: each alone, or both.
const READERS: usize = Mark::ALL.len() + 1;

/// Scales that a number can have, and zero.
const SCALES: usize = 16;

/// What is noted of numbers that the same marks read, with as many digits behind them.
#[derive(Debug, Clone, Copy)]
struct Cell {
    count: u64,
    low: i64,
    high: i64,
}

/// What is noted of the dressed numbers among some neighbouring values.
#[derive(Debug)]
pub(super) struct DressedGroup {
    is_open: bool,
    /// Whether a number is known of each view that float32 loses, and a value that it does not read.
    knows_loss: [bool; Mark::ALL.len()],
    knows_refused: [bool; Mark::ALL.len()],
    /// Those in parentheses, and those in groups that are known to be of three digits.
    accounting: u64,
    in_threes: u64,
    /// Those that are points as well, and those that are addresses.
    points: u64,
    addresses: u64,
    bytes: u64,
    /// Fewest and most bytes.
    lengths: (u32, u32),
    most_chars: u32,
    signs: [u64; SIGNS.len()],
    other_sign: (&'static [u8], u64),
    /// Those whose digits are grouped, by the mark that reads them.
    grouped: [u64; Mark::ALL.len()],
    /// Fewest and most digits before the mark, by the marks that read them.
    whole_digits: [(u8, u8); READERS],
    /// The cells that were added to, a bit each.
    used: u64,
    cells: [Cell; READERS * SCALES],
}

impl DressedGroup {
    /// No values yet, of a column of which this is known; the first of them stands at `first`.
    pub fn of(facts: &Facts, first: LineRef) -> DressedGroup {
        let written = facts.written.as_deref().filter(|_| {
            facts.said.is_empty() && facts.tallies[Class::Written as usize].is_settled(first)
        });
        let views = written.map(|written| written.views.each_ref());
        let known = |known: &Option<super::Example>| {
            known.as_ref().is_some_and(|known| known.place <= first)
        };
        DressedGroup {
            is_open: written.is_some(),
            knows_loss: views
                .map_or([false; 2], |views| views.map(|view| known(&view.float32_loses))),
            knows_refused: views.map_or([false; 2], |views| views.map(|view| known(&view.refused))),
            accounting: 0,
            in_threes: 0,
            points: 0,
            addresses: 0,
            bytes: 0,
            lengths: (u32::MAX, 0),
            most_chars: 0,
            signs: [0; SIGNS.len()],
            other_sign: (b"", 0),
            grouped: [0; Mark::ALL.len()],
            whole_digits: [(u8::MAX, 0); READERS],
            used: 0,
            cells: [Cell { count: 0, low: i64::MAX, high: i64::MIN }; READERS * SCALES],
        }
    }

    /// Whether any value can be added.
    #[inline(always)]
    pub fn is_open(&self) -> bool {
        self.is_open
    }

    /// Adds the value `text[start..end]` of the group, seen `count` times, if it is a number in the usual clothes and
    /// nothing but what is noted here is to be noted of it; says whether that is so.
    #[inline(always)]
    pub fn add(
        &mut self,
        facts: &mut Facts,
        (text, start, end): (&[u8], usize, usize),
        count: u64,
    ) -> bool {
        let value = &text[start..end];
        let Some(dressed) = Dressed::read(value) else { return false };
        let Some(written) = &mut facts.written else { return false };
        let Dressed { mark, mantissa, scale, whole_digits, .. } = dressed;
        let sign = SIGNS.iter().position(|sign| *sign == dressed.sign);
        if sign.is_none() && self.other_sign.1 > 0 && self.other_sign.0 != dressed.sign {
            return false;
        }
        let reads = |at: usize| mark.is_none_or(|mark| mark == Mark::ALL[at]);
        for at in 0..Mark::ALL.len() {
            let survives = || survives_float32_of(mantissa.unsigned_abs(), scale) == Some(true);
            let is_settled =
                if reads(at) { self.knows_loss[at] || survives() } else { self.knows_refused[at] };
            if !is_settled {
                return false;
            }
        }
        let number = mantissa as f64 / EXACT_POW10[usize::from(scale)];
        for (at, view) in written.views.iter_mut().enumerate().filter(|(at, _)| reads(*at)) {
            view.spread.add(number, count);
            self.grouped[at] += if dressed.grouping.is_some() { count } else { 0 };
        }
        self.accounting += if dressed.accounting { count } else { 0 };
        self.in_threes += if dressed.is_in_threes() { count } else { 0 };
        if dressed.sign.is_empty() {
            let is_point = dressed.is_point().unwrap_or_else(|| readings::point(value).is_some());
            self.points += if is_point { count } else { 0 };
            let is_address = dressed.may_be_address() && readings::is_ip(value);
            self.addresses += if is_address { count } else { 0 };
        }
        match sign {
            Some(sign) => self.signs[sign] += count,
            None => self.other_sign = (dressed.sign, self.other_sign.1 + count),
        }
        let reader = mark.map_or(READERS - 1, |mark| mark as usize);
        let (fewest, most) = &mut self.whole_digits[reader];
        (*fewest, *most) = (whole_digits.min(*fewest), whole_digits.max(*most));
        let at = reader * SCALES + usize::from(scale);
        self.used |= 1 << at;
        let cell = &mut self.cells[at];
        cell.count += count;
        (cell.low, cell.high) = (mantissa.min(cell.low), mantissa.max(cell.high));
        facts.text.note_extremes(text, start, end);
        let length = (end - start) as u32;
        self.bytes += u64::from(length) * count;
        self.lengths = (self.lengths.0.min(length), self.lengths.1.max(length));
        let behind_first = dressed.sign.iter().filter(|byte| matches!(byte, 0x80..=0xbf)).count();
        self.most_chars = self.most_chars.max(length - behind_first as u32);
        true
    }

    /// Notes all of them.
    pub fn finish(&self, facts: &mut Facts) {
        let Some(written) = facts.written.as_mut().filter(|_| self.used != 0) else { return };
        let mut count = 0;
        let cells = self.cells.iter().enumerate().filter(|(at, _)| self.used >> at & 1 == 1);
        for (at, cell) in cells {
            let (reader, scale) = (at / SCALES, (at % SCALES) as u8);
            let decimal = |mantissa: i64| Decimal { mantissa: mantissa.into(), scale };
            let range = (decimal(cell.low), decimal(cell.high));
            let reads = |view: usize| reader == view || reader == READERS - 1;
            for (_, view) in written.views.iter_mut().enumerate().filter(|(at, _)| reads(*at)) {
                view.note_many(scale, cell.count, range, self.whole_digits[reader]);
            }
            count += cell.count;
        }
        for ((view, mark), grouped) in written.views.iter_mut().zip(Mark::ALL).zip(self.grouped) {
            let grouping = match mark {
                Mark::Point => Grouping::Comma,
                Mark::Comma => Grouping::Point,
            };
            view.groupings[grouping as usize] += grouped;
        }
        let signs = SIGNS.into_iter().zip(self.signs).chain([self.other_sign]);
        signs.filter(|(_, count)| *count > 0).for_each(|(sign, count)| written.sign(sign, count));
        written.accounting += self.accounting;
        written.in_threes += self.in_threes;
        facts.written_points += self.points;
        facts.written_ips += self.addresses;
        facts.tallies[Class::Written as usize].count += count;
        let lengths = (u64::from(self.lengths.0), u64::from(self.lengths.1));
        facts.text.add_measures(count, self.bytes, lengths, self.most_chars.into());
    }
}
