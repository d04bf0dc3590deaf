//! Numbers in the usual clothes (`1.234,56`, `1,234.56`, `$12.50`, `7.5%`), read in one go where that leaves no doubt.
//!
//! A number is dressed like this where only one mark can read it: its fraction has not three digits, so that no group can
//! be meant. What is read here is what [`Undressed`](crate::readings::Undressed) reads, by a property test.

use crate::readings::{Grouping, Mark};

/// A number that only one mark reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Dressed {
    /// The mark.
    pub mark: Mark,
    /// All digits as one integer, with the sign.
    pub mantissa: i64,
    /// Digits behind the mark; never three.
    pub scale: u8,
    /// Digits before the mark, a lone zero not counted.
    pub whole_digits: u8,
    /// What groups the digits.
    pub grouping: Option<Grouping>,
    /// The sign of a currency or share.
    pub sign: &'static [u8],
}

/// The most digits: a double has as many for sure.
const MOST_DIGITS: u32 = 15;

/// The longest value: its digits, groups, a mark and signs.
const MOST_BYTES: usize = 24;

impl Dressed {
    /// Reads a value. `None` says only that the usual way has to be taken.
    pub fn read(value: &[u8]) -> Option<Dressed> {
        if value.len() > MOST_BYTES {
            return None;
        }
        let (sign, body): (&'static [u8], _) = match value {
            [b'$', body @ ..] => (b"$", body),
            [body @ .., b'%'] => (b"%", body),
            body => (b"", body),
        };
        let (is_negative, body) = match body {
            [b'-', body @ ..] => (true, body),
            body => (false, body),
        };
        let mark = match body.iter().rposition(|byte| matches!(byte, b'.' | b',')) {
            Some(at) if body[at] == b',' => Mark::Comma,
            Some(_) => Mark::Point,
            None => return None,
        };
        let (point, group) = match mark {
            Mark::Comma => (b',', b'.'),
            Mark::Point => (b'.', b','),
        };
        let (mut number, mut digits, mut run, mut groups) = (0i64, 0, 0u32, 0);
        let mut whole = None;
        for byte in body {
            match *byte {
                b'0'..=b'9' => {
                    number = number * 10 + i64::from(byte - b'0');
                    digits += 1;
                    run += 1;
                    if digits > MOST_DIGITS {
                        return None;
                    }
                }
                // The first group has up to three digits, all others have three.
                other if other == group && whole.is_none() => {
                    let fits = if groups == 0 { (1..=3).contains(&run) } else { run == 3 };
                    if !fits {
                        return None;
                    }
                    (groups, run) = (groups + 1, 0);
                }
                other if other == point && whole.is_none() => {
                    let fits = if groups == 0 { run > 0 } else { run == 3 };
                    if !fits {
                        return None;
                    }
                    (whole, run) = (Some(digits), 0);
                }
                _ => return None,
            }
        }
        let whole = whole?;
        // A number without clothes is none of these; of many groups by commas more is to be known.
        let is_dressed = !sign.is_empty() || groups > 0 || mark == Mark::Comma;
        let is_code = whole > 1 && body[0] == b'0';
        if matches!(run, 0 | 3) || is_code || !is_dressed || mark == Mark::Point && groups > 1 {
            return None;
        }
        let grouping = match mark {
            Mark::Comma => Grouping::Point,
            Mark::Point => Grouping::Comma,
        };
        Some(Dressed {
            mark,
            mantissa: if is_negative { -number } else { number },
            scale: run as u8,
            whole_digits: if body[0] == b'0' { 0 } else { whole as u8 },
            grouping: (groups > 0).then_some(grouping),
            sign,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::{is_ip, parse_number, undress};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        #[test]
        fn what_is_read_is_what_undressing_reads(
            value in "[$]?-?[0-9]{1,4}([.,][0-9]{3}){0,3}([.,][0-9]{0,5})?%?|[-$%.,0-9]{0,9}",
        ) {
            let Some(dressed) = Dressed::read(value.as_bytes()) else { return Ok(()) };
            let undressed = undress(value.as_bytes()).unwrap();
            let other = if dressed.mark == Mark::Point { Mark::Comma } else { Mark::Point };
            prop_assert_eq!(undressed.read(other), None, "{}", value);
            let (number, grouping) = undressed.read(dressed.mark).unwrap();
            prop_assert_eq!(i128::from(dressed.mantissa), number.mantissa, "{}", value);
            prop_assert_eq!((dressed.scale, dressed.whole_digits), (number.scale, number.whole_digits), "{}", value);
            prop_assert_eq!((dressed.grouping, dressed.sign), (grouping, undressed.sign), "{}", value);
            prop_assert!(!undressed.accounting && undressed.side.is_none() && undressed.second_group().is_none());
            prop_assert!(parse_number(value.as_bytes()).is_none() && !is_ip(value.as_bytes()), "{}", value);
        }
    }

    #[test]
    fn usual_clothes_are_known() {
        for value in [
            "1.234,56",
            "-1.234.567,8",
            "1,234.56",
            "$12.50",
            "7.5%",
            "12,5",
            "0,05",
            "$1,234.5678",
        ] {
            assert!(Dressed::read(value.as_bytes()).is_some(), "{value}");
        }
        for value in [
            "1.234", "12.50", "1,234", "12,345", "$5", "01,5", "1.23,5", "1,5 kr", "", "-", "€ 1,5",
        ] {
            assert_eq!(Dressed::read(value.as_bytes()), None, "{value}");
        }
    }
}
