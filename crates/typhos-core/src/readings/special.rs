//! Values with a form of their own: UUIDs, network addresses, points on the earth, JSON, infinities.

use super::number::EXACT_POW10;
use super::number::parse_number;
use super::short::{ShortNumber, mark_in, small_integer, words_of};
use super::trim;
use crate::bytewise::{HIGH, ONES};

/// The 16 bytes of a UUID as RFC 9562 writes it: 8-4-4-4-12 hexadecimal digits, in either case; also in
/// braces, and without the hyphens.
pub fn uuid(value: &[u8]) -> Option<[u8; 16]> {
    let value = match value {
        [b'{', inner @ .., b'}'] => inner,
        value => value,
    };
    let digits = match value.len() {
        32 => *value.as_chunks().0.first_chunk()?,
        36 => digits_of_uuid(value.first_chunk()?)?,
        _ => return None,
    };
    let words = digits.map(u64::from_le_bytes);
    if !are_hexadecimal(words) {
        return None;
    }
    let mut bytes = [0; 16];
    for (four, word) in bytes.as_chunks_mut::<4>().0.iter_mut().zip(words) {
        *four = bytes_of_hexadecimal(word);
    }
    Some(bytes)
}

/// Whether `value` is a UUID as it is written everywhere: with hyphens, in either case.
#[inline]
pub fn is_plain_uuid(value: &[u8]) -> bool {
    let digits = value.try_into().ok().and_then(digits_of_uuid);
    digits.is_some_and(|digits| are_hexadecimal(digits.map(u64::from_le_bytes)))
}

/// What stands between the hyphens of a UUID, where they stand as they should.
#[inline(always)]
fn digits_of_uuid(value: &[u8; 36]) -> Option<[[u8; 8]; 4]> {
    let &[
        a0,
        a1,
        a2,
        a3,
        a4,
        a5,
        a6,
        a7,
        b'-',
        b0,
        b1,
        b2,
        b3,
        b'-',
        b4,
        b5,
        b6,
        b7,
        b'-',
        c0,
        c1,
        c2,
        c3,
        b'-',
        c4,
        c5,
        c6,
        c7,
        d0,
        d1,
        d2,
        d3,
        d4,
        d5,
        d6,
        d7,
    ] = value
    else {
        return None;
    };
    Some([
        [a0, a1, a2, a3, a4, a5, a6, a7],
        [b0, b1, b2, b3, b4, b5, b6, b7],
        [c0, c1, c2, c3, c4, c5, c6, c7],
        [d0, d1, d2, d3, d4, d5, d6, d7],
    ])
}

/// Whether all bytes of some words are hexadecimal digits: eight at a time, the highest bit of each byte says what is known
/// of the others, so that nothing is carried from one to the next.
#[inline(always)]
fn are_hexadecimal(words: [u64; 4]) -> bool {
    let digits = words.iter().fold(HIGH, |all, word| {
        let from = |word: u64, least: u8| (word & !HIGH) + ONES * u64::from(0x80 - least);
        let lower = word | (ONES * 0x20);
        let is_digit = from(*word, b'0') & !from(*word, b'9' + 1);
        let is_letter = from(lower, b'a') & !from(lower, b'f' + 1);
        all & (is_digit | is_letter) & !word
    });
    digits & HIGH == HIGH
}

/// The four bytes that eight hexadecimal digits are.
#[inline(always)]
fn bytes_of_hexadecimal(word: u64) -> [u8; 4] {
    // Letters have a bit that no digit has, and are worth nine more than their lower half.
    let worth = (word & (ONES * 0x0f)) + (word >> 6 & ONES) * 9;
    // The first of two digits is worth more.
    let pairs = worth << 4 | worth >> 8;
    let [first, _, second, _, third, _, fourth, _] = pairs.to_le_bytes();
    [first, second, third, fourth]
}

/// Whether 32 hexadecimal digits say that they are a UUID: its version is one of those that RFC 9562 has,
/// and its variant that of the RFC. Of digits that mean something else, one in eight does.
pub fn is_bare_uuid(value: &[u8]) -> bool {
    value.len() == 32
        && matches!(value[12], b'1'..=b'8')
        && matches!(value[16], b'8' | b'9' | b'a' | b'b' | b'A' | b'B')
        && value.iter().all(u8::is_ascii_hexdigit)
}

