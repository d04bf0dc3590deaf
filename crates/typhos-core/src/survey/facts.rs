//! Facts about the values of a column: counts per class, and what each class has to say. Every part
//! merges in any order.

use serde::{Deserialize, Serialize};

use super::class::{CLASSES, Class};
use super::example::Tally;
use super::numbers::{FLOAT32_SURE, wide_width_of, width_of};
use super::written::written;
use super::{DateFacts, LengthFacts, NumberFacts, TextFacts, WIDTHS, WrittenFacts};
use crate::dates::{days_in_month, read_shape};
use crate::readings::{self, BOOL_PAIRS, COMPACT_DAYS, TOKENS};
use crate::text::LineRef;

/// Whether nothing but a text starts with a byte, known words left out.
#[inline(always)]
pub(super) fn is_only_text(first: u8) -> bool {
    matches!(
        first,
        b'/' | b'_'
            | b'#'
            | b'@'
            | b'!'
            | b'*'
            | b'<'
            | b'>'
            | b'='
            | b'?'
            | b';'
            | b'"'
            | b'\\'
            | b'^'
            | b'`'
            | b'|'
            | b'~'
            | b'&'
    )
}

/// A tally for each class, and for integers one for each of [`WIDTHS`] in place of their own.
const TALLIES: usize = CLASSES.len() + WIDTHS.len();

/// Facts about the values of one column.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Facts {
    /// Fields with nothing in them but white space.
    pub blank: u64,
    /// How often each text was seen that was said to mean "no value".
    pub said: Vec<(String, u64)>,
    /// Whether no other text means it, well-known tokens neither.
    pub(super) said_all: bool,
    pub(super) tallies: [Tally; TALLIES],
    /// How often each of [`TOKENS`] was seen.
    pub tokens: [u64; TOKENS.len()],
    /// How often each word of [`BOOL_PAIRS`] was seen: false, true.
    pub bools: [[u64; 2]; BOOL_PAIRS.len()],
    /// Values as texts, tokens included.
    pub text: TextFacts,
    /// Dates and times by shape.
    pub dates: DateFacts,
    /// Eight-digit integers that are days between 1900 and 2100.
    pub compact_days: u64,
    /// Fourteen-digit integers that are such days and times of day.
    pub compact_times: u64,
    /// Numbers that are written plainly.
    pub numbers: NumberFacts,
    /// Numbers that are not, where there are any.
    pub written: Option<Box<WrittenFacts>>,
    /// Values of [`Class::Written`] that are points as well.
    pub written_points: u64,
    /// Values of [`Class::Written`] that are network addresses as well.
    pub written_ips: u64,
    /// UUIDs without hyphens.
    pub bare_uuids: u64,
    /// Those of them that are numbers or codes by their class.
    pub digit_uuids: u64,
    /// Numbers of [`Class::Exponent`] that are whole digits, an E and whole digits.
    pub bare_exponents: u64,
    /// Values of [`Class::Length`].
    pub lengths: LengthFacts,
    /// Numbers, by their digits, of more of these than are taken apart; they are texts.
    pub giants: Tally,
    /// The integer that the value added last was, if it was a small one.
    #[serde(skip)]
    pub(super) last_integer: Option<i64>,
}

impl Facts {
    /// No values yet, in a column where these texts mean "no value", and no others if `is_all`.
    pub(super) fn new(said: &[String], is_all: bool, cells: usize) -> Facts {
        let said = said.iter().filter(|text| !text.is_empty());
        Facts {
            numbers: NumberFacts::with_most(cells),
            said_all: is_all,
            said: said.map(|text| (text.clone(), 0)).collect(),
            ..Facts::default()
        }
    }

    /// Values of a class.
    pub fn count(&self, class: Class) -> u64 {
        match class {
            Class::Integer => self.widths().iter().map(|tally| tally.count).sum(),
            _ => self.tallies[class as usize].count,
        }
    }

