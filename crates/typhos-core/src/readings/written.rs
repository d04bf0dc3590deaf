//! Numbers as people write them: digits in groups, a comma for the mark, a currency or percent sign
//! around them, negatives in parentheses.
//!
//! A value is [undressed](undress) first: what stands around the digits is taken off. What is left may
//! read differently by which mark is meant (`1.234` is a little over one, or over a thousand), so it is
//! [read](Undressed::read) once for each [`Mark`]. Which of them a column means is decided over all of
//! its values, by `infer`.
//!
//! Groups are of three digits, the first of one to three; or, with commas, of two digits but for the last
//! (`12,34,567`). Anything else is not a number. Digits may also stand without groups beside values that have
//! them.

use super::number::{Number, parse_number};
use super::signs::{is_of_number, is_sign, trim_spaces};

/// What stands between the whole part of a number and its fraction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub enum Mark {
    /// `12.5`
    #[default]
    Point,
    /// `12,5`
    Comma,
}

impl Mark {
    /// Both marks; facts per mark are kept in this sequence.
    pub const ALL: [Mark; 2] = [Mark::Point, Mark::Comma];

    /// The character.
    pub fn letter(self) -> char {
        match self {
            Mark::Point => '.',
            Mark::Comma => ',',
        }
    }

    /// Reads a mark as it stands in a schema file or on the command line.
    ///
    /// # Errors
    /// A sentence that says what a mark is.
    pub fn parse(word: &str) -> Result<Mark, String> {
        let found =
            Mark::ALL.into_iter().find(|mark| word == mark.letter().encode_utf8(&mut [0; 4]));
        found.ok_or_else(|| {
            format!("'{}' is not a decimal mark: use '.' or ','", word.escape_debug())
        })
    }
}

/// What stands between groups of three digits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Grouping {
    /// `1,234,567`
    Comma,
    /// `1.234.567`
    Point,
    /// `1 234 567`, with an ordinary space, one that does not break, or a thin one.
    Space,
    /// `1'234'567`, with a straight apostrophe or a curly one.
    Apostrophe,
}

impl Grouping {
    /// All of them; facts per grouping are kept in this sequence.
    pub const ALL: [Grouping; 4] =
        [Grouping::Comma, Grouping::Point, Grouping::Space, Grouping::Apostrophe];

    /// The character, the plainest where there are several.
    pub fn letter(self) -> char {
        match self {
            Grouping::Comma => ',',
            Grouping::Point => '.',
            Grouping::Space => ' ',
            Grouping::Apostrophe => '\'',
        }
    }

    /// Reads a grouping as it stands in a schema file.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Grouping, String> {
        let found = Grouping::ALL
            .into_iter()
            .find(|grouping| word == grouping.letter().encode_utf8(&mut [0; 4]));
        found.ok_or_else(|| {
            format!(
                "'{}' is nothing that groups digits: use ',', '.', ' ' or \"'\"",
                word.escape_debug()
            )
        })
    }

    /// The grouping whose separator `bytes` start with, and its length in bytes.
    fn at(bytes: &[u8]) -> Option<(Grouping, usize)> {
        match bytes {
            [b',', ..] => Some((Grouping::Comma, 1)),
            [b'.', ..] => Some((Grouping::Point, 1)),
            [b' ', ..] => Some((Grouping::Space, 1)),
            [b'\'', ..] => Some((Grouping::Apostrophe, 1)),
            // No-break space; thin space, narrow no-break space; right single quotation mark.
            [0xc2, 0xa0, ..] => Some((Grouping::Space, 2)),
            [0xe2, 0x80, 0x89 | 0xaf, ..] => Some((Grouping::Space, 3)),
            [0xe2, 0x80, 0x99, ..] => Some((Grouping::Apostrophe, 3)),
            _ => None,
        }
    }
}

/// A side of an account, by the mark that stands beside an amount. Which of the two is negative depends on
/// whose account it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Side {
    /// `12.50 DR`
    Debit,
    /// `12.50 CR`
    Credit,
}

impl Side {
    /// Both sides; facts per side are kept in this sequence.
    pub const ALL: [Side; 2] = [Side::Debit, Side::Credit];

