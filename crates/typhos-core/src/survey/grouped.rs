//! Facts of many values at a time: what a column has shown to be of its kinds is taken note of in ways of its own.

use super::clothes::DressedGroup;
use super::digits::{DigitGroup, ShortDigits};
use super::fractions::FractionGroup;
use super::{Class, Facts};
use crate::readings::{self, ShortNumber};
use crate::text::LineRef;

/// A value within a text: where it starts and ends, and the number of its row.
pub(super) type Within = (u32, u32, u32);

impl Facts {
    /// Adds values of a valid text, none of them empty. `row` gives how often one of that row was seen, and where
    /// first; none of them stands before `first`. `seen` is told of each value that is not blank, in their order: its
    /// place among them, the value, and the integer that it is, if it is one of few digits. Says how many were blank;
    /// where `BLANK_IS_TEXT`, these are values like others.
    ///
    /// The law: the facts are those of [`add_trimmed`](Self::add_trimmed) of one value after the other, blank ones left out.
    #[inline(always)]
    pub(super) fn add_group<'t, const BLANK_IS_TEXT: bool>(
        &mut self,
        text: &'t [u8],
        values: &[Within],
        row: impl Fn(u32) -> (u64, LineRef),
        first: LineRef,
        mut seen: impl FnMut(usize, &'t [u8], Option<i64>),
    ) -> u64 {
        let mut blank = 0;
        let mut digits = DigitGroup::of(self, first);
        let mut fractions = FractionGroup::of(self, first);
        let mut dressed = DressedGroup::of(self, first);
        let has_addresses = self.count(Class::Ip) > 0;
        let has_texts = self.count(Class::Text) > 0;
        let has_points = self.count(Class::Geopoint) > 0;
        let has_lengths = self.count(Class::Length) > 0;
        for (at, (start, end, number)) in values.iter().enumerate() {
            let (start, end) = (*start as usize, *end as usize);
            let value = &text[start..end];
            let (count, place) = row(*number);
            if let Some(short) = ShortDigits::read(text, start, end) {
                seen(at, value, Some(short.number()));
                if !digits.add(self, short, count) {
                    self.add_trimmed(value, value, count, place);
                }
                continue;
            }
            let fraction = || ShortNumber::read_fraction(text, start, end);
            if fractions.is_open()
                && fraction().is_some_and(|f| fractions.add(self, f, (text, start, end), count))
                || has_addresses && self.add_address(value, count, place)
                || dressed.is_open() && dressed.add(self, (text, start, end), count)
                || has_points && self.add_point(value, count, place)
                || has_lengths && self.add_length(value, count, place)
                || self.dates.has_moulds() && self.add_cast(text, start, end, count, place)
                || has_texts && self.add_text(value, count, place)
            {
                seen(at, value, None);
                continue;
            }
            let trimmed = readings::trim(value);
            if trimmed.is_empty() && !BLANK_IS_TEXT {
                blank += count;
                continue;
            }
            self.add_trimmed(value, trimmed, count, place);
            seen(at, value, self.last_integer);
        }
        digits.finish(self);
        fractions.finish(self);
        dressed.finish(self);
        blank
    }
}