    /// Values of some classes, and the first distinct ones of them.
    pub fn tally(&self, classes: &[Class]) -> Tally {
        let of = |class: &Class| match class {
            Class::Integer => self.widths(),
            _ => std::slice::from_ref(&self.tallies[*class as usize]),
        };
        Tally::first_of(classes.iter().flat_map(of))
    }

    /// Integers of each of [`WIDTHS`].
    pub fn widths(&self) -> &[Tally] {
        &self.tallies[CLASSES.len()..]
    }

    /// Values that are neither blank nor one of the tokens.
    pub fn plain_count(&self) -> u64 {
        let tokens = self.tallies[Class::Token as usize].count;
        self.tallies.iter().map(|tally| tally.count).sum::<u64>() - tokens
    }

    /// Adds one value, seen `count` times, first at `place`. A blank one is a text: where blank means
    /// "no value", none comes here.
    #[inline]
    pub(super) fn add(&mut self, value: &[u8], count: u64, place: LineRef) {
        if std::str::from_utf8(value).is_ok() {
            self.add_trimmed(value, readings::trim(value), count, place);
        } else {
            self.add_malformed(value, count, place);
        }
    }

    /// As [`add`](Self::add), of a valid text: what all faster ways are held against.
    #[cfg(test)]
    pub(super) fn add_valid(&mut self, value: &[u8], count: u64, place: LineRef) {
        self.add_trimmed(value, readings::trim(value), count, place);
    }

    /// As [`add`](Self::add) of a valid text, where what is left of it without white space is known.
    #[inline(always)]
    pub(super) fn add_trimmed(&mut self, value: &[u8], trimmed: &[u8], count: u64, place: LineRef) {
        self.last_integer = None;
        if !self.said.is_empty()
            && let Some((_, seen)) =
                self.said.iter_mut().find(|(text, _)| text.as_bytes() == trimmed)
        {
            *seen += count;
            return;
        }
        self.text.add(value, count);
        if trimmed.is_empty() {
            self.tallies[Class::Text as usize].add(value, count, place);
            return;
        }
        if trimmed.len() != value.len() {
            self.text.padded += count;
        }
        let tally = self.classify(trimmed, count, place);
        self.tallies[tally].add(value, count, place);
    }

    /// Adds one value that is not valid in the encoding.
    #[cold]
    pub(super) fn add_malformed(&mut self, value: &[u8], count: u64, place: LineRef) {
        self.text.add(value, count);
        self.tallies[Class::Malformed as usize].add(value, count, place);
    }

    /// Takes note of what a value is, and says which tally it belongs to.
    #[inline]
    fn classify(&mut self, value: &[u8], count: u64, place: LineRef) -> usize {
        // Nothing else that is anything has hyphens at these places.
        if readings::is_plain_uuid(value) {
            return Class::Uuid as usize;
        }
        self.last_integer = readings::parse_integer(value);
        if let Some(number) = self.last_integer {
            let digits = value.strip_prefix(b"-").unwrap_or(value);
            if digits.len() > 1 && digits[0] == b'0' {
                return Class::Code as usize;
            }
            let is_code = self.tallies[Class::Code as usize].count > 0;
            self.numbers.add_small(number, count, is_code);
            if number.abs() > FLOAT32_SURE {
                self.large_integer(value, number, count, place);
            }
            return CLASSES.len() + width_of(number);
        }
        match value[0] {
            b'0'..=b'9' | b'+' | b'-' | b'.' => self.classify_number(value, count, place),
            _ => self.classify_word(value, count, place) as usize,
        }
    }

    #[inline(never)]
    fn large_integer(&mut self, value: &[u8], number: i64, count: u64, place: LineRef) {
        if value.len() == 8 && COMPACT_DAYS.contains(&number) {
            let (year, month, day) = (number / 10_000, number / 100 % 100, number % 100);
            let exists = (1..=12).contains(&month)
                && (1..=i64::from(days_in_month(year as i32, month as u32))).contains(&day);
            self.compact_days += if exists { count } else { 0 };
        }
        if value.len() == 14 {
            let (day, time) = (number / 1_000_000, number % 1_000_000);
            let (year, month, of_month) = (day / 10_000, day / 100 % 100, day % 100);
            let exists = COMPACT_DAYS.contains(&day)
                && (1..=12).contains(&month)
                && (1..=i64::from(days_in_month(year as i32, month as u32))).contains(&of_month)
                && time / 10_000 < 24
                && time / 100 % 100 < 60
                && time % 100 < 60;
            self.compact_times += if exists { count } else { 0 };
        }
        self.numbers.large_integer(value, number, place);
    }

