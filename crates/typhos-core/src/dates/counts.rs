//! Dates as one number: units since an epoch, days of a spreadsheet.

use super::calendar::{DAY_NANOS, days_from_civil};
use super::moment::{Misread, Moment};

/// What a number counts, and since when.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Count {
    /// Units of so many nanoseconds since 1970-01-01T00:00Z.
    Epoch(i64),
    EpochDays,
    /// Days, the first of January 1900 being day 1. There is a day 60 that never was.
    Sheet1900,
    /// Days, the first of January 1904 being day 0.
    Sheet1904,
}

impl Count {
    pub fn named(word: &str) -> Option<Count> {
        Some(match word {
            "epoch-s" => Count::Epoch(1_000_000_000),
            "epoch-ms" => Count::Epoch(1_000_000),
            "epoch-us" => Count::Epoch(1_000),
            "epoch-ns" => Count::Epoch(1),
            "epoch-days" => Count::EpochDays,
            "sheet-1900" => Count::Sheet1900,
            "sheet-1904" => Count::Sheet1904,
            _ => return None,
        })
    }

    /// Digits that the fraction of a second may have.
    pub fn fraction_digits(self) -> u8 {
        match self {
            Count::Epoch(_) => 9,
            Count::EpochDays => 0,
            Count::Sheet1900 | Count::Sheet1904 => 3,
        }
    }

    pub fn has_time(self) -> bool {
        self != Count::EpochDays
    }

    pub fn has_offset(self) -> bool {
        matches!(self, Count::Epoch(_))
    }

    pub fn read(self, value: &[u8]) -> Result<Moment, Misread> {
        match self {
            Count::Epoch(unit) => {
                // Digits of the fraction that nanoseconds hold.
                let scale = unit.ilog10() as usize;
                let (whole, fraction, length) = number(value, scale)?;
                let unit = i128::from(unit);
                let below = i128::from(fraction) * unit / 10i128.pow(length as u32);
                let below = if value[0] == b'-' { -below } else { below };
                let nanos = i128::from(whole) * unit + below;
                let days = nanos.div_euclid(i128::from(DAY_NANOS));
                let nanos = nanos.rem_euclid(i128::from(DAY_NANOS)) as i64;
                Ok(Moment { days: in_years(days)?, nanos, offset: Some(0) })
            }
            Count::EpochDays => {
                let (days, ..) = number(value, 0)?;
                Ok(Moment { days: in_years(days.into())?, nanos: 0, offset: None })
            }
            Count::Sheet1900 | Count::Sheet1904 => {
                let (day, fraction, length) = number(value, 18)?;
                if value[0] == b'-' {
                    return Err(Misread::Expected { step: 0, at: 0 });
                }
                let start = match (self, day) {
                    (Count::Sheet1904, _) => days_from_civil(1904, 1, 1),
                    (_, 0) => return Err(Misread::Range { part: "day", number: 0, at: 0 }),
                    (_, 1..=59) => days_from_civil(1899, 12, 31),
                    (_, 60) => return Err(Misread::NeverWas),
                    _ => days_from_civil(1899, 12, 30),
                };
                // What a double has of a day in the twentieth century and later ends well below this.
                let millis = i128::from(DAY_NANOS / 1_000_000);
                let power = 10i128.pow(length as u32);
                let millis_of_day = (i128::from(fraction) * millis * 2 + power) / (2 * power);
                let days = i128::from(day) + i128::from(start) + millis_of_day / millis;
                let nanos = (millis_of_day % millis) as i64 * 1_000_000;
                Ok(Moment { days: in_years(days)?, nanos, offset: None })
            }
        }
    }
}

/// A day of the years 1 to 9999.
fn in_years(days: i128) -> Result<i32, Misread> {
    let known = i128::from(days_from_civil(1, 1, 1))..=i128::from(days_from_civil(9999, 12, 31));
    if known.contains(&days) { Ok(days as i32) } else { Err(Misread::FarOut) }
}