    /// Its mark.
    pub fn name(self) -> &'static str {
        match self {
            Side::Debit => "DR",
            Side::Credit => "CR",
        }
    }

    /// Reads a mark as it stands in a schema file or on the command line.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Side, String> {
        let found = Side::ALL.into_iter().find(|side| side.name().eq_ignore_ascii_case(word));
        found.ok_or_else(|| {
            format!("'{}' is not a side of an account: use DR or CR", word.escape_debug())
        })
    }

    /// The side whose mark a text starts or ends with, and the text without it.
    pub(super) fn strip(text: &[u8]) -> Option<(Side, &[u8])> {
        let side = |mark: &[u8]| {
            Side::ALL.into_iter().find(|side| side.name().as_bytes().eq_ignore_ascii_case(mark))
        };
        let (rest, last) = text.split_last_chunk::<2>()?;
        if let Some(side) = side(last) {
            return Some((side, rest));
        }
        let (first, rest) = text.split_first_chunk::<2>()?;
        Some((side(first)?, rest))
    }
}

/// How the numbers of a column are written, where that is not a sign, digits, a point and digits.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NumberStyle {
    /// The mark before a fraction.
    pub mark: Mark,
    /// What groups the digits, where they are grouped.
    pub grouping: Option<Grouping>,
    /// Texts to take off before or behind a number, such as currency signs.
    pub strip: Vec<String>,
    /// Whether `(12.50)` and `12.50-` are negative numbers.
    pub accounting: bool,
    /// Which of `12.50 DR` and `12.50 CR` is negative; the other one is not. Where nothing is said, neither
    /// is a number.
    pub negative: Option<Side>,
}

impl NumberStyle {
    /// Whether numbers are written as they are nearly everywhere.
    pub fn is_plain(&self) -> bool {
        *self == NumberStyle::default()
    }

    /// Takes apart a number written in this style. `None` where it is none.
    ///
    /// What is stripped and grouped may be missing; a separator that is not declared may not be there.
    pub fn read(&self, value: &[u8]) -> Option<Number> {
        let strip = |text: &[u8]| {
            let mut known = self.strip.iter().map(String::as_bytes);
            let front = known.clone().find(|mark| !mark.is_empty() && text.starts_with(mark));
            let back = known.find(|mark| !mark.is_empty() && text.ends_with(mark));
            front.map(|mark| (mark.len(), 0)).or(back.map(|mark| (0, mark.len())))
        };
        // A plain number may end in its mark, and one beside such numbers may too.
        let mark = self.mark.letter() as u8;
        let undressed = undress_by(value, strip, |last| last.is_ascii_digit() || last == mark)?;
        if undressed.accounting && !self.accounting {
            return None;
        }
        let (mut number, grouping) = undressed.read(self.mark)?;
        if let Some(side) = undressed.side {
            // A debit of less than nothing is anybody's guess.
            self.negative.filter(|_| !undressed.negative)?;
            number.mantissa *= if self.negative == Some(side) { -1 } else { 1 };
        }
        (grouping.is_none() || grouping == self.grouping).then_some(number)
    }
}

/// A number without what stands around its digits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Undressed<'v> {
    /// The currency or percent sign that stood around it; empty where there was none.
    pub sign: &'v [u8],
    /// Whether it is negative.
    pub negative: bool,
    /// Whether it is an accounting negative: in parentheses, or with a minus behind it.
    pub accounting: bool,
    /// The side of the account that it stands on, where that is written.
    pub side: Option<Side>,
    /// Digits, with the mark and what groups them.
    pub body: &'v [u8],
}

/// The most bytes of a number that is taken apart; 38 digits in groups and what is around them.
const MOST_BYTES: usize = 100;

/// Takes off a known currency or percent sign, parentheses and signs. `None` where what is left does
/// not start with a digit or a mark, and end with a digit, so that it cannot be a number.
pub fn undress(value: &[u8]) -> Option<Undressed<'_>> {
    let strip = |text: &[u8]| {
        // Nearly all texts that come here are none: their ends say so.
        let is_end = |byte: Option<&u8>, other: u8| {
            byte.is_some_and(|byte| byte.is_ascii_digit() || *byte == other)
        };
        let (front, back) = (is_end(text.first(), b'('), is_end(text.last(), b')'));
        if front == back {
            return None;
        }
        // What stands between the end and the number has to be a sign, all of it.
        if back {
            let length = text.iter().position(is_of_number)?;
            let sign = trim_spaces(&text[..length]);
            is_sign(length, sign).then_some((sign.len(), 0))
        } else {
            let length = text.iter().rev().position(is_of_number)?;
            let sign = trim_spaces(&text[text.len() - length..]);
            is_sign(length, sign).then_some((0, sign.len()))
        }
    };
    undress_by(value, strip, |last| last.is_ascii_digit())
}

