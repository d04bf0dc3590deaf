//! Lengths of time: those that clocks show beyond 24 hours, and those of ISO 8601.
//!
//! They are told from times of day by [`length`], and read by [`read_length`], which reads those too.

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

/// Whether a value is a [`length`] as a clock would show it, and could be nothing else: no clock shows its hours. It is asked
/// of columns of lengths before anything dearer.
pub fn is_only_length(value: &[u8]) -> bool {
    // Twenty-four hours may be the end of a day.
    value.first().is_some_and(u8::is_ascii_digit) && clock(value).is_some_and(|hours| hours > 24)
}

/// A length of time, taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LengthValue {
    /// Nanoseconds.
    pub nanos: i128,
    /// Digits of a second that are written.
    pub digits: u8,
}

/// Why a length of time is none that nanoseconds can be counted of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoLength {
    /// It is not written as one.
    Unwritten,
    /// Years and months are longer and shorter.
    Calendar,
}

/// Reads a length of time: hours, minutes and maybe seconds with colons between, days before them, or as ISO 8601
/// has it.
///
/// # Errors
/// Why it is none.
pub fn read_length(value: &[u8]) -> Result<LengthValue, NoLength> {
    let (is_negative, unsigned) = match value.split_first() {
        Some((b'-', rest)) => (true, rest),
        Some((b'+', rest)) => (false, rest),
        _ => (false, value),
    };
    let read = match unsigned.first() {
        Some(b'P') => iso_nanos(unsigned)?,
        Some(b'0'..=b'9') => match clock_nanos(unsigned) {
            Some(read) => read,
            None => return days_nanos(value).ok_or(NoLength::Unwritten),
        },
        _ => return Err(NoLength::Unwritten),
    };
    let nanos = if is_negative { -read.nanos } else { read.nanos };
    Ok(LengthValue { nanos, ..read })
}

/// A length of time as it is written plainly: hours without an end, minutes, seconds, and as many digits of a second as
/// are needed.
pub fn length_text(nanos: i128) -> String {
    let sign = if nanos < 0 { "-" } else { "" };
    let nanos = nanos.unsigned_abs();
    let (seconds, part) = (nanos / 1_000_000_000, nanos % 1_000_000_000);
    let (hours, minutes, seconds) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    let mut text = format!("{sign}{hours}:{minutes:02}:{seconds:02}");
    if part > 0 {
        text.push_str(format!(".{part:09}").trim_end_matches('0'));
    }
    text
}

const SECOND: i128 = 1_000_000_000;

/// Digits behind a mark, as nanoseconds of a second; more than nine are none.
fn fraction_nanos(digits: &[u8]) -> Option<LengthValue> {
    let count = u8::try_from(digits.len()).ok().filter(|count| (1..=9).contains(count))?;
    let number: i128 = std::str::from_utf8(digits).ok()?.parse().ok()?;
    Some(LengthValue { nanos: number * 10i128.pow(u32::from(9 - count)), digits: count })
}

fn clock_nanos(text: &[u8]) -> Option<LengthValue> {
    let hours = clock(text)?;
    let mut parts = text.split(|byte| *byte == b':').skip(1);
    let number = |part: &[u8]| std::str::from_utf8(part).ok()?.parse::<i128>().ok();
    let minutes = number(parts.next()?)?;
    let mut read =
        LengthValue { nanos: (i128::from(hours) * 3600 + minutes * 60) * SECOND, digits: 0 };
    if let Some(seconds) = parts.next() {
        let mut seconds = seconds.splitn(2, |byte| matches!(byte, b'.' | b','));
        read.nanos += number(seconds.next()?)? * SECOND;
        if let Some(fraction) = seconds.next() {
            let fraction = fraction_nanos(fraction)?;
            read.nanos += fraction.nanos;
            read.digits = fraction.digits;
        }
    }
    Some(read)
}

/// `-1 days +23:00:00`: the sign before the days is theirs alone where the clock has one of its own.
fn days_nanos(value: &[u8]) -> Option<LengthValue> {
    let (is_negative, unsigned) = match value.split_first()? {
        (b'-', rest) => (true, rest),
        (b'+', rest) => (false, rest),
        _ => (false, value),
    };
    if !is_days(unsigned) {
        return None;
    }
    let digits = unsigned.iter().take_while(|byte| byte.is_ascii_digit()).count();
    let days: i128 = std::str::from_utf8(&unsigned[..digits]).ok()?.parse().ok()?;
    let at = unsigned.iter().rposition(|byte| *byte == b' ')? + 1;
    let clock = &unsigned[at..];
    let has_sign = clock.starts_with(b"+");
    let read = clock_nanos(clock.strip_prefix(b"+").unwrap_or(clock))?;
    let days = days.checked_mul(86_400 * SECOND)?;
    let nanos = match (is_negative, has_sign) {
        (true, true) => read.nanos - days,
        (true, false) => -(days + read.nanos),
        (false, _) => days + read.nanos,
    };
    Some(LengthValue { nanos, ..read })
}

