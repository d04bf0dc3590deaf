//! Short numbers without an exponent, as most are, with all digits read at once.
//!
//! What is read here is what [`parse_number`](super::parse_number) reads; `None` says only that the usual way has to be
//! taken.

use super::number::{eight_digits, number_of_digits};
use crate::bytewise::{self, ZEROS};

/// A number such as `-12.345` or `7`: at most eighteen digits, and maybe a mark among them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ShortNumber {
    /// All digits as one integer, with the sign.
    pub mantissa: i64,
    /// Digits behind the mark.
    pub scale: u8,
    /// Digits before the mark, a lone zero not counted.
    pub whole_digits: u8,
}

/// The longest value without its sign that is read in one step.
const MOST: usize = 16;

/// The longest fraction without its sign that is read one digit after the other: eighteen digits.
pub const LONGEST_SHORT: usize = 19;

/// The lowest byte of a word that is a mark; 8 where none is.
#[inline(always)]
pub(super) fn mark_in(word: u64) -> usize {
    bytewise::first(bytewise::first_zero(word ^ bytewise::all(b'.')))
}

/// A text of at most sixteen bytes, and where points and commas stand in it.
#[derive(Debug, Clone, Copy)]
pub struct Separated<'v> {
    text: &'v [u8],
    words: [u64; 2],
    /// A bit for each byte, the first one lowest.
    pub separators: u32,
}

