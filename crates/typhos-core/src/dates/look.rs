//! Looking at a value as a date, a time, or both: from bytes to a [`Shaped`].

use super::names::Named;
use super::shape::{DateOrder, DateShape, Separator, Shape, Shaped};
use super::words;

/// What joins a date and a time, beside what separates any two fields.
const GLUE: [&[u8]; 5] = [b"T", b"t", b":", b" at ", b" um "];

/// Words for year, month and day behind the number, and for hour, minute and second, in the languages that
/// write dates so: Chinese and Japanese share theirs, Korean has its own.
const DATE_WORDS: [[&str; 2]; 3] = [["年", "년"], ["月", "월"], ["日", "일"]];

/// Looks at a value as a date, a time, or both. `None` where it has no such shape, or where a time of
/// day does not exist; whether the *day* exists depends on the order and is not judged here.
pub fn read_shape(value: &[u8]) -> Option<Shaped<'_>> {
    if value.len() < 4 || value.len() > 64 {
        return None;
    }
    let mut look = Look {
        rest: value,
        shaped: Shaped {
            shape: Shape::default(),
            fields: [0; 3],
            month_name: b"",
            weekday: None,
            nanos: 0,
            fraction_digits: 0,
            offset: 0,
        },
    };
    if value[0].is_ascii_digit() {
        let start = look;
        if look.date(None).is_none() {
            look = start;
        }
    } else {
        // Without a number it is none, whatever its words are: nearly all texts end here.
        if value[0].is_ascii() && !value[0].is_ascii_alphabetic() {
            return None;
        }
        if !words::may_be_name(value) || !value.iter().any(u8::is_ascii_digit) {
            return None;
        }
        look.date_of_words()?;
    }
    if let Some(date) = look.shaped.shape.date {
        if look.rest.is_empty() {
            return look.finish();
        }
        let is_apart = date.behind != Separator::default();
        let is_time = look.rest.first().is_some_and(u8::is_ascii_digit);
        if !(is_apart && is_time) {
            look.shaped.shape.glue = look.glue().or_else(|| look.separator())?;
        }
    }
    look.time()?;
    look.zone()?;
    look.late_year()?;
    look.finish()
}

/// A value being looked at: what is left of it, and what was seen.
#[derive(Clone, Copy)]
pub(super) struct Look<'v> {
    pub(super) rest: &'v [u8],
    pub(super) shaped: Shaped<'v>,
}

