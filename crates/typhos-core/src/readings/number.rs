//! Numbers as they are written: sign, digits, mark, fraction, exponent.
//!
//! The mark is `.` and digits are not grouped. What a number is *worth storing as* is decided over a
//! whole column, by `infer`; here it is only taken apart, exactly.

use std::cmp::Ordering;

use crate::bytewise::{self, ZEROS};

/// The most digits that a number is taken apart exactly to: those of `decimal(38,S)`.
pub const MAX_DIGITS: u32 = 38;

/// Numbers of eight digits that may be days, as year, month and day: those from 1900 to 2100.
pub const COMPACT_DAYS: std::ops::RangeInclusive<i64> = 19_000_101..=21_001_231;

/// Powers of ten that fit `i128`.
pub const POW10: [i128; 39] = {
    let mut powers = [1i128; 39];
    let mut at = 1;
    while at < powers.len() {
        powers[at] = powers[at - 1] * 10;
        at += 1;
    }
    powers
};

/// Powers of ten that a double has exactly.
pub const EXACT_POW10: [f64; 23] = [
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16,
    1e17, 1e18, 1e19, 1e20, 1e21, 1e22,
];

/// A number as it is written: `±mantissa × 10^(exponent - scale)`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Number {
    /// All digits as one integer, with the sign.
    pub mantissa: i128,
    /// Digits after the mark.
    pub scale: u8,
    /// Digits before the mark, a lone leading zero not counted.
    pub whole_digits: u8,
    /// Whether there is a mark (`1.` has one and no fraction).
    pub marked: bool,
    /// Whether a `+` stands in front.
    pub plus: bool,
    /// Whether digits follow a leading zero, as in codes: `007`.
    pub leading_zero: bool,
    /// The exponent, where one is written.
    pub exponent: Option<i32>,
}

/// Adds the digits from a place on to a number, eight at a time; says where they end. Of more than fit it is any number.
#[inline(always)]
fn run_of_digits(value: &[u8], mut at: usize, number: &mut u64) -> usize {
    while let Some(eight) = value.get(at..).and_then(<[u8]>::first_chunk)
        && let Some(digits) = eight_digits(*eight)
    {
        *number = number.wrapping_mul(100_000_000).wrapping_add(digits.cast_unsigned());
        at += 8;
    }
    while let Some(byte @ b'0'..=b'9') = value.get(at) {
        *number = number.wrapping_mul(10).wrapping_add(u64::from(byte - b'0'));
        at += 1;
    }
    at
}

/// The most digits, zeros in front included, that are read as one integer of 64 bits.
const MOST_SMALL: usize = 19;

/// Takes a number apart. `None` where `value` is not a number, or one of more than 38 digits.
pub fn parse_number(value: &[u8]) -> Option<Number> {
    let (negative, plus, start) = match value.first()? {
        b'-' => (true, false, 1),
        b'+' => (false, true, 1),
        _ => (false, false, 0),
    };
    let mut small = 0;
    let mark = run_of_digits(value, start, &mut small);
    let written = mark - start;
    let marked = value.get(mark) == Some(&b'.');
    let end = if marked { run_of_digits(value, mark + 1, &mut small) } else { mark };
    let scale = end - mark - usize::from(marked);
    if written + scale == 0 || scale > MAX_DIGITS as usize {
        return None;
    }
    // Zeros in front are no digits of the number.
    let zeros = |digits: &[u8]| digits.iter().take_while(|byte| **byte == b'0').count();
    let whole_digits = written - zeros(&value[start..mark]);
    let mantissa = if written + scale <= MOST_SMALL {
        i128::from(small)
    } else {
        let significant = match whole_digits {
            0 => scale - zeros(&value[end - scale..end]),
            whole => whole + scale,
        };
        if significant > MAX_DIGITS as usize {
            return None;
        }
        let digits = value[start..mark].iter().chain(&value[end - scale..end]);
        digits.fold(0, |wide, byte| wide * 10 + i128::from(byte - b'0'))
    };
    let exponent = match value.get(end) {
        None => None,
        Some(b'e' | b'E') => Some(exponent(&value[end + 1..])?),
        Some(_) => return None,
    };
    Some(Number {
        mantissa: if negative { -mantissa } else { mantissa },
        scale: scale as u8,
        whole_digits: whole_digits as u8,
        marked,
        plus,
        leading_zero: written > 1 && value[start] == b'0',
        exponent,
    })
}