/// A UUID as it is written everywhere: lower case, with hyphens.
pub fn uuid_text(bytes: &[u8; 16]) -> String {
    let mut text = String::with_capacity(36);
    for (at, byte) in bytes.iter().enumerate() {
        if matches!(at, 4 | 6 | 8 | 10) {
            text.push('-');
        }
        text.push_str(&format!("{byte:02x}"));
    }
    text
}

/// Whether `value` is an IPv4 address of four decimal numbers, or an IPv6 address (RFC 4291).
pub fn is_ip(value: &[u8]) -> bool {
    ipv4_groups(value).is_some() || is_ipv6(value)
}

/// Whether `value` is an IPv6 address: eight groups of up to four hexadecimal digits with colons between; two colons for one
/// or more of them that are zero; an IPv4 address for the last two.
fn is_ipv6(value: &[u8]) -> bool {
    let (mut rest, mut has_gap) = match value {
        [b':', b':', rest @ ..] => (rest, true),
        _ => (value, false),
    };
    let mut groups = 0;
    // Nothing stands behind a gap at the end.
    while !(rest.is_empty() && has_gap) {
        let digits = rest.iter().take(5).take_while(|byte| byte.is_ascii_hexdigit()).count();
        if !(1..=4).contains(&digits) || groups == 8 {
            return false;
        }
        groups += 1;
        rest = match &rest[digits..] {
            [] => break,
            [b':', b':', behind @ ..] if !has_gap => {
                has_gap = true;
                behind
            }
            [b':', behind @ ..] if !matches!(behind, [] | [b':', ..]) => behind,
            [b'.', ..] if ipv4_groups(rest).is_some() => {
                groups += 1;
                break;
            }
            _ => return false,
        };
    }
    if has_gap { groups < 8 } else { groups == 8 }
}

/// Of an IPv4 address, whether all groups but the first have three digits, as those of a number in groups have; `None` of
/// anything else. An address is four decimal numbers of a byte, without zeros in front.
#[inline]
fn ipv4_groups(value: &[u8]) -> Option<bool> {
    if !(7..=15).contains(&value.len()) {
        return None;
    }
    let [low, high] = words_of(value)?;
    let mut rest = u128::from(high) << 64 | u128::from(low);
    let (mut left, mut are_threes) = (value.len(), true);
    for group in 0..4 {
        let length = if group < 3 { mark_in(rest as u64) } else { left };
        if small_integer(rest as u32, length as u32)? > 255 {
            return None;
        }
        are_threes &= group == 0 || length == 3;
        rest >>= 8 * (length + 1);
        left = left.wrapping_sub(length + 1);
    }
    Some(are_threes)
}

/// Whether `value` is an IPv4 address, as [`is_ip`] has it, and could not be a number in groups: one of those has three
/// digits in every group but the first.
pub fn is_plain_ip(value: &[u8]) -> bool {
    ipv4_groups(value) == Some(false)
}

/// Whether `value` is an address and could be nothing else. It is asked of columns of addresses before anything dearer.
pub fn is_only_ip(value: &[u8]) -> bool {
    is_plain_ip(value) || is_ipv6(value)
}

/// Latitude and longitude, in degrees, of "lat,lon": two plain numbers with a comma between, which may
/// have spaces behind it. `None` also where a double does not keep a number as it was written.
pub fn point(value: &[u8]) -> Option<(f64, f64)> {
    let comma = memchr::memchr(b',', value)?;
    let degrees = |text: &[u8], most: f64| {
        // Most of what looks like a point is an amount with a decimal comma.
        if let [b'0'..=b'9'] | [b'0'..=b'9', b'0'..=b'9'] = text {
            let number = text.iter().fold(0, |number, digit| number * 10 + (digit - b'0'));
            let is_code = text.len() > 1 && text[0] == b'0';
            return (!is_code && f64::from(number) <= most).then(|| f64::from(number));
        }
        // So few digits survive, and zero has a sign.
        const SURE: std::ops::Range<u64> = 1..1_000_000_000_000_000;
        if let Some(short) = ShortNumber::read(text)
            && SURE.contains(&short.mantissa.unsigned_abs())
        {
            let degrees = short.mantissa as f64 / EXACT_POW10[usize::from(short.scale)];
            let is_code = matches!(text, [b'-', b'0', b'0'..=b'9', ..] | [b'0', b'0'..=b'9', ..]);
            return (!is_code && degrees.abs() <= most).then_some(degrees);
        }
        let number = parse_number(text).filter(|n| n.exponent.is_none() && !n.leading_zero)?;
        let (degrees, survives) = super::nearest_float64(text, &number).or_else(|| {
            let degrees = std::str::from_utf8(text).ok()?.parse().ok()?;
            Some((degrees, super::survives_float64(text, &number)))
        })?;
        (survives && degrees.abs() <= most).then_some(degrees)
    };
    Some((degrees(&value[..comma], 90.0)?, degrees(trim(&value[comma + 1..]), 180.0)?))
}

