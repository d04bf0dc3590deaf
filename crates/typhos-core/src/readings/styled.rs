//! Numbers in the style of their column, read in one go where they are written as most of them are.
//!
//! What is read here is what [`NumberStyle::read`] reads, by a property test; `None` says only that it has to be asked.

use super::written::{Grouping, NumberStyle, Side};

/// The most digits: they fit 64 bits.
const MOST_DIGITS: u32 = 18;

/// A style whose numbers can mostly be read in one go.
#[derive(Debug, Clone)]
pub struct ShortStyle {
    mark: u8,
    group: Option<u8>,
    strip: Vec<Vec<u8>>,
}

impl ShortStyle {
    /// The short way of a style. `None` where what is taken off might be part of a number.
    pub fn of(style: &NumberStyle) -> Option<ShortStyle> {
        let is_number = |byte: u8| {
            byte.is_ascii_digit()
                || byte.is_ascii_whitespace()
                || matches!(byte, b'-' | b'+' | b'(' | b')' | b'.' | b',' | b'\'')
        };
        let strip: Vec<Vec<u8>> =
            style.strip.iter().map(|text| text.clone().into_bytes()).collect();
        let is_apart = |text: &[u8]| {
            let ends = [text.first(), text.last()];
            ends.into_iter().all(|byte| byte.is_some_and(|byte| !is_number(*byte)))
                && !text.starts_with(&[0xe2, 0x88, 0x92])
                && !text.ends_with(&[0xe2, 0x88, 0x92])
        };
        // A side of an account goes before everything else.
        let has_sides = strip.iter().any(|text| Side::strip(text).is_some());
        if has_sides || !strip.iter().all(|text| is_apart(text)) {
            return None;
        }
        let group = style.grouping.map(Grouping::letter);
        Some(ShortStyle {
            mark: style.mark.letter() as u8,
            group: group.and_then(|letter| u8::try_from(letter).ok()),
            strip,
        })
    }

    /// Reads a value: its digits as one integer, with the sign, and how many of them stand behind the mark.
    #[inline]
    pub fn read(&self, value: &[u8]) -> Option<(i64, u8)> {
        let (is_first, value) = minus(value);
        let (is_second, body) = match self.without_sign(value) {
            Some(rest) if !is_first => minus(rest),
            Some(rest) => (false, rest),
            None => (false, value),
        };
        let (mut number, mut digits, mut run) = (0i64, 0u32, 0u32);
        let mut is_grouped = false;
        let mut rest = body.iter();
        let mut is_marked = false;
        for byte in rest.by_ref() {
            let digit = byte.wrapping_sub(b'0');
            if digit < 10 {
                number = number.wrapping_mul(10).wrapping_add(digit.into());
                (digits, run) = (digits + 1, run + 1);
            } else if *byte == self.mark {
                is_marked = true;
                break;
            } else if Some(*byte) == self.group {
                // The first group has up to three digits, all others have three.
                if run == 0 || run > 3 || is_grouped && run != 3 {
                    return None;
                }
                (is_grouped, run) = (true, 0);
            } else {
                return None;
            }
        }
        let is_code = digits > 1 && body[0] == b'0';
        if digits == 0 || is_code || is_grouped && run != 3 {
            return None;
        }
        let whole = digits;
        for byte in rest {
            let digit = byte.wrapping_sub(b'0');
            if digit > 9 {
                return None;
            }
            number = number.wrapping_mul(10).wrapping_add(digit.into());
            digits += 1;
        }
        if digits > MOST_DIGITS || is_marked && digits == whole {
            return None;
        }
        Some((if is_first || is_second { -number } else { number }, (digits - whole) as u8))
    }

    /// What is left of a value without what may stand before it or behind it, where that is there.
    #[inline(always)]
    fn without_sign<'v>(&self, value: &'v [u8]) -> Option<&'v [u8]> {
        let front = |sign: &Vec<u8>| value.strip_prefix(sign.as_slice());
        let back = |sign: &Vec<u8>| value.strip_suffix(sign.as_slice());
        if let Some(rest) = self.strip.iter().find_map(front) {
            return Some(rest.strip_prefix(b" ").unwrap_or(rest));
        }
        let rest = self.strip.iter().find_map(back)?;
        Some(rest.strip_suffix(b" ").unwrap_or(rest))
    }
}

/// Whether there is a minus before a text, and what is behind it.
#[inline(always)]
fn minus(text: &[u8]) -> (bool, &[u8]) {
    match text {
        [b'-', rest @ ..] => (true, rest),
        text => (false, text),
    }
}

#[cfg(test)]
mod tests {
    use super::super::written::Mark;
    use super::*;
    use proptest::prelude::*;

    fn style() -> impl Strategy<Value = NumberStyle> {
        let grouping = proptest::option::of(proptest::sample::select(&Grouping::ALL[..]));
        let strip = proptest::sample::subsequence(
            vec!["$", "%", "€", " kr", "kr.", "DR", "USD", "-", "(", "xDR", "°C", "\u{2212}m"],
            0..3,
        );
        let negative = proptest::option::of(proptest::sample::select(&Side::ALL[..]));
        (any::<bool>(), grouping, strip, any::<bool>(), negative).prop_map(
            |(is_comma, grouping, strip, accounting, negative)| NumberStyle {
                mark: if is_comma { Mark::Comma } else { Mark::Point },
                grouping,
                strip: strip.into_iter().map(str::to_owned).collect(),
                accounting,
                negative,
            },
        )
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20_000))]

        #[test]
        fn what_is_read_is_what_the_style_reads(
            style in style(),
            before in "-?( ?[$€]|USD|kr\\.|xDR|DR)? ?-?", after in " ?([%€]|kr\\.| kr|DR|xDR|°C|-)?",
            digits in "[0-9]{1,4}([.,' ][0-9]{3}){0,3}([.,][0-9]{0,5})?|[0-9]{0,20}[.,]?[0-9]{0,3}|[-$%.,0-9 ]{0,9}",
        ) {
            let value = format!("{before}{digits}{after}");
            let Some(short) = ShortStyle::of(&style) else { return Ok(()) };
            if let Some((mantissa, scale)) = short.read(value.as_bytes()) {
                let number = style.read(value.as_bytes());
                let found = number.map(|number| (number.mantissa, number.scale, number.exponent, number.leading_zero));
                prop_assert_eq!(found, Some((mantissa.into(), scale, None, false)), "{:?}", value);
            }
        }
    }

    #[test]
    fn usual_numbers_are_read() {
        let style = |mark, grouping, strip: &[&str]| {
            let strip = strip.iter().map(|text| (*text).to_owned()).collect();
            let style = NumberStyle { mark, grouping, strip, ..NumberStyle::default() };
            ShortStyle::of(&style).expect("nothing in it is part of a number")
        };
        let commas = style(Mark::Comma, Some(Grouping::Point), &["€"]);
        for (value, read) in [
            ("-12.634,82", Some((-1_263_482, 2))),
            ("€ 1.234", Some((1234, 0))),
            ("7,5 €", Some((75, 1))),
            ("-€7", Some((-7, 0))),
            ("€-7", Some((-7, 0))),
            ("12.34", None),
            ("0.123", None),
            ("7,", None),
            ("", None),
        ] {
            assert_eq!(commas.read(value.as_bytes()), read, "{value}");
        }
        let share = style(Mark::Point, None, &["%"]);
        assert_eq!(share.read(b"36%"), Some((36, 0)));
        assert_eq!(share.read(b"1,000%"), None);
    }
}