/// An exponent: a sign at most, and up to six digits.
#[inline]
fn exponent(text: &[u8]) -> Option<i32> {
    let (is_negative, digits) = match text {
        [b'-', digits @ ..] => (true, digits),
        [b'+', digits @ ..] => (false, digits),
        digits => (false, digits),
    };
    if !(1..=6).contains(&digits.len()) || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let number = digits.iter().fold(0, |number, byte| number * 10 + i32::from(byte - b'0'));
    Some(if is_negative { -number } else { number })
}

/// Whether a value is a number by its looks, a sign at most, digits and maybe a mark, and has more digits
/// than [`parse_number`] takes apart.
pub fn is_giant(value: &[u8]) -> bool {
    if value.len() <= MAX_DIGITS as usize {
        return false;
    }
    let unsigned = value.strip_prefix(b"-").or_else(|| value.strip_prefix(b"+")).unwrap_or(value);
    let mut parts = unsigned.splitn(2, |byte| *byte == b'.');
    parts.all(|part| !part.is_empty() && part.iter().all(u8::is_ascii_digit))
}

/// Reads an integer of at most 18 digits with an optional `-`: the short way for most columns.
///
/// `None` says only that the long way has to be taken.
#[inline(always)]
pub fn parse_integer(value: &[u8]) -> Option<i64> {
    let (negative, digits) = match value {
        [b'-', digits @ ..] => (true, digits),
        digits => (false, digits),
    };
    if digits.is_empty() || digits.len() > 18 {
        return None;
    }
    let (mut number, digits) = match (digits.split_first_chunk::<8>(), four_to_seven(digits)) {
        (Some((eight, rest)), _) => (eight_digits(*eight)?, rest),
        (None, Some(padded)) => (eight_digits(padded)?, &[][..]),
        (None, None) => (0, digits),
    };
    for byte in digits {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        number = number * 10 + i64::from(digit);
    }
    Some(if negative { -number } else { number })
}

/// Four to seven bytes as eight, with zeros (the digits) before them: two loads that overlap.
#[inline]
fn four_to_seven(digits: &[u8]) -> Option<[u8; 8]> {
    let (first, last) = (digits.first_chunk::<4>()?, digits.last_chunk::<4>()?);
    let missing = 8 * 8usize.checked_sub(digits.len())? as u32;
    let high = u64::from(u32::from_le_bytes(*last)) << 32;
    let low = (u64::from(u32::from_le_bytes(*first)) << missing) & 0xffff_ffff;
    let zeros = ZEROS & ((1u64 << missing) - 1);
    Some((high | low | zeros).to_le_bytes())
}

/// The number that eight digits say, all at once.
#[inline(always)]
pub fn eight_digits(bytes: [u8; 8]) -> Option<i64> {
    number_of_digits(u64::from_le_bytes(bytes) ^ ZEROS)
}

/// The number that eight digits say, given what each byte is but for [`ZEROS`], the first one lowest; `None` where one is no
/// digit. Pairs, then fours, then the whole, each step one multiplication (the well-known way to do arithmetic on bytes within a
/// word).
#[inline(always)]
pub fn number_of_digits(digits: u64) -> Option<i64> {
    if bytewise::is_ten_or_more_among(digits) {
        return None;
    }
    let pairs = (digits * 10 + (digits >> 8)) & 0x00ff_00ff_00ff_00ff;
    let fours = (pairs * 100 + (pairs >> 16)) & 0x0000_ffff_0000_ffff;
    Some(((fours * 10_000 + (fours >> 32)) & 0xffff_ffff).cast_signed())
}