/// Whether `value` is a [`point`] and could be nothing else: both numbers have a fraction of three to nine digits, which
/// neither groups of digits nor dates have on both sides of a comma. It is asked of columns of points before anything dearer.
pub fn is_only_point(value: &[u8]) -> bool {
    let Some(comma) = memchr::memchr(b',', value) else { return false };
    let has_fraction = |text: &[u8]| {
        let digits = text.len() - memchr::memchr(b'.', text).map_or(text.len(), |mark| mark + 1);
        (3..=9).contains(&digits)
    };
    has_fraction(&value[..comma]) && has_fraction(&value[comma + 1..]) && point(value).is_some()
}

/// Whether `value` is a whole JSON object or array (RFC 8259).
pub fn is_json(value: &[u8]) -> bool {
    matches!(value, [b'{', .., b'}'] | [b'[', .., b']'])
        && serde_json::from_slice::<serde::de::IgnoredAny>(value).is_ok()
}

/// The infinity that a value is, in any letter case: `inf`, `-inf`, `Infinity`.
pub fn infinity(value: &[u8]) -> Option<f64> {
    let (sign, word) = match value {
        [b'-', word @ ..] => (-1.0, word),
        [b'+', word @ ..] => (1.0, word),
        word => (1.0, word),
    };
    let is = |name: &[u8]| word.eq_ignore_ascii_case(name);
    (matches!(word.len(), 3 | 8) && (is(b"inf") || is(b"infinity"))).then_some(sign * f64::INFINITY)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn forms_are_told_from_what_is_near_them() {
        for (text, is) in [
            ("00000000-0000-0000-0000-000000000000", true),
            ("6F9619FF-8B86-D011-B42D-00CF4FC964FF", true),
            ("6f9619ff-8b86-d011-b42d-00cf4fc964f", false),
            ("6f9619ff-8b86-d011-b42d-00cf4fc964fg", false),
            ("6f9619ff8b86-d011-b42d--00cf4fc964ff", false),
            ("-6f9619f-8b86-d011-b42d-00cf4fc964ff", false),
            ("6f9619ff8b86d011b42d00cf4fc964ff", true),
            ("{6f9619ff-8b86-d011-b42d-00cf4fc964ff}", true),
            ("{6f9619ff8b86d011b42d00cf4fc964ff}", true),
            ("{6f9619ff-8b86-d011-b42d-00cf4fc964ff", false),
            ("6f9619ff8b86d011b42d00cf4fc964-f", false),
            ("-f9619ff8b86d011b42d00cf4fc964ff", false),
        ] {
            assert_eq!(uuid(text.as_bytes()).is_some(), is, "{text}");
        }
        for (text, is) in [
            ("6f9619ff8b864011b42d00cf4fc964ff", true),
            ("6F9619FF8B864011842D00CF4FC964FF", true),
            ("6f9619ff8b86d011b42d00cf4fc964ff", false),
            ("6f9619ff8b864011742d00cf4fc964ff", false),
            ("6f9619ff8b864011b42d00cf4fc964fg", false),
            ("6f9619ff-8b86-4011-b42d-00cf4fc9", false),
        ] {
            assert_eq!(is_bare_uuid(text.as_bytes()), is, "{text}");
        }
        for (text, is) in [
            ("192.168.1.1", true),
            ("0.0.0.0", true),
            ("256.1.1.1", false),
            ("1.2.3", false),
            ("01.2.3.4", false),
            ("::1", true),
            ("2001:db8::ff00:42:8329", true),
            ("::ffff:192.0.2.1", true),
            ("12:30:15", false),
            ("fe80::1%eth0", false),
            ("beef", false),
        ] {
            assert_eq!(is_ip(text.as_bytes()), is, "{text}");
        }
        for (text, want) in [
            ("59.91,10.75", Some((59.91, 10.75))),
            ("-33.5, 151", Some((-33.5, 151.0))),
            ("90,180", Some((90.0, 180.0))),
            ("90.1,10", None),
            ("10,180.5", None),
            ("1,2,3", None),
            ("59.91", None),
            ("59.91,", None),
            ("1e1,2", None),
            ("0.12345678901234567890,1", None),
        ] {
            assert_eq!(point(text.as_bytes()), want, "{text}");
        }
        for (text, is) in [
            ("{}", true),
            ("[1, \"a\", {\"b\": null}]", true),
            ("{a: 1}", false),
            ("[1", false),
            ("5", false),
            ("{} ", false),
            ("[1] [2]", false),
        ] {
            assert_eq!(is_json(text.as_bytes()), is, "{text}");
        }
        for (text, want) in [
            ("inf", Some(f64::INFINITY)),
            ("-INF", Some(f64::NEG_INFINITY)),
            ("+Infinity", Some(f64::INFINITY)),
            ("info", None),
            ("in", None),
        ] {
            assert_eq!(infinity(text.as_bytes()), want, "{text}");
        }
    }

    #[test]
    fn deep_json_does_not_use_up_the_stack() {
        let deep = "[".repeat(100_000) + &"]".repeat(100_000);
        assert!(is_json(deep.as_bytes()));
        assert!(!is_json(&deep.as_bytes()[1..]));
    }

    proptest! {
        #[test]
        fn addresses_are_those_of_the_standard_library(value in "[0-9]{1,3}(\\.[0-9]{1,3}){2,4}|[0-9.]{5,16}|0?[12]?[0-9]{1,2}\\.0\\.255\\.2[0-9]{2}") {
            let is_one = value.parse::<std::net::Ipv4Addr>().is_ok();
            prop_assert_eq!(ipv4_groups(value.as_bytes()).is_some(), is_one);
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        /// The same as the standard library has it, which takes longer.
        #[test]
        fn addresses_of_sixteen_bytes_are_those_of_the_standard_library(
            value in prop_oneof![
                any::<std::net::Ipv6Addr>().prop_map(|address| address.to_string()),
                "(::)?[0-9a-fA-F]{1,5}(::?[0-9a-f]{1,4}){0,8}(::?)?(1.2.3.4)?",
                "(::)?([0-9a-f]{1,4}:){0,7}[0-9]{1,3}([.][0-9]{1,3}){3}",
                "[0-9a-g:.]{0,12}",
                "[:]{0,3}",
            ],
        ) {
            let is_one = value.parse::<std::net::Ipv6Addr>().is_ok();
            prop_assert_eq!(is_ipv6(value.as_bytes()), is_one, "{}", value);
        }
    }

    proptest! {
        #[test]
        fn a_uuid_is_its_bytes(bytes: [u8; 16]) {
            let text = uuid_text(&bytes);
            prop_assert_eq!(uuid(text.as_bytes()), Some(bytes));
            prop_assert_eq!(uuid(text.to_uppercase().as_bytes()), Some(bytes));
            prop_assert_eq!(uuid(text.replace('-', "").as_bytes()), Some(bytes));
            prop_assert_eq!(uuid(format!("{{{text}}}").as_bytes()), Some(bytes));
            prop_assert!(is_plain_uuid(text.as_bytes()) && is_plain_uuid(text.to_uppercase().as_bytes()));
        }

        #[test]
        fn one_byte_that_is_no_digit_makes_it_none(bytes: [u8; 16], at in 0usize..36, byte: u8) {
            let mut text = uuid_text(&bytes).into_bytes();
            let is_hyphen = text[at] == b'-';
            text[at] = byte;
            let is_one = if is_hyphen { byte == b'-' } else { byte.is_ascii_hexdigit() };
            prop_assert_eq!(is_plain_uuid(&text), is_one);
            prop_assert_eq!(uuid(&text).is_some(), is_one);
        }
    }
}