/// A minus or plus in front: an ASCII one, or U+2212. Says whether it is a minus.
fn leading_sign(text: &[u8]) -> Option<(bool, &[u8])> {
    match text {
        [b'-', rest @ ..] | [0xe2, 0x88, 0x92, rest @ ..] => Some((true, rest)),
        [b'+', rest @ ..] => Some((false, rest)),
        _ => None,
    }
}

/// Undresses a value, where `strip` says how many bytes to take off the front and the back of a text, and `is_end`
/// what a number may end in.
fn undress_by(
    value: &[u8],
    strip: impl Fn(&[u8]) -> Option<(usize, usize)>,
    is_end: impl Fn(u8) -> bool,
) -> Option<Undressed<'_>> {
    if value.len() > MOST_BYTES {
        return None;
    }
    let mut rest = trim_spaces(value);
    let mut found =
        Undressed { sign: b"", negative: false, accounting: false, side: None, body: b"" };
    let mut is_signed = false;
    // A sign may stand before the currency or behind it, and parentheses around either.
    for _ in 0..5 {
        if found.side.is_none()
            && let Some((side, inner)) = Side::strip(rest)
        {
            (found.side, rest) = (Some(side), trim_spaces(inner));
        } else if let Some((negative, inner)) = leading_sign(rest)
            && !is_signed
        {
            (found.negative, is_signed, rest) = (negative, true, trim_spaces(inner));
        } else if let [b'(', inner @ .., b')'] = rest
            && !is_signed
        {
            (found.negative, found.accounting, is_signed) = (true, true, true);
            rest = trim_spaces(inner);
        } else if let [inner @ .., b'-'] | [inner @ .., 0xe2, 0x88, 0x92] = rest
            && !is_signed
        {
            (found.negative, found.accounting, is_signed) = (true, true, true);
            rest = trim_spaces(inner);
        } else if found.sign.is_empty()
            && let Some((front, back)) = strip(rest)
        {
            found.sign = if front > 0 { &rest[..front] } else { &rest[rest.len() - back..] };
            rest = trim_spaces(&rest[front..rest.len() - back]);
        } else {
            break;
        }
    }
    let is_start = |byte: &u8| byte.is_ascii_digit() || matches!(byte, b'.' | b',');
    let sound = rest.first().is_some_and(is_start) && rest.last().is_some_and(|last| is_end(*last));
    found.body = rest;
    sound.then_some(found)
}

impl Undressed<'_> {
    /// The number that the body says if `mark` stands before the fraction, and what groups its digits.
    pub fn read(&self, mark: Mark) -> Option<(Number, Option<Grouping>)> {
        let mut plain = [0; MOST_BYTES + 1];
        let mut length = 0;
        let mut push = |byte: u8| {
            plain[length] = byte;
            length += 1;
        };
        if self.negative {
            push(b'-');
        }
        let mut grouping = None;
        // Digits since the last separator, or since the start.
        let mut run = 0;
        // Whether all groups so far are of three digits, and whether all but the last may be of two.
        let (mut threes, mut twos) = (true, true);
        let mut rest = self.body;
        let is_whole = |grouping: Option<Grouping>, run: usize| grouping.is_none() || run == 3;
        while let [byte, more @ ..] = rest {
            if byte.is_ascii_digit() {
                push(*byte);
                run += 1;
                rest = more;
            } else if *byte == mark.letter() as u8 {
                if !is_whole(grouping, run) {
                    return None;
                }
                push(b'.');
                more.iter().for_each(|byte| push(*byte));
                if !more.iter().all(u8::is_ascii_digit) {
                    return None;
                }
                (rest, run) = (b"", 3);
            } else {
                let (separator, bytes) = Grouping::at(rest)?;
                if grouping.is_none() {
                    threes = (1..=3).contains(&run);
                    twos = (1..=2).contains(&run) && separator == Grouping::Comma;
                } else {
                    threes &= run == 3;
                    twos &= run == 2;
                }
                let fits = threes || twos;
                if !fits || grouping.is_some_and(|known| known != separator) {
                    return None;
                }
                grouping = Some(separator);
                (rest, run) = (&rest[bytes..], 0);
            }
        }
        if !is_whole(grouping, run) {
            return None;
        }
        let number = parse_number(&plain[..length])?;
        // `0,123` in groups would be a leading zero.
        (!number.leading_zero).then_some((number, grouping))
    }

    /// Digits of the second of three groups or more by commas: it tells groups of three from groups of two.
    /// `None` where there are fewer.
    pub fn second_group(&self) -> Option<usize> {
        let mut groups = self.body.split(|byte| *byte == b',');
        let (_, second, _) = (groups.next()?, groups.next()?, groups.next()?);
        Some(second.len())
    }
}

