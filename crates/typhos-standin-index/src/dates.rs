//! Dates as fields of an index read them: by a list of formats, of which the first that fits counts. Formats are the
//! named ones of ISO 8601, the epoch ones, and patterns of digits (`dd.MM.uuuu HH:mm`). Names of months, eras and weeks
//! are not there.

use jiff::civil::{Date, Time};

/// A format that is not there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnknownFormat(pub String);

/// One way to write a date.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Format {
    /// ISO 8601: a date, and a time where `has_time` says so, of as many parts as are there.
    Iso {
        has_time: bool,
    },
    EpochMillis,
    EpochSeconds,
    Pattern(Vec<Token>),
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Token {
    /// Digits of a part, at least and at most so many.
    Digits(char, usize, usize),
    Fraction,
    Offset,
    Literal(String),
}

/// Formats, the first one first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Formats(Vec<Format>);

impl Default for Formats {
    fn default() -> Self {
        Formats(vec![Format::Iso { has_time: true }, Format::EpochMillis])
    }
}

impl Formats {
    /// Formats as a mapping has them, `||` between them.
    ///
    /// # Errors
    /// The first that is not there.
    pub fn parse(text: &str) -> Result<Formats, UnknownFormat> {
        let format = |name: &str| {
            Ok(match name {
                "strict_date" | "date" | "strict_year_month_day" | "year_month_day" => {
                    Format::Iso { has_time: false }
                }
                "strict_date_optional_time"
                | "date_optional_time"
                | "strict_date_optional_time_nanos"
                | "strict_date_time"
                | "date_time"
                | "strict_date_time_no_millis"
                | "iso8601" => Format::Iso { has_time: true },
                "epoch_millis" => Format::EpochMillis,
                "epoch_second" => Format::EpochSeconds,
                pattern => Format::Pattern(tokens(pattern).ok_or(UnknownFormat(pattern.into()))?),
            })
        };
        text.split("||").map(format).collect::<Result<_, _>>().map(Formats)
    }

    /// The point in time that a text or number means, in nanoseconds since 1970; without an offset, in UTC.
    pub fn read(&self, text: &str) -> Option<i128> {
        self.0.iter().find_map(|format| match format {
            Format::Iso { has_time } => iso(text, *has_time),
            Format::EpochMillis => text.parse::<i64>().ok().map(|it| i128::from(it) * 1_000_000),
            Format::EpochSeconds => {
                text.parse::<i64>().ok().map(|it| i128::from(it) * 1_000_000_000)
            }
            Format::Pattern(tokens) => by_pattern(tokens, text),
        })
    }
}

fn tokens(pattern: &str) -> Option<Vec<Token>> {
    let (mut tokens, mut rest) = (Vec::new(), pattern);
    while let Some(first) = rest.chars().next() {
        let mut length = first.len_utf8();
        if first == '\'' {
            let end = rest[1..].find('\'')?;
            tokens.push(Token::Literal(rest[1..=end].to_owned()));
            length = end + 2;
        } else if first.is_ascii_alphabetic() {
            length = rest.len() - rest.trim_start_matches(first).len();
            tokens.push(match (first, length) {
                ('u' | 'y', 4) => Token::Digits('y', 4, 4),
                ('M' | 'd' | 'H' | 'm' | 's', 1) => Token::Digits(first, 1, 2),
                ('M' | 'd' | 'H' | 'm' | 's', 2) => Token::Digits(first, 2, 2),
                ('D', 3) => Token::Digits('D', 3, 3),
                ('S', 1..=9) => Token::Fraction,
                ('X', 1..=3) => Token::Offset,
                _ => return None,
            });
        } else {
            tokens.push(Token::Literal(first.to_string()));
        }
        rest = &rest[length..];
    }
    Some(tokens)
}

/// The digits that a text starts with, at least and at most so many, and what follows them.
fn digits(text: &str, least: usize, most: usize) -> Option<(i64, &str)> {
    let count = text.bytes().take(most).take_while(u8::is_ascii_digit).count();
    (count >= least).then(|| Some((text[..count].parse().ok()?, &text[count..])))?
}

/// A fraction of a second in nanoseconds.
fn fraction(text: &str) -> Option<(i64, &str)> {
    let count = text.bytes().take(9).take_while(u8::is_ascii_digit).count();
    let value: i64 = text.get(..count).filter(|digits| !digits.is_empty())?.parse().ok()?;
    Some((value * 10i64.pow(9 - count as u32), &text[count..]))
}

/// Seconds east of Greenwich.
fn offset(text: &str) -> Option<(i64, &str)> {
    if let Some(rest) = text.strip_prefix('Z') {
        return Some((0, rest));
    }
    let sign = if text.starts_with('-') { -1 } else { 1 };
    let (hours, rest) = digits(text.strip_prefix(['+', '-'])?, 2, 2)?;
    let rest = rest.strip_prefix(':').unwrap_or(rest);
    let (minutes, rest) = digits(rest, 2, 2).unwrap_or((0, rest));
    Some((sign * (hours * 3600 + minutes * 60), rest))
}