    fn classify_word(&mut self, value: &[u8], count: u64, place: LineRef) -> Class {
        if let Some(token) = readings::token(value)
            && !self.said_all
        {
            self.tokens[token] += count;
            return Class::Token;
        }
        if let Some((pair, says)) = readings::bool_word(value) {
            self.bools[pair][usize::from(says)] += count;
            return Class::Bool;
        }
        if is_only_text(value[0]) {
            return Class::Text;
        }
        self.classify_form(value, count, place)
    }

    /// What is neither a plain number nor a known word. Nearly all of these are texts, and nearly every
    /// test says so by a byte or two.
    #[inline]
    fn classify_form(&mut self, value: &[u8], count: u64, place: LineRef) -> Class {
        if (value[0].is_ascii_alphabetic() || value[0] >= 0x80)
            && let Some(shaped) = read_shape(value)
        {
            self.dates.add(&shaped, value, count, place);
            return Class::Date;
        }
        // The first and last byte of numbers in any clothes: digits, signs, parentheses, letters of a
        // currency beside a digit, or the start of something longer than a byte.
        let (first, last) = (value[0], value[value.len() - 1]);
        let is_edge = |byte: u8| byte.is_ascii_digit() || matches!(byte, b'-' | b'+' | b'(' | b')');
        if (is_edge(first) || is_edge(last) || first == 0xe2)
            && let Some(written) = written(value)
        {
            self.written_points += if readings::point(value).is_some() { count } else { 0 };
            self.written_ips += if readings::is_ip(value) { count } else { 0 };
            self.written.get_or_insert_default().add(&written, value, count, place);
            return Class::Written;
        }
        if value.len() == 32 {
            // As many digits of a checksum are none, unless they say so.
            if readings::is_bare_uuid(value) {
                self.bare_uuids += count;
                return Class::Uuid;
            }
        } else if readings::uuid(value).is_some() {
            self.bare_uuids += if value.len() == 34 { count } else { 0 };
            return Class::Uuid;
        }
        if let Some(length) = readings::length(value) {
            self.lengths.add(length, value, count);
            return Class::Length;
        }
        match first {
            b'{' | b'[' if readings::is_json(value) => return Class::Json,
            b'0'..=b'9' | b'a'..=b'f' | b'A'..=b'F' | b':' if readings::is_ip(value) => {
                return Class::Ip;
            }
            b'0'..=b'9' | b'+' | b'-' | b'.' if readings::point(value).is_some() => {
                return Class::Geopoint;
            }
            b'i' | b'I' | b'+' | b'-' => {
                if let Some(infinity) = readings::infinity(value) {
                    self.numbers.add_float(infinity, count);
                    return Class::Infinite;
                }
            }
            _ => {}
        }
        Class::Text
    }

    fn classify_number(&mut self, value: &[u8], count: u64, place: LineRef) -> usize {
        if value.len() == 32 && readings::is_bare_uuid(value) {
            // Where these are numbers too, the column tells what they are.
            let class = self.classify_digits(value, count, place);
            self.bare_uuids += count;
            self.digit_uuids += if class == Class::Uuid as usize { 0 } else { count };
            return class;
        }
        self.classify_digits(value, count, place)
    }