#[cfg(test)]
mod tests {
    use super::super::signs::SIGNS;
    use super::*;
    use crate::readings::Decimal;
    use proptest::prelude::*;

    fn read(text: &str, mark: Mark) -> Option<(String, Option<Grouping>)> {
        let (number, grouping) = undress(text.as_bytes())?.read(mark)?;
        let worth = Decimal { mantissa: number.mantissa, scale: number.scale };
        Some((worth.to_string(), grouping))
    }

    #[test]
    fn signs_are_known_by_all_their_bytes() {
        for sign in SIGNS {
            let is_sign = |value: String| {
                let undressed = undress(value.as_bytes());
                undressed.is_some_and(|undressed| undressed.sign == sign.as_bytes())
            };
            assert!(is_sign(format!("{sign}5")) && is_sign(format!("5 {sign}")), "{sign}");
        }
        for value in ["\u{0}$5", "$\u{0}5", "5\u{0}€", "EU 5", "EUR. 5", "krr5"] {
            assert!(undress(value.as_bytes()).is_none(), "{value:?}");
        }
    }

    #[test]
    fn numbers_by_either_mark() {
        use Grouping::*;
        for (text, by_point, by_comma) in [
            ("1,234,567", Some(("1234567", Some(Comma))), None),
            ("1.234.567,5", None, Some(("1234567.5", Some(Point)))),
            ("1,234", Some(("1234", Some(Comma))), Some(("1.234", None))),
            ("12,5", None, Some(("12.5", None))),
            ("12.5", Some(("12.5", None)), None),
            ("1 234,50", None, Some(("1234.50", Some(Space)))),
            ("1\u{a0}234.50", Some(("1234.50", Some(Space))), None),
            ("1\u{202f}234", Some(("1234", Some(Space))), Some(("1234", Some(Space)))),
            ("1'234.5", Some(("1234.5", Some(Apostrophe))), None),
            ("1’234", Some(("1234", Some(Apostrophe))), Some(("1234", Some(Apostrophe)))),
            ("(12.50)", Some(("-12.50", None)), None),
            ("12.50-", Some(("-12.50", None)), None),
            ("$1,200", Some(("1200", Some(Comma))), Some(("1.200", None))),
            ("-$5", Some(("-5", None)), Some(("-5", None))),
            ("$-5", Some(("-5", None)), Some(("-5", None))),
            ("($5)", Some(("-5", None)), Some(("-5", None))),
            ("$(5)", Some(("-5", None)), Some(("-5", None))),
            ("\u{2212}5", Some(("-5", None)), Some(("-5", None))),
            ("12 %", Some(("12", None)), Some(("12", None))),
            ("12,5\u{a0}€", None, Some(("12.5", None))),
            ("EUR 12", Some(("12", None)), Some(("12", None))),
            ("12 kr.", Some(("12", None)), Some(("12", None))),
            ("12,34,567.5", Some(("1234567.5", Some(Comma))), None),
            ("1,23,45,678", Some(("12345678", Some(Comma))), None),
            ("12.50 CR", Some(("12.50", None)), None),
            ("1,250DR", Some(("1250", Some(Comma))), Some(("1.250", None))),
            ("DR 7", Some(("7", None)), Some(("7", None))),
            ("€ 5 cr", Some(("5", None)), Some(("5", None))),
            // Not numbers.
            ("123,45,678", None, None),
            ("12,34,56", None, None),
            ("12.34.567", None, None),
            ("1234,567", None, Some(("1234.567", None))),
            ("1,23", None, Some(("1.23", None))),
            ("0,123", None, Some(("0.123", None))),
            ("1,234 567", None, None),
            ("123 45", None, None),
            ("612-345-678", None, None),
            ("A12", None, None),
            ("12 km", None, None),
            ("--5", None, None),
            ("(-5)", None, None),
            ("$$5", None, None),
            ("$", None, None),
            ("()", None, None),
            ("1..2", None, None),
            ("01,234", None, None),
        ] {
            let told =
                |want: Option<(&str, Option<Grouping>)>| want.map(|(n, g)| (n.to_owned(), g));
            assert_eq!(read(text, Mark::Point), told(by_point), "{text} by a point");
            assert_eq!(read(text, Mark::Comma), told(by_comma), "{text} by a comma");
        }
    }

