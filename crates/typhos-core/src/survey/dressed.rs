//! Numbers in the usual clothes (`1.234,56`, `1,234.56`, `1.234.567`, `$12.50`, `7.5%`, `12.50 €`, `(12.50)`), read in one go where that leaves no doubt.
//!
//! A number is dressed like this where only one mark can read it: its fraction has not three digits, so that no group can
//! be meant, or there are groups and no fraction; or where there is neither mark nor group, and both read the same. What is read here is what [`Undressed`](crate::readings::Undressed) reads, by a property test.

use crate::readings::{Grouping, Mark, Separated, split_sign};

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
    /// Whether it is negative by parentheses.
    pub accounting: bool,
}

/// The most digits: a double has as many for sure.
const MOST_DIGITS: usize = 15;

/// A bit in four.
const EVERY_FOURTH: u32 = 0x1111_1111;

/// A value without one of the usual signs and the space beside it.
#[inline]
fn without_sign(value: &[u8]) -> (&'static [u8], &[u8]) {
    match value {
        [b'$', b' ', body @ ..] | [b'$', body @ ..] => (b"$", body),
        [body @ .., b' ', b'%'] | [body @ .., b'%'] => (b"%", body),
        [0xe2, 0x82, 0xac, b' ', body @ ..]
        | [0xe2, 0x82, 0xac, body @ ..]
        | [body @ .., b' ', 0xe2, 0x82, 0xac]
        | [body @ .., 0xe2, 0x82, 0xac] => ("€".as_bytes(), body),
        [0xc2, 0xa3, body @ ..] => ("£".as_bytes(), body),
        // Numbers in parentheses, and those without a sign, end in digits on both sides.
        [b'0'..=b'9' | b'-', .., b'0'..=b'9'] => (b"", value),
        body => split_sign(body).unwrap_or((b"", body)),
    }
}

impl Dressed {
    /// Reads a value. `None` says only that the usual way has to be taken.
    pub fn read(value: &[u8]) -> Option<Dressed> {
        let (accounting, value) = match value {
            [b'(', inner @ .., b')'] => (true, inner),
            value => (false, value),
        };
        let (sign, body) = without_sign(value);
        let (is_negative, body) = match body {
            [b'-', body @ ..] if !accounting => (true, body),
            body => (accounting, body),
        };
        let short = Separated::read(body)?;
        let separators = short.separators;
        if separators == 0 {
            return Dressed::read_whole(body, short.number()?, is_negative, (sign, accounting));
        }
        // What stands last may be the mark, and what stands before it groups.
        let at = separators.ilog2() as usize;
        let (last, run) = (body[at], body.len() - 1 - at);
        let before = separators & !(1 << at);
        let (mut groups, mut whole) = (0, at);
        if before != 0 {
            // A group of one to three digits, and as many of three as there are.
            whole = before.trailing_zeros() as usize;
            let all = (EVERY_FOURTH << whole) & ((1 << at) - 1);
            if !(1..=3).contains(&whole) || !(at - whole).is_multiple_of(4) || before != all {
                return None;
            }
            groups = (at - whole) / 4;
            if !(whole..at).step_by(4).all(|at| body[at] == body[whole]) {
                return None;
            }
        }
        let digits = body.len() - groups - 1;
        let number = short.number()?;
        if groups > 0 && last == body[whole] {
            // All of them group, then, and the other one is the mark.
            let (mark, grouping) = match last {
                b'.' => (Mark::Comma, Grouping::Point),
                _ => (Mark::Point, Grouping::Comma),
            };
            let is_read = run == 3 && body[0] != b'0';
            return is_read.then(|| Dressed {
                mark: Some(mark),
                mantissa: if is_negative { -number } else { number },
                scale: 0,
                whole_digits: digits as u8,
                grouping: Some(grouping),
                groups: groups as u8 + 1,
                sign,
                accounting,
            });
        }
        if whole == 0 {
            return None;
        }
        let (mark, grouping) = match last {
            b',' => (Mark::Comma, Grouping::Point),
            _ => (Mark::Point, Grouping::Comma),
        };
        let whole = digits - run;
        // A number without clothes is none of these.
        let is_dressed = !sign.is_empty() || accounting || groups > 0 || mark == Mark::Comma;
        let is_code = whole > 1 && body[0] == b'0';
        if matches!(run, 0 | 3) || is_code || !is_dressed {
            return None;
        }
        Some(Dressed {
            mark: Some(mark),
            mantissa: if is_negative { -number } else { number },
            scale: run as u8,
            whole_digits: if body[0] == b'0' { 0 } else { whole as u8 },
            grouping: (groups > 0).then_some(grouping),
            groups: groups as u8,
            sign,
            accounting,
        })
    }