/// The whole part of a number, the digits of its fraction as an integer, and how many there are.
fn number(value: &[u8], most_fraction: usize) -> Result<(i64, i64, usize), Misread> {
    let expected = |at: usize| Misread::Expected { step: 0, at };
    let start = usize::from(value.first() == Some(&b'-'));
    let digits =
        |from: usize| value[from..].iter().take_while(|byte| byte.is_ascii_digit()).count();
    let whole = digits(start);
    if whole == 0 {
        return Err(expected(start));
    }
    if whole > 19 {
        return Err(Misread::FarOut);
    }
    let sum = |from: usize, count: usize| {
        value[from..from + count]
            .iter()
            .try_fold(0i64, |sum, byte| sum.checked_mul(10)?.checked_add(i64::from(byte - b'0')))
    };
    let number = sum(start, whole).ok_or(Misread::FarOut)?;
    let number = if start == 1 { -number } else { number };
    let at = start + whole;
    if at == value.len() {
        return Ok((number, 0, 0));
    }
    if value[at] != b'.' || most_fraction == 0 {
        return Err(Misread::TooLong { at });
    }
    let length = digits(at + 1);
    if length == 0 {
        return Err(expected(at + 1));
    }
    // A day's digits beyond the eighteenth are less than a nanosecond.
    let kept = if most_fraction == 18 { length.min(18) } else { length };
    if kept > most_fraction {
        return Err(Misread::TooLong { at: at + 1 + most_fraction });
    }
    if at + 1 + length < value.len() {
        return Err(Misread::TooLong { at: at + 1 + length });
    }
    Ok((number, sum(at + 1, kept).ok_or(Misread::FarOut)?, kept))
}

#[cfg(test)]
mod tests {
    use super::super::{Pattern, ReadOptions, format_days, format_nanos};

    #[test]
    fn numbers_that_are_dates() {
        for (pattern, value, want) in [
            ("epoch-s", "0", Ok("1970-01-01 00:00:00 0")),
            ("epoch-s", "1709287200.25", Ok("2024-03-01 10:00:00.250 0")),
            ("epoch-s", "-1.5", Ok("1969-12-31 23:59:58.500 0")),
            ("epoch-ms", "1709287200123", Ok("2024-03-01 10:00:00.123 0")),
            ("epoch-us", "1709287200123456", Ok("2024-03-01 10:00:00.123456 0")),
            ("epoch-ns", "1709287200123456789", Ok("2024-03-01 10:00:00.123456789 0")),
            ("epoch-ns", "1.5", Err("ends after 's', 2 bytes left: '.5'")),
            ("epoch-s", "1.1234567891", Err("ends after 's', 1 byte left: '1'")),
            ("epoch-s", "253402300800", Err("lies outside of the years 1 to 9999")),
            ("epoch-s", "99999999999999999999", Err("lies outside of the years 1 to 9999")),
            ("epoch-s", "", Err("ends where a number is expected")),
            ("epoch-s", "12a", Err("ends after 's', 1 byte left: 'a'")),
            ("epoch-days", "19783", Ok("2024-03-01 00:00:00")),
            ("sheet-1900", "1", Ok("1900-01-01 00:00:00")),
            ("sheet-1900", "59", Ok("1900-02-28 00:00:00")),
            ("sheet-1900", "60", Err("day 60 of the sheet is 29 February 1900, which never was")),
            ("sheet-1900", "61", Ok("1900-03-01 00:00:00")),
            ("sheet-1900", "45352.041666666664", Ok("2024-03-01 01:00:00")),
            ("sheet-1900", "45352.999999999999999999999", Ok("2024-03-02 00:00:00")),
            ("sheet-1900", "0", Err("day 0 does not exist")),
            ("sheet-1904", "0", Ok("1904-01-01 00:00:00")),
            ("sheet-1904", "43890.5", Ok("2024-03-01 12:00:00")),
        ] {
            let compiled = Pattern::compile(pattern).unwrap();
            let read = compiled.read(value.as_bytes(), &ReadOptions::default());
            let shown = read
                .map(|m| {
                    let offset = m.offset.map_or(String::new(), |offset| format!(" {offset}"));
                    format!("{} {}{offset}", format_days(m.days), format_nanos(m.nanos))
                })
                .map_err(|misread| misread.describe(value.as_bytes(), &compiled));
            assert_eq!(shown.as_deref().map_err(|e| e.as_str()), want, "{pattern} {value}");
        }
    }
}
