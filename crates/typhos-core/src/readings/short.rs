//! Short numbers without an exponent, as most are, with all digits read at once.
//!
//! What is read here is what [`parse_number`](super::parse_number) reads; `None` says only that the usual way has to be
//! taken.

use super::number::eight_digits;

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

const ONES: u128 = u128::MAX / 255;

/// The number that `length` bytes of a word are, and where its mark stands: behind them, where there is none.
#[inline(always)]
fn digits_of(word: u128, length: usize) -> Option<(i64, usize)> {
    // The place of the mark: the lowest byte that is zero once all marks are.
    let marks = word ^ (ONES * b'.' as u128);
    let found = marks.wrapping_sub(ONES) & !marks & (ONES * 0x80);
    let mark = (found.trailing_zeros() as usize / 8).min(length);
    // The digits moved together, and up to the end of sixteen, zeros before them.
    let before = if mark < MOST { (1u128 << (8 * mark)) - 1 } else { u128::MAX };
    let digits = word & before | word >> 8 & !before;
    let count = length - usize::from(mark < length);
    let missing = 8 * (MOST - count) as u32;
    let zeros = (ONES * b'0' as u128) & !(u128::MAX.checked_shl(missing).unwrap_or(0));
    let digits = (digits.checked_shl(missing).unwrap_or(0) | zeros).to_le_bytes();
    let (high, low) = digits.split_at(MOST / 2);
    let high = eight_digits(*high.first_chunk()?)?;
    Some((high * 100_000_000 + eight_digits(*low.first_chunk()?)?, mark))
}

/// The bytes of a value of at most sixteen as one word, with zeros behind: two loads that overlap, since copying so few
/// bytes costs more.
#[inline(always)]
fn word_of(value: &[u8]) -> Option<u128> {
    let length = value.len();
    if length > MOST {
        return None;
    }
    if let (Some(first), Some(last)) = (value.first_chunk::<8>(), value.last_chunk::<8>()) {
        let last = u128::from(u64::from_le_bytes(*last)) << (8 * (length - 8));
        return Some(u128::from(u64::from_le_bytes(*first)) | last);
    }
    if let (Some(first), Some(last)) = (value.first_chunk::<4>(), value.last_chunk::<4>()) {
        let last = u64::from(u32::from_le_bytes(*last)) << (8 * (length - 4));
        return Some(u128::from(u64::from(u32::from_le_bytes(*first)) | last));
    }
    Some(value.iter().rev().fold(0, |word, byte| word << 8 | u128::from(*byte)))
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
        let (number, mark) = digits_of(word_of(digits)?, digits.len())?;
        Some(ShortNumber {
            mantissa: if is_negative { -number } else { number },
            scale: digits.len().saturating_sub(mark + 1) as u8,
            whole_digits: whole_digits(first, mark),
        })
    }

    /// Reads the fraction `text[start..end]`: a value with a mark, and no code.
    #[inline(always)]
    pub fn read_fraction(text: &[u8], start: usize, end: usize) -> Option<ShortNumber> {
        let is_negative = text[start] == b'-';
        let start = start + usize::from(is_negative);
        let length = end - start;
        let bytes = text.get(start..)?.first_chunk::<MOST>()?;
        if !(3..=MOST).contains(&length) || !bytes[0].is_ascii_digit() {
            return None;
        }
        let (number, mark) = digits_of(u128::from_le_bytes(*bytes), length)?;
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

    /// As [`read_fraction`](Self::read_fraction), of more bytes, up to eighteen digits, one by one.
    #[inline]
    pub fn read_long_fraction(value: &[u8]) -> Option<ShortNumber> {
        let (is_negative, digits) = match value {
            [b'-', digits @ ..] => (true, digits),
            digits => (false, digits),
        };
        let is_code = matches!(digits, [b'0', b'0'..=b'9', ..]);
        if !(MOST + 1..=LONGEST_SHORT).contains(&digits.len()) || is_code {
            return None;
        }
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
        let number = number as i64;
        Some(ShortNumber {
            mantissa: if is_negative { -number } else { number },
            scale: (digits.len() - mark - 1) as u8,
            whole_digits: whole_digits(digits[0], mark),
        })
    }
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
        fn what_is_read_is_what_was_written(
            value in "-?[0-9]{0,18}|-?[0-9]{0,12}\\.?[0-9]{0,12}|[-+.,0-9e]{0,17}|0{0,15}[.]0{0,15}",
        ) {
            let number = parse_number(value.as_bytes());
            let long = ShortNumber::read_long_fraction(value.as_bytes());
            for read in [ShortNumber::read(value.as_bytes()), fraction(&value), long].into_iter().flatten() {
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