    #[test]
    fn a_style_takes_what_it_says_and_nothing_near_it() {
        let style = NumberStyle {
            mark: Mark::Comma,
            grouping: Some(Grouping::Point),
            strip: vec!["Taler".into()],
            accounting: true,
            negative: None,
        };
        let worth = |style: &NumberStyle, text: &str| {
            let number = style.read(text.as_bytes())?;
            Some(Decimal { mantissa: number.mantissa, scale: number.scale }.to_string())
        };
        for (text, want) in [
            ("1.234,5 Taler", Some("1234.5")),
            ("1.234", Some("1234")),
            ("(2) Taler", Some("-2")),
            ("Taler 7", Some("7")),
            ("1 234", None),
            ("1.5", None),
            ("5 €", None),
            ("5 DR", None),
        ] {
            assert_eq!(worth(&style, text).as_deref(), want, "{text}");
        }
        for (negative, text, want) in [
            (Side::Debit, "12,5 DR", Some("-12.5")),
            (Side::Debit, "12,5 Cr Taler", Some("12.5")),
            (Side::Credit, "CR 1.200", Some("-1200")),
            (Side::Credit, "1.200 dr", Some("1200")),
            (Side::Credit, "-5 CR", None),
            (Side::Credit, "5 XR", None),
        ] {
            let style = NumberStyle { negative: Some(negative), ..style.clone() };
            assert_eq!(worth(&style, text).as_deref(), want, "{negative:?} {text}");
        }
        let plain = NumberStyle::default();
        assert_eq!(worth(&plain, "(5)"), None);
        assert_eq!(worth(&plain, "1,000"), None);
        assert_eq!(worth(&plain, "\u{2212}5").as_deref(), Some("-5"));
    }

    proptest! {
        /// What is written in a style is read back as the number it was.
        #[test]
        fn numbers_come_back_from_any_clothes(
            whole in 0u64.., fraction in "[0-9]{0,9}", negative: bool, mark in 0usize..2, group in 0usize..5,
            sign in proptest::option::of(0usize..SIGNS.len()), in_front: bool, parentheses: bool,
        ) {
            let mark = Mark::ALL[mark];
            let group = Grouping::ALL.get(group).map(|g| g.letter()).filter(|g| *g != mark.letter());
            let mut digits = String::new();
            let plain = whole.to_string();
            for (at, digit) in plain.chars().enumerate() {
                if let Some(group) = group && at > 0 && (plain.len() - at).is_multiple_of(3) {
                    digits.push(group);
                }
                digits.push(digit);
            }
            if !fraction.is_empty() {
                digits.push(mark.letter());
                digits.push_str(&fraction);
            }
            let mut text = digits;
            if negative && !parentheses {
                text.insert(0, '-');
            }
            if let Some(sign) = sign {
                text = if in_front { format!("{} {text}", SIGNS[sign]) } else { format!("{text}{}", SIGNS[sign]) };
            }
            if negative && parentheses {
                text = format!("({text})");
            }
            let mantissa: i128 = format!("{whole}{fraction}").parse().unwrap();
            let (number, _) = undress(text.as_bytes()).and_then(|u| u.read(mark)).unwrap_or_else(|| panic!("{text}"));
            prop_assert_eq!(number.mantissa, if negative { -mantissa } else { mantissa });
            prop_assert_eq!(usize::from(number.scale), fraction.len());
        }

        #[test]
        fn any_bytes_are_undressed_or_not(bytes in proptest::collection::vec(any::<u8>(), 0..120)) {
            if let Some(undressed) = undress(&bytes) {
                let _ = Mark::ALL.map(|mark| undressed.read(mark));
            }
        }
    }
}