impl<'v> Separated<'v> {
    /// Looks for them; `None` of a longer text.
    #[inline(always)]
    pub fn read(text: &'v [u8]) -> Option<Separated<'v>> {
        let words = words_of(text)?;
        // Points and commas differ in one bit.
        let in_word = |word: u64| {
            let other = (word & bytewise::all(0xfd)) ^ bytewise::all(b',' & 0xfd);
            bytewise::bits(bytewise::zero(other)) as u32
        };
        let separators = in_word(words[0]) | in_word(words[1]) << 8;
        Some(Separated { text, words, separators })
    }

    /// The number that all other bytes are, if all of them are digits.
    #[inline(always)]
    pub fn number(&self) -> Option<i64> {
        if self.text.len() <= 8 {
            return number_between(self.words[0], self.separators, self.text.len());
        }
        // What stands before the last separator, and behind it: each mostly fits a word, which is faster shifted than two.
        let at = self.separators.checked_ilog2().unwrap_or(0) as usize;
        let behind = self.text.len() - at - 1;
        if (1..=8).contains(&at) && (1..=8).contains(&behind) {
            let before = number_between(self.words[0], self.separators & ((1 << at) - 1), at)?;
            let last = u64::from_le_bytes(*self.text.last_chunk::<8>()?);
            let last = number_of(last >> (64 - 8 * behind as u32), behind)?;
            return Some(before * SHORT_POW10[behind] + last);
        }
        let mut word = u128::from(self.words[0]) | u128::from(self.words[1]) << 64;
        let (mut rest, mut length) = (self.separators, self.text.len());
        while rest != 0 {
            let at = rest.ilog2();
            let before = (1u128 << (8 * at)) - 1;
            word = word & before | word >> 8 & !before;
            (rest, length) = (rest & !(1 << at), length - 1);
        }
        if length == 0 { None } else { number_of_long(word, length) }
    }
}

/// The number that the first `length` bytes of a word are without some of them, a bit each.
#[inline(always)]
fn number_between(mut word: u64, mut without: u32, mut length: usize) -> Option<i64> {
    while without != 0 {
        let at = without.ilog2();
        let before = (1u64 << (8 * at)) - 1;
        word = word & before | word >> 8 & !before;
        (without, length) = (without & !(1 << at), length - 1);
    }
    if length == 0 { None } else { number_of(word, length) }
}

/// The number that the first bytes of a double word are, one to sixteen of them.
#[inline(always)]
fn number_of_long(word: u128, bytes: usize) -> Option<i64> {
    let zeros = u128::from(ZEROS) << 64 | u128::from(ZEROS);
    // Bytes that are missing before the others are zero, which is a digit.
    let digits = (word ^ zeros) << (8 * (MOST - bytes));
    Some(number_of_digits(digits as u64)? * 100_000_000 + number_of_digits((digits >> 64) as u64)?)
}

/// The number that the first bytes of a word are, one to eight of them.
#[inline(always)]
fn number_of(word: u64, bytes: usize) -> Option<i64> {
    debug_assert!((1..=8).contains(&bytes), "a word has eight bytes");
    // Bytes that are missing before the others are zero, which is a digit.
    number_of_digits((word ^ ZEROS) << (64 - 8 * bytes as u32))
}

/// The integer that the first `length` bytes of a word are: up to three digits, as it is usually written.
#[inline(always)]
pub(crate) fn small_integer(word: u32, length: u32) -> Option<u32> {
    /// The smallest number that has so many digits.
    const LEAST: [u32; 4] = [0, 0, 10, 100];
    let least = *LEAST.get(length as usize).filter(|_| length > 0)?;
    // What the digits are, at the upper end; zero, which is a digit, below.
    let digits = (word ^ ZEROS as u32) << (32 - 8 * length);
    let is_digits = !bytewise::is_ten_or_more_among(u64::from(digits));
    // The last byte: ten times the one before it, and itself.
    let tens_and_ones = digits.wrapping_mul(0x0a01) >> 24;
    let number = (digits >> 8 & 0xff) * 100 + tens_and_ones;
    (is_digits && number >= least).then_some(number)
}

/// The number that the first `length` bytes of two words are, and where its mark stands: behind them, where there is
/// none. The mark is neither the first nor the last of them.
#[inline(always)]
fn digits_of([first, second]: [u64; 2], length: usize) -> Option<(i64, usize)> {
    let mark = mark_in(first);
    if mark >= length.min(8) {
        return match length {
            ..=8 => Some((number_of(first, length)?, length)),
            _ => long_digits_of([first, second], length),
        };
    }
    let fraction = length - mark - 1;
    if mark == 0 || fraction == 0 {
        return None;
    }
    if length > MOST_ONE_WORD {
        return long_digits_of([first, second], length);
    }
    // The digits moved together: those behind the mark take its place.
    let before = (1u64 << (8 * mark)) - 1;
    let moved = first >> 8 | second << 56;
    Some((number_of(first & before | moved & !before, length - 1)?, mark))
}

/// Powers of ten that fit 64 bits.
pub const SHORT_POW10: [i64; 19] = {
    let mut powers = [1; 19];
    let mut at = 1;
    while at < powers.len() {
        powers[at] = powers[at - 1] * 10;
        at += 1;
    }
    powers
};

/// The longest number with a mark whose digits fit a word.
const MOST_ONE_WORD: usize = 9;

/// As [`digits_of`], of any whose digits do not fit a word.
#[inline(never)]
fn long_digits_of([first, second]: [u64; 2], length: usize) -> Option<(i64, usize)> {
    let word = u128::from(first) | u128::from(second) << 64;
    let mark = mark_in(first);
    if (1..8).contains(&mark) {
        // Digits before the mark fit a word, and those behind it mostly do, or two.
        let fraction = length - mark - 1;
        let behind = word >> (8 * (mark + 1));
        let behind = match fraction {
            ..=8 => number_of(behind as u64, fraction)?,
            _ => {
                let rest = number_of((behind >> 64) as u64, fraction - 8)?;
                number_of(behind as u64, 8)? * SHORT_POW10[fraction - 8] + rest
            }
        };
        return Some((number_of(first, mark)? * SHORT_POW10[fraction] + behind, mark));
    }
    let mark = if mark == 8 { 8 + mark_in(second) } else { mark }.min(length);
    // The digits moved together, and up to the end of sixteen, zeros before them.
    let before = if mark < MOST { (1u128 << (8 * mark)) - 1 } else { u128::MAX };
    let digits = word & before | word >> 8 & !before;
    Some((number_of_long(digits, length - usize::from(mark < length))?, mark))
}

/// The bytes of a value of at most sixteen as two words, with zeros behind: loads that overlap, since copying so few
/// bytes costs more.
#[inline(always)]
pub(super) fn words_of(value: &[u8]) -> Option<[u64; 2]> {
    let length = value.len();
    if let (Some(first), Some(last)) = (value.first_chunk::<8>(), value.last_chunk::<8>()) {
        if length > MOST {
            return None;
        }
        let missing = 8 * (MOST - length) as u32;
        let last = u64::from_le_bytes(*last).checked_shr(missing).unwrap_or(0);
        return Some([u64::from_le_bytes(*first), last]);
    }
    if let (Some(first), Some(last)) = (value.first_chunk::<4>(), value.last_chunk::<4>()) {
        let last = u64::from(u32::from_le_bytes(*last)) << (8 * (length - 4));
        return Some([u64::from(u32::from_le_bytes(*first)) | last, 0]);
    }
    Some([value.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte)), 0])
}