/// A duration of ISO 8601 that [is one](is_iso): its weeks, days, hours, minutes and seconds.
fn iso_nanos(text: &[u8]) -> Result<LengthValue, NoLength> {
    if !is_iso(text) {
        return Err(NoLength::Unwritten);
    }
    let mut read = LengthValue { nanos: 0, digits: 0 };
    let (mut rest, mut is_time) = (&text[1..], false);
    while let Some(first) = rest.first() {
        if *first == b'T' {
            (rest, is_time) = (&rest[1..], true);
            continue;
        }
        let length = rest.iter().take_while(|byte| !byte.is_ascii_uppercase()).count();
        let unit: i128 = match (rest[length], is_time) {
            (b'W', _) => 7 * 86_400,
            (b'D', _) => 86_400,
            (b'H', _) => 3600,
            (b'M', true) => 60,
            (b'S', _) => 1,
            _ => return Err(NoLength::Calendar),
        };
        let mut parts = rest[..length].splitn(2, |byte| matches!(byte, b'.' | b','));
        let whole = parts.next().and_then(|whole| std::str::from_utf8(whole).ok());
        let whole: i128 = whole.and_then(|w| w.parse().ok()).ok_or(NoLength::Unwritten)?;
        let nanos = whole.checked_mul(unit * SECOND).ok_or(NoLength::Unwritten)?;
        read.nanos = read.nanos.checked_add(nanos).ok_or(NoLength::Unwritten)?;
        if let Some(fraction) = parts.next() {
            let part = fraction_nanos(fraction).ok_or(NoLength::Unwritten)?;
            read.nanos += part.nanos * unit;
            read.digits = if unit == 1 { part.digits } else { fraction_digits(part.nanos * unit) };
        }
        rest = &rest[length + 1..];
    }
    Ok(read)
}

/// Digits of a second that nanoseconds need.
fn fraction_digits(nanos: i128) -> u8 {
    let part = nanos % SECOND;
    (0..=9).find(|digits| part % 10i128.pow(u32::from(9 - digits)) == 0).unwrap_or(9)
}

/// The hours of a text that is hours, minutes and maybe seconds with a fraction, with colons between.
fn clock(text: &[u8]) -> Option<u64> {
    let length = text.iter().take(10).take_while(|byte| byte.is_ascii_digit()).count();
    let (hours, rest) = text.split_at(length);
    let is_sixty = |tens: &u8, ones: &u8| matches!(tens, b'0'..=b'5') && ones.is_ascii_digit();
    let rest = match rest {
        [b':', tens, ones, rest @ ..] if is_sixty(tens, ones) => rest,
        _ => return None,
    };
    let is_fraction = |digits: &[u8]| (1..=9).contains(&digits.len()) && is_digits(digits);
    let is_end = match rest {
        [] => true,
        [b':', tens, ones, rest @ ..] if is_sixty(tens, ones) => match rest {
            [] => true,
            [b'.' | b',', digits @ ..] => is_fraction(digits),
            _ => false,
        },
        _ => false,
    };
    let number = |hours: u64, digit: &u8| hours * 10 + u64::from(digit - b'0');
    (is_end && (1..=9).contains(&length)).then(|| hours.iter().fold(0, number))
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

    #[test]
    fn lengths_are_read_and_written_plainly() {
        for (text, want) in [
            ("25:51:00", "25:51:00"),
            ("0:10", "0:10:00"),
            ("-00:10:00.250", "-0:10:00.25"),
            ("100:05:59,000001", "100:05:59.000001"),
            ("PT36H", "36:00:00"),
            ("P1DT2H3M4.5S", "26:03:04.5"),
            ("-P3W", "-504:00:00"),
            ("PT0.5H", "0:30:00"),
            ("PT0.0001M", "0:00:00.006"),
            ("1 day, 2:03:04", "26:03:04"),
            ("-1 days +23:00:00", "-1:00:00"),
            ("0 days 00:05:00", "0:05:00"),
        ] {
            let read = read_length(text.as_bytes()).unwrap_or_else(|_| panic!("{text}"));
            assert_eq!(length_text(read.nanos), want, "{text}");
            let again = read_length(want.as_bytes()).unwrap();
            assert_eq!(again.nanos, read.nanos, "{want} reads back");
        }
        assert_eq!(read_length(b"P1Y2M").unwrap_err(), NoLength::Calendar);
        for text in ["", "-", "P", "25", "12:60", "2 days", "PT1.1234567890S"] {
            assert_eq!(read_length(text.as_bytes()), Err(NoLength::Unwritten), "{text}");
        }
        assert_eq!(read_length(b"PT0.0001M").unwrap().digits, 3);
    }
}