    fn classify_digits(&mut self, value: &[u8], count: u64, place: LineRef) -> usize {
        let Some(number) = readings::parse_number(value) else {
            if readings::is_plain_ip(value) {
                return Class::Ip as usize;
            }
            if readings::is_giant(value) {
                self.giants.add(value, count, place);
                return Class::Text as usize;
            }
            return match read_shape(value) {
                Some(shaped) => {
                    self.dates.add(&shaped, value, count, place);
                    Class::Date as usize
                }
                None => self.classify_word(value, count, place) as usize,
            };
        };
        if number.leading_zero {
            return Class::Code as usize;
        }
        self.numbers.add(&number, value, count, place);
        if number.exponent.is_some() {
            let is_bare = value.iter().all(|byte| byte.is_ascii_digit() || *byte | 0x20 == b'e');
            self.bare_exponents += if is_bare { count } else { 0 };
            Class::Exponent as usize
        } else if number.marked {
            Class::Decimal as usize
        } else if number.plus {
            Class::Signed as usize
        } else {
            CLASSES.len() + wide_width_of(number.mantissa)
        }
    }

    /// A copy that knows nothing of how numbers are spread, and learns nothing of it.
    pub(super) fn clone_without_spread(&self) -> Facts {
        Facts {
            numbers: self.numbers.clone_without_spread(),
            tallies: self.tallies.clone(),
            text: self.text.clone(),
            dates: self.dates.clone(),
            said: self.said.clone(),
            written: self.written.clone(),
            giants: self.giants.clone(),
            ..*self
        }
    }

    /// Drops what is not whole, and so would depend on the order of the values.
    pub(super) fn settle(&mut self) {
        self.last_integer = None;
        if self.count(Class::Code) > 0 {
            self.numbers.spread = Default::default();
        }
    }

    /// Works out again what is not saved.
    pub(super) fn restore(&mut self) {
        self.text.restore();
    }