/// Reads the integer `text[start..end]`: up to nineteen digits, and maybe a minus.
#[inline(always)]
pub fn integer_within(text: &[u8], start: usize, end: usize) -> Option<i64> {
    let is_negative = text[start] == b'-';
    let start = start + usize::from(is_negative);
    let length = end - start;
    let bytes = text.get(start..)?.first_chunk::<MOST>()?;
    let (words, _) = bytes.as_chunks::<8>();
    let (first, second) = (u64::from_le_bytes(words[0]), u64::from_le_bytes(words[1]));
    let number = match length {
        1..=8 => number_of(first, length)?,
        9..=16 => number_of(first, 8)? * SHORT_POW10[length - 8] + number_of(second, length - 8)?,
        17..=19 => {
            let sixteen = number_of(first, 8)? * 100_000_000 + number_of(second, 8)?;
            let rest = &text[start + MOST..end];
            rest.iter().try_fold(sixteen, |number, byte| {
                let digit = Some(byte.wrapping_sub(b'0')).filter(|digit| *digit < 10)?;
                number.checked_mul(10)?.checked_add(digit.into())
            })?
        }
        _ => return None,
    };
    Some(if is_negative { -number } else { number })
}

impl ShortNumber {
    /// Reads a value of up to sixteen bytes: digits, and maybe a mark with digits on both sides.
    #[inline(always)]
    pub fn read(value: &[u8]) -> Option<ShortNumber> {
        let (is_negative, digits) = match value {
            [b'-', digits @ ..] => (true, digits),
            digits => (false, digits),
        };
        let (first, last) = (*digits.first()?, *digits.last()?);
        if !first.is_ascii_digit() || !last.is_ascii_digit() {
            return None;
        }
        let (number, mark) = digits_of(words_of(digits)?, digits.len())?;
        Some(ShortNumber {
            mantissa: if is_negative { -number } else { number },
            scale: digits.len().saturating_sub(mark + 1) as u8,
            whole_digits: whole_digits(first, mark),
        })
    }

    /// Reads the fraction `text[start..end]`: a value with a mark, up to eighteen digits, and no code.
    #[inline(always)]
    pub fn read_fraction(text: &[u8], start: usize, end: usize) -> Option<ShortNumber> {
        ShortNumber::short_fraction(text, start, end)
            .or_else(|| ShortNumber::long_fraction(&text[start..end]))
    }

    /// The same, of at most sixteen bytes without the sign.
    #[inline(always)]
    fn short_fraction(text: &[u8], start: usize, end: usize) -> Option<ShortNumber> {
        let is_negative = text[start] == b'-';
        let start = start + usize::from(is_negative);
        let length = end - start;
        let bytes = text.get(start..)?.first_chunk::<MOST>()?;
        if !(3..=MOST).contains(&length) || !bytes[0].is_ascii_digit() {
            return None;
        }
        let (words, _) = bytes.as_chunks::<8>();
        let words = [u64::from_le_bytes(words[0]), u64::from_le_bytes(words[1])];
        let (number, mark) = digits_of(words, length)?;
        let is_code = mark > 1 && bytes[0] == b'0';
        if mark + 2 > length || is_code {
            return None;
        }
        Some(ShortNumber {
            mantissa: if is_negative { -number } else { number },
            scale: (length - mark - 1) as u8,
            whole_digits: whole_digits(bytes[0], mark),
        })
    }

    /// The same, of more bytes. Not inlined, since what loops over shorter ones needs its registers.
    #[inline(never)]
    fn long_fraction(value: &[u8]) -> Option<ShortNumber> {
        let (is_negative, digits) = match value {
            [b'-', digits @ ..] => (true, digits),
            digits => (false, digits),
        };
        let is_code = matches!(digits, [b'0', b'0'..=b'9', ..]);
        if !(MOST + 1..=LONGEST_SHORT).contains(&digits.len()) || is_code {
            return None;
        }
        let first = u64::from_le_bytes(*digits.first_chunk()?);
        let (number, mark) = match mark_in(first) {
            0 => return None,
            mark @ 1..8 => {
                let (_, fraction) = digits.split_at(mark + 1);
                let whole = number_of(first, mark)?;
                (whole * SHORT_POW10[fraction.len()] + long_number(fraction)?, mark)
            }
            _ => one_by_one(digits)?,
        };
        Some(ShortNumber {
            mantissa: if is_negative { -number } else { number },
            scale: (digits.len() - mark - 1) as u8,
            whole_digits: whole_digits(digits[0], mark),
        })
    }
}

