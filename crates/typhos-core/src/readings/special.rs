//! Values with a form of their own: UUIDs, network addresses, points on the earth, JSON, infinities.

use std::net::Ipv6Addr;

use super::number::EXACT_POW10;
use super::number::parse_number;
use super::short::ShortNumber;
use super::trim;

/// The 16 bytes of a UUID as RFC 9562 writes it: 8-4-4-4-12 hexadecimal digits, in either case; also in
/// braces, and without the hyphens.
pub fn uuid(value: &[u8]) -> Option<[u8; 16]> {
    let value = match value {
        [b'{', inner @ .., b'}'] => inner,
        value => value,
    };
    let (pairs, has_hyphens) = match value.len() {
        32 => (&BARE_PAIRS, true),
        36 => (&PAIRS, [8, 13, 18, 23].iter().all(|at| value[*at] == b'-')),
        _ => return None,
    };
    let mut bytes = [0; 16];
    let mut found = 0;
    for (byte, at) in bytes.iter_mut().zip(pairs) {
        let (high, low) = (HEX[usize::from(value[*at])], HEX[usize::from(value[*at + 1])]);
        *byte = high << 4 | low;
        found |= high | low;
    }
    (has_hyphens && found < 16).then_some(bytes)
}

/// Where the pairs of digits of a UUID start, with hyphens between them and without.
const PAIRS: [usize; 16] = [0, 2, 4, 6, 9, 11, 14, 16, 19, 21, 24, 26, 28, 30, 32, 34];
const BARE_PAIRS: [usize; 16] = [0, 2, 4, 6, 8, 10, 12, 14, 16, 18, 20, 22, 24, 26, 28, 30];

/// What each byte is worth as a hexadecimal digit; 255 where it is none.
static HEX: [u8; 256] = {
    let mut worth = [255; 256];
    let mut digit = 0;
    while digit < 16 {
        worth[b"0123456789abcdef"[digit] as usize] = digit as u8;
        worth[b"0123456789ABCDEF"[digit] as usize] = digit as u8;
        digit += 1;
    }
    worth
};

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
    if ipv4_groups(value).is_some() {
        return true;
    }
    let could_be = (2..=45).contains(&value.len())
        && value.iter().all(|byte| byte.is_ascii_hexdigit() || matches!(byte, b'.' | b':'));
    let Some(text) = could_be.then(|| std::str::from_utf8(value).ok()).flatten() else {
        return false;
    };
    text.contains(':') && text.parse::<Ipv6Addr>().is_ok()
}

/// Of an IPv4 address, whether all groups but the first have three digits, as those of a number in groups have; `None` of
/// anything else. An address is four decimal numbers of a byte, without zeros in front.
#[inline]
fn ipv4_groups(value: &[u8]) -> Option<bool> {
    if !(7..=15).contains(&value.len()) {
        return None;
    }
    let (mut groups, mut number, mut digits, mut are_threes) = (1, 0u32, 0, true);
    for byte in value {
        match byte {
            b'0'..=b'9' if digits < 3 && !(digits == 1 && number == 0) => {
                number = number * 10 + u32::from(byte - b'0');
                digits += 1;
            }
            b'.' if digits > 0 && number < 256 => {
                are_threes &= groups == 1 || digits == 3;
                (groups, number, digits) = (groups + 1, 0, 0);
            }
            _ => return None,
        }
    }
    (groups == 4 && digits > 0 && number < 256).then_some(are_threes && digits == 3)
}

/// Whether `value` is an IPv4 address, as [`is_ip`] has it, and could not be a number in groups: one of those has three
/// digits in every group but the first. It is asked of columns of addresses before anything dearer.
pub fn is_plain_ip(value: &[u8]) -> bool {
    ipv4_groups(value) == Some(false)
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
        #[test]
        fn a_uuid_is_its_bytes(bytes: [u8; 16]) {
            let text = uuid_text(&bytes);
            prop_assert_eq!(uuid(text.as_bytes()), Some(bytes));
            prop_assert_eq!(uuid(text.to_uppercase().as_bytes()), Some(bytes));
            prop_assert_eq!(uuid(text.replace('-', "").as_bytes()), Some(bytes));
            prop_assert_eq!(uuid(format!("{{{text}}}").as_bytes()), Some(bytes));
        }
    }
}