    /// Reads digits beside a sign, or in parentheses.
    #[inline]
    fn read_whole(
        body: &[u8],
        number: i64,
        is_negative: bool,
        (sign, accounting): (&'static [u8], bool),
    ) -> Option<Dressed> {
        let is_code = matches!(body, [b'0', _, ..]);
        let is_short = (1..=MOST_DIGITS).contains(&body.len());
        if sign.is_empty() && !accounting || is_code || !is_short {
            return None;
        }
        Some(Dressed {
            mark: None,
            mantissa: if is_negative { -number } else { number },
            scale: 0,
            whole_digits: if body[0] == b'0' { 0 } else { body.len() as u8 },
            grouping: None,
            groups: 0,
            sign,
            accounting,
        })
    }

    /// Whether three groups of digits or more, by commas, tell groups of three from groups of two.
    #[inline]
    pub fn is_in_threes(&self) -> bool {
        self.grouping == Some(Grouping::Comma) && self.groups > 1
    }

    /// Whether the value may be a network address as well: four numbers with points between.
    #[inline]
    pub fn may_be_address(&self) -> bool {
        self.scale == 0 && self.groups == 3
    }

    /// Whether the value is a point as well, as [`point`](crate::readings::point) has it; `None` where it has to be asked.
    #[inline]
    pub fn is_point(&self) -> Option<bool> {
        let Dressed { mark: Some(Mark::Comma), mantissa, scale, groups, accounting: false, .. } =
            *self
        else {
            return None;
        };
        let (most, most_digits) = match groups {
            0 => (90, 2),
            // A point among the digits of the latitude.
            1 => (90_000, 5),
            _ => return Some(false),
        };
        if self.whole_digits > most_digits {
            return Some(false);
        }
        let digits = mantissa.unsigned_abs();
        let (latitude, longitude) = match scale {
            1 => (digits / 10, digits % 10),
            2 => (digits / 100, digits % 100),
            _ => return None,
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
            value in "[(]?[$€£]? ?-?[0-9]{1,4}([.,][0-9]{3}){0,3}([.,][0-9]{0,5})? ?[%€]?[)]?|-?(kr[.]?|EUR|NOK|US[$]|DR|¥|x)? ?-?[0-9]{1,3}([.,][0-9]{3}){0,2}([.,][0-9]{1,2})? ?(kr|kr[.]|zł|Kč|CR|SEK|%)?|[(][$€]?[0-9]{1,3}([.,][0-9]{1,4}){0,3}[)]|[-$%€() .,0-9]{0,9}",
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
            prop_assert_eq!(dressed.accounting, undressed.accounting, "{}", value);
            let second = undressed.second_group();
            prop_assert!(undressed.side.is_none() && second.is_none_or(|digits| digits == 3));
            prop_assert_eq!(dressed.is_in_threes(), second.is_some(), "{}", value);
            prop_assert!(parse_number(value.as_bytes()).is_none(), "{}", value);
            prop_assert!(dressed.may_be_address() || !is_ip(value.as_bytes()), "{}", value);
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
            "1.234.567",
            "1,234,567",
            "1,234,567.5",
            "-10.200.100.250",
            "5708.96 €",
            "€ 1,5",
            "£12.50",
            "$ 5",
            "(135.78)",
            "($1,234.50)",
            "(47)",
            "1,5 kr",
            "9622.56 kr.",
            "USD 663.82",
            "NOK-1.234,50",
            "12zł",
            "R$ 7.50",
        ] {
            assert!(Dressed::read(value.as_bytes()).is_some(), "{value}");
        }
        for value in [
            "1.234",
            "12.50",
            "1,234",
            "12,345",
            "$05",
            "-$5",
            "01,5",
            "1.23,5",
            "1,5 krr",
            "kr 1,5 kr",
            "1.50 DR",
            "",
            "-",
            "€  1,5",
            "(-5)",
            "((5))",
            "(1.234)",
            "€1,5%",
            "$--0",
            "0,123,456",
            "12,34,567",
            "0.123.456",
            "1.234.56",
        ] {
            assert_eq!(Dressed::read(value.as_bytes()), None, "{value}");
        }
    }
}