/// The number that nine to seventeen digits are.
#[inline(always)]
fn long_number(digits: &[u8]) -> Option<i64> {
    let (rest, last) = digits.split_last_chunk::<8>()?;
    let last = eight_digits(*last)?;
    let rest = match rest.split_last_chunk::<8>() {
        Some((first, high)) => {
            let first = match first {
                [] => 0,
                [digit @ b'0'..=b'9'] => i64::from(digit - b'0'),
                _ => return None,
            };
            first * 100_000_000 + eight_digits(*high)?
        }
        // Of fewer than eight those behind them are pushed out.
        None => number_of(u64::from_le_bytes(*digits.first_chunk()?), rest.len())?,
    };
    Some(rest * 100_000_000 + last)
}

/// All digits of a text as a number, and where the one mark among them stands.
#[inline(never)]
fn one_by_one(digits: &[u8]) -> Option<(i64, usize)> {
    // Nineteen digits fit too, where there is no mark among them.
    let (mut number, mut mark) = (0u64, None);
    for (at, byte) in digits.iter().enumerate() {
        match byte {
            b'0'..=b'9' => number = number * 10 + u64::from(byte - b'0'),
            b'.' if mark.is_none() && at > 0 => mark = Some(at),
            _ => return None,
        }
    }
    let mark = mark.filter(|mark| mark + 1 < digits.len())?;
    Some((number as i64, mark))
}

/// Digits before the mark at a place, where the first byte is this one.
#[inline(always)]
fn whole_digits(first: u8, mark: usize) -> u8 {
    if first == b'0' { 0 } else { mark as u8 }
}

#[cfg(test)]
mod tests {
    use super::super::parse_number;
    use super::*;
    use proptest::prelude::*;

    fn fraction(value: &str) -> Option<ShortNumber> {
        let text = format!("{value},{}", "x".repeat(20));
        ShortNumber::read_fraction(text.as_bytes(), 0, value.len())
    }

    #[test]
    fn fractions_are_told_from_anything_else() {
        for (value, mantissa, scale, whole_digits) in [
            ("0.5", 5, 1, 0),
            ("-0.05", -5, 2, 0),
            ("12.345", 12345, 3, 2),
            ("123456789012.345", 123_456_789_012_345, 3, 12),
            ("-1.23456789012345", -123_456_789_012_345, 14, 1),
            ("0.00000000000000", 0, 14, 0),
        ] {
            assert_eq!(
                fraction(value),
                Some(ShortNumber { mantissa, scale, whole_digits }),
                "{value}"
            );
        }
        for value in ["5", "5.", ".5", "1.2.3", "00.5", "-.5", "1e5", "1,5", "abc", "+1.5", "1.5 "]
        {
            assert_eq!(fraction(value), None, "{value}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        #[test]
        fn digits_are_read_without_separators(text in "[0-9]{0,10}([.,][0-9]{0,6}){0,4}|[.,0-9]{0,17}|[ -~]{0,16}") {
            let Some(separated) = Separated::read(text.as_bytes()) else {
                prop_assert!(text.len() > MOST);
                return Ok(());
            };
            let is_separator = |byte: u8| matches!(byte, b'.' | b',');
            let found = text.bytes().rev().fold(0, |bits, byte| bits << 1 | u32::from(is_separator(byte)));
            prop_assert_eq!(separated.separators, found);
            let digits: String = text.chars().filter(|char| !matches!(char, '.' | ',')).collect();
            let number = digits.parse::<i64>().ok().filter(|_| digits.bytes().all(|byte| byte.is_ascii_digit()));
            let is_usual = text.as_bytes().first().is_some_and(|byte| !is_separator(*byte));
            let read = separated.number();
            prop_assert!(read == number || read.is_none() && !is_usual, "{:?}", read);
        }

        #[test]
        fn what_is_read_is_what_was_written(
            value in "-?[0-9]{0,18}|-?[0-9]{0,12}\\.?[0-9]{0,12}|[-+.,0-9e]{0,17}|0{0,15}[.]0{0,15}",
        ) {
            let number = parse_number(value.as_bytes());
            for read in [ShortNumber::read(value.as_bytes()), fraction(&value)].into_iter().flatten() {
                let number = number.unwrap();
                prop_assert_eq!((i128::from(read.mantissa), read.scale), (number.mantissa, number.scale));
                prop_assert!(!number.plus && number.exponent.is_none());
                if !number.leading_zero {
                    prop_assert_eq!(read.whole_digits, number.whole_digits);
                }
            }
            // Usual numbers are read.
            let digits = value.strip_prefix('-').unwrap_or(&value);
            let parts: Vec<&str> = digits.split('.').collect();
            let is_usual = parts.len() <= 2 && digits.len() <= 16
                && parts.iter().all(|part| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit()));
            prop_assert_eq!(ShortNumber::read(value.as_bytes()).is_some(), is_usual, "{}", value);
        }
    }
}
