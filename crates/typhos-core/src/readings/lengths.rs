//! Lengths of time: those that clocks show beyond 24 hours, and those of ISO 8601.
//!
//! A reading of its own, so that a column of them is named as what it is; no type holds them yet.

/// How a length of time is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Length {
    /// As a clock would show it that goes on beyond 24 hours: `25:51:00`, `-100:05`.
    Clock,
    /// As ISO 8601 has it: `P1DT2H30M`, `PT0.5S`, `P3W`.
    Iso,
    /// Days, and then a clock: `1 day, 2:03:04`, `0 days 00:05:00`.
    Days,
}

impl Length {
    /// All of them; facts are kept in this sequence.
    pub const ALL: [Length; 3] = [Length::Clock, Length::Iso, Length::Days];

    /// What it is, for a person.
    pub fn words(self) -> &'static str {
        match self {
            Length::Clock => "lengths of time, beyond the 24 hours of a day",
            Length::Iso => "lengths of time as ISO 8601 writes them",
            Length::Days => "lengths of time in days, hours, minutes and seconds",
        }
    }
}

/// Reads a length of time that cannot be a time of day. `None` also for times of day: a column tells which
/// of the two they are by the others in it.
pub fn length(value: &[u8]) -> Option<Length> {
    let unsigned = value.strip_prefix(b"-").or_else(|| value.strip_prefix(b"+")).unwrap_or(value);
    match unsigned.first()? {
        b'P' => is_iso(unsigned).then_some(Length::Iso),
        b'0'..=b'9' => {
            let is_signed = unsigned.len() < value.len();
            if clock(unsigned).is_some_and(|hours| hours >= 24 || is_signed) {
                return Some(Length::Clock);
            }
            is_days(unsigned).then_some(Length::Days)
        }
        _ => None,
    }
}

/// The hours of a text that is hours, minutes and maybe seconds with a fraction, with colons between.
fn clock(text: &[u8]) -> Option<u64> {
    let mut parts = text.split(|byte| *byte == b':');
    let hours = parts.next().filter(|hours| (1..=9).contains(&hours.len()) && is_digits(hours))?;
    let is_sixty = |part: &[u8]| part.len() == 2 && is_digits(part) && part[0] < b'6';
    parts.next().filter(|minutes| is_sixty(minutes))?;
    if let Some(seconds) = parts.next() {
        let mut fraction = seconds.splitn(2, |byte| matches!(byte, b'.' | b','));
        fraction.next().filter(|seconds| is_sixty(seconds))?;
        let is_fraction = |digits: &[u8]| (1..=9).contains(&digits.len()) && is_digits(digits);
        if fraction.next().is_some_and(|digits| !is_fraction(digits)) || parts.next().is_some() {
            return None;
        }
    }
    std::str::from_utf8(hours).ok()?.parse().ok()
}

/// `3 days, 02:03:04`: a number, a word for days, and a time of day.
fn is_days(text: &[u8]) -> bool {
    let digits = text.iter().take_while(|byte| byte.is_ascii_digit()).count();
    let Some(rest) = text[digits..].strip_prefix(b" day") else { return false };
    let rest = rest.strip_prefix(b"s").unwrap_or(rest);
    let rest = rest.strip_prefix(b",").unwrap_or(rest);
    let Some(rest) = rest.strip_prefix(b" ") else { return false };
    clock(rest.strip_prefix(b"+").unwrap_or(rest)).is_some_and(|hours| hours < 24)
}

/// A duration of ISO 8601-1, 5.5.2: designators in their order, each at most once, at least one of them,
/// and a fraction only in the last; or weeks alone.
fn is_iso(text: &[u8]) -> bool {
    let Some(mut rest) = text.strip_prefix(b"P") else { return false };
    let mut units: &[u8] = b"YMWD";
    let (mut is_time, mut some, mut ended) = (false, false, false);
    while !rest.is_empty() {
        if !is_time && let Some(time) = rest.strip_prefix(b"T") {
            (rest, units, is_time, some) = (time, b"HMS", true, false);
            continue;
        }
        let digits = rest.iter().take_while(|byte| byte.is_ascii_digit()).count();
        let mut length = digits;
        if let Some(b'.' | b',') = rest.get(digits) {
            let fraction =
                rest[digits + 1..].iter().take_while(|byte| byte.is_ascii_digit()).count();
            ended = fraction > 0;
            if !ended {
                return false;
            }
            length += 1 + fraction;
        }
        let unit = rest.get(length).and_then(|unit| units.iter().position(|known| known == unit));
        let Some(unit) = unit.filter(|_| digits > 0) else { return false };
        (units, rest, some) = (&units[unit + 1..], &rest[length + 1..], true);
        if ended && !rest.is_empty() {
            return false;
        }
    }
    some
}

fn is_digits(text: &[u8]) -> bool {
    text.iter().all(u8::is_ascii_digit)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_are_told_from_times_of_day_and_from_words() {
        for (text, want) in [
            ("25:51:00", Some(Length::Clock)),
            ("24:00", Some(Length::Clock)),
            ("100:05:59.25", Some(Length::Clock)),
            ("-00:10:00", Some(Length::Clock)),
            ("23:59:59", None),
            ("25:61:00", None),
            ("25:51:0", None),
            ("25:51:00:00", None),
            ("25", None),
            ("25:51:00.", None),
            ("P1Y2M3DT4H5M6S", Some(Length::Iso)),
            ("PT0.5S", Some(Length::Iso)),
            ("-P3W", Some(Length::Iso)),
            ("PT36H", Some(Length::Iso)),
            ("P", None),
            ("PT", None),
            ("P1DT", None),
            ("PT1S2M", None),
            ("P1H", None),
            ("P1.5DT2H", None),
            ("PTA", None),
            ("Pier", None),
            ("1 day, 2:03:04", Some(Length::Days)),
            ("0 days 00:05:00", Some(Length::Days)),
            ("-1 days +23:00:00", Some(Length::Days)),
            ("2 days", None),
            ("2 daze 00:05:00", None),
        ] {
            assert_eq!(length(text.as_bytes()), want, "{text}");
        }
    }
}