    /// Gives the files of all places other numbers.
    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        self.tallies.iter_mut().for_each(|tally| tally.move_places(new));
        self.dates.move_places(new);
        self.numbers.move_places(new);
        self.written.iter_mut().for_each(|written| written.move_places(new));
        self.giants.move_places(new);
    }

    /// All values and blanks counted; `None` where that is more than there can be.
    pub(super) fn total(&self) -> Option<u64> {
        let tallies = self.tallies.iter().map(|tally| tally.count);
        let said = self.said.iter().map(|(_, count)| *count);
        tallies.chain(said).try_fold(self.blank, u64::checked_add)
    }

    /// Whether every count is at most `most`, so that no sum of a few of them overflows.
    pub(super) fn is_sound(&self, most: u64) -> bool {
        let bools = self.bools.as_flattened().iter();
        let shapes = self.dates.counts();
        let scales = self.numbers.scales.values().map(|tally| tally.count);
        let written = self.written.iter().flat_map(|written| written.counts());
        let others = [
            self.compact_days,
            self.compact_times,
            self.text.count,
            self.text.padded,
            self.written_points,
            self.written_ips,
            self.bare_uuids,
            self.digit_uuids,
            self.bare_exponents,
            self.giants.count,
            self.numbers.float32_losses.count,
            self.numbers.as_groups.map_or(0, |(count, ..)| count),
        ];
        let counts = self.tokens.iter().chain(bools).chain(&self.lengths.kinds).copied();
        let counts = counts.chain(shapes).chain(scales).chain(written).chain(others);
        counts.into_iter().all(|count| count <= most) && self.text.bytes <= u64::MAX >> 8
    }

    pub(super) fn merge(&mut self, other: Facts) {
        self.blank += other.blank;
        for (text, count) in other.said {
            match self.said.iter_mut().find(|(known, _)| *known == text) {
                Some((_, known)) => *known += count,
                None => self.said.push((text, count)),
            }
        }
        for (ours, theirs) in self.tallies.iter_mut().zip(other.tallies) {
            ours.merge(theirs);
        }
        let add = |ours: &mut [u64], theirs: &[u64]| {
            ours.iter_mut().zip(theirs).for_each(|(a, b)| *a += b)
        };
        add(&mut self.tokens, &other.tokens);
        self.lengths.merge(&other.lengths);
        add(self.bools.as_flattened_mut(), other.bools.as_flattened());
        self.text.merge(other.text);
        self.dates.merge(other.dates);
        self.compact_days += other.compact_days;
        self.compact_times += other.compact_times;
        self.numbers.merge(other.numbers);
        self.written_points += other.written_points;
        self.written_ips += other.written_ips;
        self.bare_uuids += other.bare_uuids;
        self.digit_uuids += other.digit_uuids;
        self.bare_exponents += other.bare_exponents;
        self.giants.merge(other.giants);
        match (&mut self.written, other.written) {
            (Some(ours), Some(theirs)) => ours.merge(*theirs),
            (ours, theirs) => *ours = ours.take().or(theirs),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::{
        bool_word, is_giant, is_ip, parse_integer, parse_number, point, token, uuid,
    };
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]

        /// What is told first, because it is told cheaply, is nothing that would have been told before it otherwise.
        #[test]
        fn what_is_told_first_is_nothing_else(
            value in prop_oneof![
                3 => "[0-9]{1,3}\\.[0-9]{1,3}\\.[0-9]{1,3}\\.[0-9]{1,3}",
                1 => any::<std::net::Ipv4Addr>().prop_map(|ip| ip.to_string()),
                1 => any::<std::net::Ipv6Addr>().prop_map(|ip| ip.to_string()),
                2 => "[0-9a-f:]{2,12}(:[0-9a-fA-F]{1,4}){0,7}|(fe|dec|feb)80::[0-9]{1,3}",
                2 => "[0-9]{1,4}:[0-5][0-9](:[0-5][0-9]([.,][0-9]{1,9})?)?",
                2 => "-?[0-9]{1,3}[.][0-9]{3,9},[ ]?-?[0-9]{1,3}[.][0-9]{3,9}",
                2 => "[0-9]{8}-[0-9]{4}-[0-9]{4}-[0-9]{4}-[0-9]{12}",
                2 => "(19|20)[0-9]{6}-[0-2][0-9]{3}-[0-9a-f]{4}-[0-9A-F]{4}-[0-9a-f]{12}",
            ],
        ) {
            let value = value.as_bytes();
            let is_uuid = value.len() == 36 && uuid(value).is_some();
            let is_address = readings::is_only_ip(value);
            let is_length = readings::is_only_length(value);
            let is_point = readings::is_only_point(value);
            if is_uuid || is_address || is_length || is_point {
                prop_assert!(parse_integer(value).is_none() && parse_number(value).is_none());
                prop_assert!(!is_giant(value) && read_shape(value).is_none() && written(value).is_none());
                prop_assert!(token(value).is_none() && bool_word(value).is_none());
            }
            if is_address {
                prop_assert!(is_ip(value) && uuid(value).is_none() && point(value).is_none());
                prop_assert!(readings::length(value).is_none());
            }
            if is_length {
                prop_assert_eq!(readings::length(value), Some(readings::Length::Clock));
                prop_assert!(!is_ip(value) && uuid(value).is_none() && point(value).is_none());
            }
            if is_point {
                prop_assert!(!is_ip(value) && uuid(value).is_none() && point(value).is_some());
                prop_assert!(readings::length(value).is_none());
            }
            // And what is not told first is told later, or last: no number in groups starts with a zero.
            let is_last = value.starts_with(b"0.");
            let is_known = is_address || is_last || written(value).is_some() || !is_ip(value);
            prop_assert!(is_known, "{}", value.escape_ascii());
        }
    }

    proptest::proptest! {
        #[test]
        fn what_only_texts_start_with_starts_nothing_else(first in 0u8..128, rest in "[ -~]{0,12}|[0-9.,:/-]{1,12}|[$€%]?[0-9]{1,4}") {
            if is_only_text(first) {
                let value = [&[first], rest.as_bytes()].concat();
                let value = readings::trim(&value);
                let is_number = readings::parse_number(value).is_some() || written(value).is_some();
                let is_time = read_shape(value).is_some() || readings::length(value).is_some();
                let is_other = readings::uuid(value).is_some() || readings::is_bare_uuid(value) || readings::is_json(value)
                    || readings::is_ip(value) || readings::point(value).is_some() || readings::infinity(value).is_some();
                proptest::prop_assert!(!is_number && !is_time && !is_other, "{}", value.escape_ascii());
            }
        }
    }
}