impl<'v> Look<'v> {
    fn finish(self) -> Option<Shaped<'v>> {
        let is_date = |date: DateShape| {
            (!date.late_year || date.digits[2] == 4)
                && DateOrder::ALL.iter().any(|order| self.shaped.shape.allows(*order))
        };
        let fits = self.rest.is_empty() && self.shaped.shape.date.is_none_or(is_date);
        fits.then_some(self.shaped)
    }

    /// What stands before the next digit or letter.
    #[inline]
    pub(super) fn separator(&mut self) -> Option<Separator> {
        let is_separator =
            |byte: &&u8| matches!(byte, b'-' | b'/' | b'.' | b' ' | b',' | b'_' | b'@' | b';');
        let length = self.rest.iter().take(4).take_while(is_separator).count();
        if !(1..=3).contains(&length) {
            return None;
        }
        let (separator, rest) = self.rest.split_at(length);
        self.rest = rest;
        Some(Separator::of(separator))
    }

    /// What joins a date and a time: a digit stands behind it.
    pub(super) fn glue(&mut self) -> Option<Separator> {
        let found = GLUE.iter().find_map(|glue| {
            let rest = self.rest.strip_prefix(*glue)?;
            rest.first().is_some_and(u8::is_ascii_digit).then_some((*glue, rest))
        });
        let (glue, rest) = found?;
        self.rest = rest;
        Some(Separator::of(glue))
    }

    /// One of some words, and a space behind it where there is one and more comes.
    pub(super) fn word<const N: usize>(&mut self, words: [&str; N]) -> Option<Separator> {
        let word = words.into_iter().find(|word| self.rest.starts_with(word.as_bytes()))?;
        let mut length = word.len();
        if let Some([b' ', b'0'..=b'9', ..]) = self.rest.get(length..) {
            length += 1;
        }
        let (word, rest) = self.rest.split_at(length);
        self.rest = rest;
        Some(Separator::of(word))
    }

    /// A date whose numbers have their words behind them: `2024年3月1日`.
    fn date_with_words(&mut self) -> Option<()> {
        let (year, 4) = self.field()? else { return None };
        let [years, months, days] = DATE_WORDS;
        let before = self.word(years)?;
        let (month, month_digits) = self.field()?;
        let after = self.word(months)?;
        let (day, day_digits) = self.field()?;
        // What stands behind the day is told apart from what joins it with a time.
        let word = days.into_iter().find(|word| self.rest.starts_with(word.as_bytes()))?;
        self.rest = &self.rest[word.len()..];
        if month_digits > 2 || day_digits > 2 {
            return None;
        }
        self.shaped.fields = [year, month, day];
        self.dated([4, month_digits, day_digits], [before, after], None)?;
        if let Some(date) = &mut self.shaped.shape.date {
            date.behind = Separator::of(word.as_bytes());
        }
        Some(())
    }

    /// A name, with the point behind an abbreviation that more than the point separates from what
    /// follows: patterns read names with it and without.
    fn name(&mut self, named: Named) -> Option<(&'v [u8], u8)> {
        let word = words::word(self.rest)?;
        let number = words::number(named, word)?;
        self.rest = &self.rest[word.len()..];
        if let [b'.', b' ' | b',' | b'-' | b'/', ..] = self.rest {
            self.rest = &self.rest[1..];
        }
        Some((word, number))
    }

    /// One, two or four digits: the number, and how many.
    #[inline]
    pub(super) fn field(&mut self) -> Option<(u16, u8)> {
        let digit = |at: usize| self.rest.get(at).map(|b| b.wrapping_sub(b'0')).filter(|d| *d <= 9);
        let a = u16::from(digit(0)?);
        let (number, length) = match digit(1) {
            None => (a, 1),
            Some(b) => match (digit(2), digit(3)) {
                (None, _) => (a * 10 + u16::from(b), 2),
                (Some(c), Some(d)) => {
                    (a * 1000 + u16::from(b) * 100 + u16::from(c) * 10 + u16::from(d), 4)
                }
                (Some(_), None) => return None,
            },
        };
        self.rest = &self.rest[length..];
        // A fifth digit is one too many.
        let is_over = self.rest.first().is_some_and(u8::is_ascii_digit);
        (!is_over).then_some((number, length as u8))
    }

    /// A date that starts with a word: a month, or a weekday and then the rest.
    fn date_of_words(&mut self) -> Option<()> {
        if !words::may_be_name(self.rest) || !self.rest.iter().any(u8::is_ascii_digit) {
            return None;
        }
        let start = *self;
        if self.date_of_month(None).is_some() {
            return Some(());
        }
        *self = start;
        let named = self.name(Named::Weekday)?;
        let separator = self.separator()?;
        self.shaped.weekday = Some(named);
        if self.rest.first()?.is_ascii_digit() {
            self.date(Some(separator))
        } else {
            self.date_of_month(Some(separator))
        }
    }

    /// A date that starts with a number.
    fn date(&mut self, weekday: Option<Separator>) -> Option<()> {
        if let Some(()) = self.compact(weekday) {
            return Some(());
        }
        // Behind four digits only a word for a year starts beyond ASCII.
        if let [a, b, c, d, 0x80..=0xff, ..] = self.rest
            && [a, b, c, d].iter().all(|byte| byte.is_ascii_digit())
            && weekday.is_none()
        {
            return self.date_with_words();
        }
        let (first, first_digits) = self.field()?;
        let before = self.separator()?;
        if let Some((word, month)) = self.name(Named::Month) {
            let after = self.separator()?;
            let (third, third_digits) = self.field()?;
            self.shaped.month_name = word;
            self.shaped.fields = [first, month.into(), third];
            return self.dated([first_digits, 0, third_digits], [before, after], weekday);
        }
        let (second, second_digits) = self.field()?;
        let after = self.separator()?;
        let (third, third_digits) = self.field()?;
        // With a space between them, numbers that may be anything are a date by their year.
        let is_plain = matches!(before.text(), "-" | "/" | "." | ". ");
        let has_year = first_digits == 4 || third_digits == 4;
        if second_digits == 4 || before != after || !(is_plain || has_year) {
            return None;
        }
        self.shaped.fields = [first, second, third];
        self.dated([first_digits, second_digits, third_digits], [before, after], weekday)
    }

    /// Eight digits before a time: year, month and day.
    fn compact(&mut self, weekday: Option<Separator>) -> Option<()> {
        let digits = self.rest.first_chunk::<8>()?;
        if !digits.iter().all(u8::is_ascii_digit)
            || !matches!(self.rest.get(8), Some(b'T' | b't' | b' ' | b'_' | b'-' | b':'))
        {
            return None;
        }
        let number = |range: std::ops::Range<usize>| {
            digits[range].iter().fold(0, |n, byte| n * 10 + u16::from(byte - b'0'))
        };
        self.shaped.fields = [number(0..4), number(4..6), number(6..8)];
        self.rest = &self.rest[8..];
        self.dated([4, 2, 2], [Separator::default(); 2], weekday)
    }

    /// A date that starts with the name of a month.
    fn date_of_month(&mut self, weekday: Option<Separator>) -> Option<()> {
        let (word, month) = self.name(Named::Month)?;
        let before = self.separator()?;
        let (day, day_digits) = self.field()?;
        self.shaped.month_name = word;
        let back = *self;
        let after = self.separator()?;
        let field = self.field();
        // Two digits and a colon are a time: the year stands at the end of the value.
        let (year, year_digits, late_year) = match field {
            Some((year, digits)) if self.rest.first() != Some(&b':') => (year, digits, false),
            _ => {
                *self = back;
                (0, 4, true)
            }
        };
        self.shaped.fields = [month.into(), day, year];
        let after = if late_year { Separator::default() } else { after };
        self.dated([0, day_digits, year_digits], [before, after], weekday)?;
        if let Some(date) = &mut self.shaped.shape.date {
            date.late_year = late_year;
        }
        Some(())
    }

    fn dated(
        &mut self,
        digits: [u8; 3],
        between: [Separator; 2],
        weekday: Option<Separator>,
    ) -> Option<()> {
        self.shaped.shape.date = Some(DateShape {
            digits,
            between,
            weekday,
            behind: Separator::default(),
            late_year: false,
        });
        Some(())
    }

    /// The year of a date whose year stands behind its time.
    fn late_year(&mut self) -> Option<()> {
        if !self.shaped.shape.date.is_some_and(|date| date.late_year) {
            return Some(());
        }
        let separator = self.separator()?;
        let (year, 4) = self.field()? else { return None };
        self.shaped.fields[2] = year;
        if let Some(date) = &mut self.shaped.shape.date {
            date.between[1] = separator;
        }
        Some(())
    }
}
