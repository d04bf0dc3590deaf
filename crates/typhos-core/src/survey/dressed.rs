//! Numbers in the usual clothes (`1.234,56`, `1,234.56`, `$12.50`, `7.5%`), read in one go where that leaves no doubt.
//!
//! A number is dressed like this where only one mark can read it: its fraction has not three digits, so that no group can
//! be meant; or where there is neither mark nor group, and both read the same. What is read here is what [`Undressed`](crate::readings::Undressed) reads, by a property test.

use crate::readings::{Grouping, Mark, parse_integer};

/// A number that only one mark reads, or both read alike.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Dressed {
    /// The mark; `None` where there is neither a mark nor a group.
    pub mark: Option<Mark>,
    /// All digits as one integer, with the sign.
    pub mantissa: i64,
    /// Digits behind the mark; never three.
    pub scale: u8,
    /// Digits before the mark, a lone zero not counted.
    pub whole_digits: u8,
    /// What groups the digits.
    pub grouping: Option<Grouping>,
    /// How many separators there are between groups.
    pub groups: u8,
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
        let (mut number, mut digits, mut run) = (0i64, 0u32, 0u32);
        // The first run of digits, the separators so far, the last of them, and whether all but the last are one, with
        // groups of three between them.
        let (mut whole, mut separators, mut last, mut group) = (0, 0u8, 0, 0);
        let mut is_even = true;
        for byte in body {
            let digit = byte.wrapping_sub(b'0');
            if digit < 10 {
                number = number.wrapping_mul(10).wrapping_add(digit.into());
                (digits, run) = (digits + 1, run + 1);
                continue;
            }
            if !matches!(byte, b'.' | b',') {
                return None;
            }
            if separators == 0 {
                whole = run;
            } else {
                is_even &= run == 3 && (separators == 1 || last == group);
                group = last;
            }
            (separators, last, run) = (separators + 1, *byte, 0);
        }
        if separators == 0 {
            return Dressed::read_whole(body, is_negative, sign);
        }
        // What stands last is the mark, and what stood before it groups.
        let groups = separators - 1;
        let fits = if groups == 0 { whole > 0 } else { (1..=3).contains(&whole) && last != group };
        if !fits || !is_even || digits > MOST_DIGITS {
            return None;
        }
        let (mark, grouping) = match last {
            b',' => (Mark::Comma, Grouping::Point),
            _ => (Mark::Point, Grouping::Comma),
        };
        let whole = digits - run;
        // A number without clothes is none of these; of many groups by commas more is to be known.
        let is_dressed = !sign.is_empty() || groups > 0 || mark == Mark::Comma;
        let is_code = whole > 1 && body[0] == b'0';
        if matches!(run, 0 | 3) || is_code || !is_dressed || mark == Mark::Point && groups > 1 {
            return None;
        }
        Some(Dressed {
            mark: Some(mark),
            mantissa: if is_negative { -number } else { number },
            scale: run as u8,
            whole_digits: if body[0] == b'0' { 0 } else { whole as u8 },
            grouping: (groups > 0).then_some(grouping),
            groups,
            sign,
        })
    }

    /// Reads digits beside a sign.
    #[inline]
    fn read_whole(body: &[u8], is_negative: bool, sign: &'static [u8]) -> Option<Dressed> {
        let is_code = matches!(body, [b'0', _, ..]);
        let is_short = (1..=MOST_DIGITS as usize).contains(&body.len());
        if sign.is_empty() || is_code || !is_short {
            return None;
        }
        let mantissa = parse_integer(body).filter(|number| *number >= 0)?;
        Some(Dressed {
            mark: None,
            mantissa: if is_negative { -mantissa } else { mantissa },
            scale: 0,
            whole_digits: if body[0] == b'0' { 0 } else { body.len() as u8 },
            grouping: None,
            groups: 0,
            sign,
        })
    }

    /// Whether the value is a point as well, as [`point`](crate::readings::point) has it; `None` where it has to be asked.
    #[inline]
    pub fn is_point(&self) -> Option<bool> {
        let Dressed { mark: Some(Mark::Comma), mantissa, scale: scale @ 1..=2, .. } = *self else {
            return None;
        };
        let power = if scale == 1 { 10 } else { 100 };
        let (latitude, longitude) = (mantissa.abs() / power, mantissa.abs() % power);
        let most = match self.groups {
            0 => 90,
            // A point among the digits of the latitude.
            1 => 90_000,
            _ => return Some(false),
        };
        // Zero may have a sign.
        (latitude > 0).then_some(latitude <= most && (scale == 1 || longitude >= 10))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::{is_ip, parse_number, point, undress};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        #[test]
        fn what_is_read_is_what_undressing_reads(
            value in "[$]?-?[0-9]{1,4}([.,][0-9]{3}){0,3}([.,][0-9]{0,5})?%?|[-$%.,0-9]{0,9}",
        ) {
            let Some(dressed) = Dressed::read(value.as_bytes()) else { return Ok(()) };
            let undressed = undress(value.as_bytes()).unwrap();
            let readings = Mark::ALL.map(|mark| undressed.read(mark));
            let read_by = Mark::ALL.map(|mark| dressed.mark.is_none_or(|one| one == mark));
            prop_assert_eq!(readings.map(|reading| reading.is_some()), read_by, "{}", value);
            if dressed.mark.is_none() {
                prop_assert_eq!(readings[0], readings[1]);
            }
            let (number, grouping) = readings.into_iter().flatten().next().unwrap();
            prop_assert_eq!(i128::from(dressed.mantissa), number.mantissa, "{}", value);
            prop_assert_eq!((dressed.scale, dressed.whole_digits), (number.scale, number.whole_digits), "{}", value);
            prop_assert_eq!((dressed.grouping, dressed.sign), (grouping, undressed.sign), "{}", value);
            prop_assert!(!undressed.accounting && undressed.side.is_none() && undressed.second_group().is_none());
            prop_assert!(parse_number(value.as_bytes()).is_none() && !is_ip(value.as_bytes()), "{}", value);
            if let Some(is_point) = dressed.is_point() && dressed.sign.is_empty() {
                prop_assert_eq!(is_point, point(value.as_bytes()).is_some(), "{}", value);
            }
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
            "36%",
            "$-5",
        ] {
            assert!(Dressed::read(value.as_bytes()).is_some(), "{value}");
        }
        for value in [
            "1.234", "12.50", "1,234", "12,345", "$05", "-$5", "01,5", "1.23,5", "1,5 kr", "", "-",
            "€ 1,5",
        ] {
            assert_eq!(Dressed::read(value.as_bytes()), None, "{value}");
        }
    }
}