/// An exact decimal, ordered by worth: 1.5 = 1.50 < 1.51.
#[derive(Debug, Clone, Copy)]
pub struct Decimal {
    /// All digits as one integer.
    pub mantissa: i128,
    /// How many of them stand after the mark.
    pub scale: u8,
}

/// The smallest and the largest of two ranges. Of two that are equal the one with fewer digits behind the mark is shown,
/// whichever of them came first.
pub fn wider(one: (Decimal, Decimal), other: (Decimal, Decimal)) -> (Decimal, Decimal) {
    let shorter = |a: Decimal, b: Decimal| if b.scale < a.scale { b } else { a };
    let pick = |a: Decimal, b: Decimal, first: Ordering| match a.cmp(&b) {
        Ordering::Equal => shorter(a, b),
        found if found == first => a,
        _ => b,
    };
    (pick(one.0, other.0, Ordering::Less), pick(one.1, other.1, Ordering::Greater))
}

impl Decimal {
    /// The integer `mantissa × 10^-scale` at another scale, where it is exact and fits.
    pub fn at_scale(self, scale: u8) -> Option<i128> {
        match scale.cmp(&self.scale) {
            Ordering::Equal => Some(self.mantissa),
            Ordering::Greater => {
                self.mantissa.checked_mul(*POW10.get((scale - self.scale) as usize)?)
            }
            Ordering::Less => {
                let power = *POW10.get((self.scale - scale) as usize)?;
                (self.mantissa % power == 0).then_some(self.mantissa / power)
            }
        }
    }

    /// This number at another scale, away from zero where digits are cut off. `None` where it does not
    /// fit.
    pub fn rounded_away(self, scale: u8) -> Option<Decimal> {
        let mantissa = match self.at_scale(scale) {
            Some(mantissa) => mantissa,
            None if scale < self.scale => {
                let power = *POW10.get(usize::from(self.scale - scale))?;
                self.mantissa / power + self.mantissa.signum()
            }
            None => return None,
        };
        Some(Decimal { mantissa, scale })
    }

    /// A double beside it, within a few units in the last place: for pictures and quantiles.
    #[inline]
    pub fn near_f64(self) -> f64 {
        // Converting 128 bits costs a call, and hardly any number needs it.
        let wide = || self.mantissa as f64;
        let digits = i64::try_from(self.mantissa).map_or_else(|_| wide(), |small| small as f64);
        match self.scale {
            0 => digits,
            scale => match EXACT_POW10.get(usize::from(scale)) {
                Some(power) => digits / power,
                None => digits / POW10[usize::from(scale)] as f64,
            },
        }
    }

    /// The nearest double.
    pub fn to_f64(self) -> f64 {
        // One division of two exact doubles rounds but once.
        const EXACT: i128 = 1 << 53;
        if self.mantissa.abs() <= EXACT && self.scale <= 22 {
            return self.near_f64();
        }
        self.to_string().parse().expect("a decimal prints as a number")
    }
}

impl Ord for Decimal {
    fn cmp(&self, other: &Self) -> Ordering {
        if self.scale == other.scale {
            return self.mantissa.cmp(&other.mantissa);
        }
        // Dividing 128 bits costs two calls, and hardly any number needs it.
        if let (Ok(a), Ok(b)) = (i64::try_from(self.mantissa), i64::try_from(other.mantissa))
            && self.scale.max(other.scale) <= 18
        {
            let up = |mantissa: i64, by: u8| i128::from(mantissa) * POW10[usize::from(by)];
            let a = up(a, other.scale.saturating_sub(self.scale));
            return a.cmp(&up(b, self.scale.saturating_sub(other.scale)));
        }
        let power = |d: &Decimal| POW10[usize::from(d.scale)];
        let (whole, others_whole) = (self.mantissa / power(self), other.mantissa / power(other));
        whole.cmp(&others_whole).then_with(|| {
            // What is left is below 10^scale, so it can be brought to the longer scale.
            let scale = self.scale.max(other.scale);
            let left = |d: &Decimal| (d.mantissa % power(d)) * POW10[usize::from(scale - d.scale)];
            left(self).cmp(&left(other))
        })
    }
}