fn instant(date: Date, time: Time, offset: i64) -> Option<i128> {
    let days = Date::constant(1970, 1, 1).until(date).ok()?.get_days();
    let seconds = i64::from(days) * 86_400
        + i64::from(time.hour()) * 3600
        + i64::from(time.minute()) * 60
        + i64::from(time.second())
        - offset;
    Some(i128::from(seconds) * 1_000_000_000 + i128::from(time.subsec_nanosecond()))
}

fn iso(text: &str, has_time: bool) -> Option<i128> {
    let (year, rest) = digits(text, 4, 4)?;
    let part = |rest: &'_ str| {
        rest.strip_prefix('-').and_then(|rest| digits(rest, 2, 2).map(|(n, rest)| (n, rest.len())))
    };
    let (month, rest) = part(rest).map_or((1, rest), |(n, left)| (n, &rest[rest.len() - left..]));
    let (day, rest) = part(rest).map_or((1, rest), |(n, left)| (n, &rest[rest.len() - left..]));
    let date = Date::new(year as i16, month as i8, day as i8).ok()?;
    if rest.is_empty() {
        // A date alone is whole; one that may have a time may leave out parts.
        return (has_time || text.len() == 10).then(|| instant(date, Time::midnight(), 0))?;
    }
    let rest = rest.strip_prefix('T').filter(|_| has_time)?;
    let (hour, rest) = digits(rest, 2, 2)?;
    let sixtieth = |rest: &'_ str| {
        rest.strip_prefix(':').and_then(|rest| digits(rest, 2, 2).map(|(n, rest)| (n, rest.len())))
    };
    let (minute, rest) =
        sixtieth(rest).map_or((0, rest), |(n, left)| (n, &rest[rest.len() - left..]));
    let (second, rest) =
        sixtieth(rest).map_or((0, rest), |(n, left)| (n, &rest[rest.len() - left..]));
    let (nanos, rest) = match rest.strip_prefix(['.', ',']) {
        Some(rest) => fraction(rest)?,
        None => (0, rest),
    };
    let (offset, rest) = if rest.is_empty() { (0, rest) } else { offset(rest)? };
    let time = Time::new(hour as i8, minute as i8, second as i8, nanos as i32).ok()?;
    rest.is_empty().then(|| instant(date, time, offset))?
}

fn by_pattern(tokens: &[Token], text: &str) -> Option<i128> {
    let (mut year, mut month, mut day, mut of_year) = (1970, 1, 1, None);
    let (mut hour, mut minute, mut second, mut nanos, mut east) = (0, 0, 0, 0, 0);
    let mut rest = text;
    for token in tokens {
        rest = match token {
            Token::Literal(literal) => rest.strip_prefix(&literal[..])?,
            Token::Fraction => {
                let (value, rest) = fraction(rest)?;
                nanos = value;
                rest
            }
            Token::Offset => {
                let (value, rest) = offset(rest)?;
                east = value;
                rest
            }
            Token::Digits(part, least, most) => {
                let (value, rest) = digits(rest, *least, *most)?;
                match part {
                    'y' => year = value,
                    'M' => month = value,
                    'd' => day = value,
                    'D' => of_year = Some(value),
                    'H' => hour = value,
                    'm' => minute = value,
                    _ => second = value,
                }
                rest
            }
        };
    }
    let date = match of_year {
        Some(day) => {
            let first = Date::new(year as i16, 1, 1).ok()?;
            first.checked_add(jiff::Span::new().days(day - 1)).ok()?
        }
        None => Date::new(year as i16, month as i8, day as i8).ok()?,
    };
    let time = Time::new(hour as i8, minute as i8, second as i8, nanos as i32).ok()?;
    rest.is_empty().then(|| instant(date, time, east))?
}

/// A point in time as an index writes it: in milliseconds, in UTC.
pub fn written(millis: i64) -> String {
    match jiff::Timestamp::from_millisecond(millis) {
        Ok(at) => at.strftime("%Y-%m-%dT%H:%M:%S.%3fZ").to_string(),
        Err(_) => millis.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_are_read_by_their_formats() {
        for (formats, text, want) in [
            ("strict_date", "1970-01-02", Some(86_400_000_000_000)),
            ("strict_date", "1970-01-02T00:00:00Z", None),
            ("strict_date_optional_time", "1970-01-01T01:00:00.5+01:00", Some(500_000_000)),
            ("strict_date_optional_time_nanos", "1970-01-01T00:00:00.000000001", Some(1)),
            ("d.M.uuuu", "2.1.1970", Some(86_400_000_000_000)),
            ("strict_date", "9999-12-31", Some(253_402_214_400_000_000_000)),
            ("d.M.uuuu", "31.6.1970", None),
            ("uuuu'y'MM-dd", "1970y01-01", Some(0)),
            ("strict_date||epoch_millis", "1000", Some(1_000_000_000)),
        ] {
            assert_eq!(Formats::parse(formats).unwrap().read(text), want, "{formats} {text}");
        }
        assert!(Formats::parse("EEE d").is_err());
        assert_eq!(written(86_400_001), "1970-01-02T00:00:00.001Z");
    }
}