impl PartialOrd for Decimal {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Decimal {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Decimal {}

impl std::fmt::Display for Decimal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let sign = if self.mantissa < 0 { "-" } else { "" };
        let digits = self.mantissa.unsigned_abs();
        if self.scale == 0 {
            return write!(f, "{sign}{digits}");
        }
        let power = POW10[usize::from(self.scale)].unsigned_abs();
        write!(
            f,
            "{sign}{}.{:0width$}",
            digits / power,
            digits % power,
            width = usize::from(self.scale)
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn numbers_are_taken_apart() {
        // text, mantissa, scale, whole digits, leading zero, exponent
        for (text, mantissa, scale, whole, zero, exponent) in [
            ("0", 0, 0, 0, false, None),
            ("-0", 0, 0, 0, false, None),
            ("+12", 12, 0, 2, false, None),
            ("007", 7, 0, 1, true, None),
            ("0.50", 50, 2, 0, false, None),
            (".5", 5, 1, 0, false, None),
            ("5.", 5, 0, 1, false, None),
            ("-12.345", -12345, 3, 2, false, None),
            ("1e3", 1, 0, 1, false, Some(3)),
            ("1.5E-07", 15, 1, 1, false, Some(-7)),
            ("99999999999999999999999999999999999999", 10i128.pow(38) - 1, 0, 38, false, None),
            ("1234567890123456789.12", 123456789012345678912, 2, 19, false, None),
            ("0.0000000000000000000000001", 1, 25, 0, false, None),
        ] {
            let number = parse_number(text.as_bytes()).unwrap_or_else(|| panic!("{text}"));
            let got = (
                number.mantissa,
                number.scale,
                number.whole_digits,
                number.leading_zero,
                number.exponent,
            );
            assert_eq!(got, (mantissa, scale, whole, zero, exponent), "{text}");
        }
        for text in [
            "",
            "-",
            "+",
            ".",
            "1a",
            "1.2.3",
            "1e",
            "1e+",
            "e5",
            "--1",
            "1,5",
            " 1",
            "100000000000000000000000000000000000000",
        ] {
            assert_eq!(parse_number(text.as_bytes()), None, "{text}");
        }
    }

    #[test]
    fn eight_digits_are_told_from_anything_else() {
        assert_eq!(eight_digits(*b"01234567"), Some(1_234_567));
        assert_eq!(eight_digits(*b"99999999"), Some(99_999_999));
        for place in 0..8 {
            for byte in 0..=255u8 {
                let mut bytes = *b"12345678";
                bytes[place] = byte;
                let text = std::str::from_utf8(&bytes)
                    .ok()
                    .filter(|text| text.bytes().all(|b| b.is_ascii_digit()));
                assert_eq!(
                    eight_digits(bytes),
                    text.map(|text| text.parse().unwrap()),
                    "{bytes:?}"
                );
            }
        }
    }

    /// As [`parse_number`], one byte after the other.
    fn parse_plainly(value: &[u8]) -> Option<Number> {
        let (negative, plus, mut at) = match value.first()? {
            b'-' => (true, false, 1),
            b'+' => (false, true, 1),
            _ => (false, false, 0),
        };
        // 19 digits fit u64, and nearly every number has fewer: the wide arithmetic is left for the rest.
        let mut small = 0u64;
        let mut wide = 0i128;
        let mut digits = 0u32;
        let mut push = |byte: u8, significant: bool| {
            digits += u32::from(significant);
            if digits <= 18 {
                small = small * 10 + u64::from(byte - b'0');
            } else {
                if digits == 19 && significant {
                    wide = i128::from(small);
                }
                if digits <= MAX_DIGITS {
                    wide = wide * 10 + i128::from(byte - b'0');
                }
            }
            digits
        };
        let start = at;
        let mut significant = false;
        let mut total = 0;
        while let Some(byte @ b'0'..=b'9') = value.get(at) {
            significant |= *byte != b'0';
            total = push(*byte, significant);
            at += 1;
        }
        let written = at - start;
        let leading_zero = written > 1 && value[start] == b'0';
        let whole_digits = total;
        let marked = value.get(at) == Some(&b'.');
        let mut scale = 0;
        if marked {
            at += 1;
            let fraction = at;
            while let Some(byte @ b'0'..=b'9') = value.get(at) {
                significant |= *byte != b'0';
                total = push(*byte, significant);
                at += 1;
            }
            scale = at - fraction;
        }
        if written + scale == 0 || total > MAX_DIGITS || scale > MAX_DIGITS as usize {
            return None;
        }
        let exponent = match value.get(at) {
            None => None,
            Some(b'e' | b'E') => {
                let text = std::str::from_utf8(&value[at + 1..]).ok()?;
                let digits = text.strip_prefix(['+', '-']).unwrap_or(text);
                if digits.is_empty()
                    || digits.len() > 6
                    || !digits.bytes().all(|b| b.is_ascii_digit())
                {
                    return None;
                }
                Some(text.parse().ok()?)
            }
            Some(_) => return None,
        };
        let mantissa = if total <= 18 { i128::from(small) } else { wide };
        Some(Number {
            mantissa: if negative { -mantissa } else { mantissa },
            scale: scale as u8,
            whole_digits: whole_digits as u8,
            marked,
            plus,
            leading_zero,
            exponent,
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(10_000))]
        #[test]
        fn digits_at_once_are_those_one_by_one(
            value in "[-+]?0{0,3}[0-9]{0,40}(\\.0{0,30}[0-9]{0,40})?([eE][-+]?[0-9]{0,8})?|[-+.0-9eE]{0,9}",
        ) {
            prop_assert_eq!(parse_number(value.as_bytes()), parse_plainly(value.as_bytes()), "{}", value);
        }
    }

    proptest! {
        #[test]
        fn the_short_way_agrees_with_the_long_one(value: i64) {
            let text = (value / 10).to_string();
            let long = parse_number(text.as_bytes()).unwrap();
            prop_assert_eq!(long.mantissa, i128::from(value / 10));
            if let Some(short) = parse_integer(text.as_bytes()) {
                prop_assert_eq!(short, value / 10);
            }
        }

        #[test]
        fn decimals_print_what_they_read(mantissa in -POW10[38] + 1..POW10[38], scale in 0u8..38) {
            let decimal = Decimal { mantissa, scale };
            let number = parse_number(decimal.to_string().as_bytes()).unwrap();
            prop_assert_eq!((number.mantissa, number.scale), (mantissa, scale));
        }

        #[test]
        fn decimals_are_ordered_as_integers_at_one_scale(
            a in prop_oneof![-10_000i128..10_000, any::<i64>().prop_map(i128::from), -1i128 << 65..1 << 65],
            b in prop_oneof![-10_000i128..10_000, any::<i64>().prop_map(i128::from), -1i128 << 65..1 << 65],
            s in 0u8..=18, t in 0u8..=18,
        ) {
            let (x, y) = (Decimal { mantissa: a, scale: s }, Decimal { mantissa: b, scale: t });
            let want = (a * POW10[usize::from(18 - s)]).cmp(&(b * POW10[usize::from(18 - t)]));
            prop_assert_eq!(x.cmp(&y), want);
        }
    }
}
