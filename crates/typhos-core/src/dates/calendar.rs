//! The proleptic Gregorian calendar, as days since 1970-01-01.

use std::fmt::Write;

/// Nanoseconds of a day.
pub const DAY_NANOS: i64 = 86_400_000_000_000;

/// Days since 1970-01-01 of a day that exists.
///
/// Counts in years that begin in March, so that the leap day is the last of its year (the method of
/// the Julian day number, shifted to the Unix epoch). Exact for years 1 to 9999 and beyond.
#[inline]
pub fn days_from_civil(year: i32, month: u32, day: u32) -> i32 {
    let (year, month) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    // So many years later, of whole cycles of the calendar, no year of 32 bits of days is negative, and divisions are cheap.
    const CYCLES: u32 = 16_000;
    let year = (year + (CYCLES * 400).cast_signed()).cast_unsigned();
    let century = year / 100;
    let leap_days = year / 4 - century + century / 4;
    let day_of_year = (153 * month + 2) / 5 + day - 1;
    let days = year.wrapping_mul(365).wrapping_add(leap_days + day_of_year);
    days.wrapping_sub(719_468 + CYCLES * 146_097).cast_signed()
}

/// Year, month and day of a day counted from 1970-01-01.
pub fn civil_from_days(days: i32) -> (i32, u32, u32) {
    let shifted = days + 719_468;
    let era = shifted.div_euclid(146_097);
    let of_era = shifted.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let day_of_year = (of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100)) as u32;
    let shifted_month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * shifted_month + 2) / 5 + 1;
    let month = if shifted_month < 10 { shifted_month + 3 } else { shifted_month - 9 };
    (year_of_era + era * 400 + i32::from(month <= 2), month, day)
}

/// Days of a month, 28 to 31; `month` is 1 to 12.
#[inline]
pub fn days_in_month(year: i32, month: u32) -> u32 {
    match month {
        2 if year % 4 == 0 && (year % 100 != 0 || year % 400 == 0) => 29,
        2 => 28,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// Days of a year, 365 or 366.
pub fn days_of_year(year: i32) -> u32 {
    337 + days_in_month(year, 2)
}

/// The ISO weekday of a day counted from 1970-01-01, from 1 for Monday.
#[inline]
pub fn weekday(days: i32) -> u32 {
    // The first day of 1970 was a Thursday.
    (days + 3).rem_euclid(7) as u32 + 1
}

/// The English name of the weekday of a day counted from 1970-01-01.
pub fn weekday_name(days: i32) -> &'static str {
    const NAMES: [&str; 7] =
        ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
    NAMES[weekday(days) as usize - 1]
}

/// ISO weeks of a year, 52 or 53: as many as there are Thursdays.
pub fn weeks_of_year(year: i32) -> u32 {
    let first = weekday(days_from_civil(year, 1, 1));
    if first == 4 || first == 3 && days_of_year(year) == 366 { 53 } else { 52 }
}

/// A day as `yyyy-MM-dd`.
pub fn format_days(days: i32) -> String {
    let mut text = String::with_capacity(10);
    push_days(&mut text, days);
    text
}

/// Appends a day as `yyyy-MM-dd`.
pub fn push_days(text: &mut String, days: i32) {
    let (year, month, day) = civil_from_days(days);
    match u32::try_from(year) {
        Ok(year @ ..=9999) => {
            let [y, m, d] = [year / 100, month, day].map(two_digits);
            let z = two_digits(year);
            push_ascii(text, &[y[0], y[1], z[0], z[1], b'-', m[0], m[1], b'-', d[0], d[1]]);
        }
        _ => _ = write!(text, "{year:04}-{month:02}-{day:02}"),
    }
}

/// A time of day as `HH:mm:ss`, with as many fraction digits (0, 3, 6 or 9) as it needs.
pub fn format_nanos(nanos: i64) -> String {
    let mut text = String::with_capacity(18);
    push_nanos(&mut text, nanos);
    text
}

/// Appends a time of day, as [`format_nanos`] writes it.
pub fn push_nanos(text: &mut String, nanos: i64) {
    let (seconds, fraction) = (nanos / 1_000_000_000, nanos % 1_000_000_000);
    let fields = [seconds / 3600, seconds / 60 % 60, seconds % 60];
    if (0..100 * 3600).contains(&seconds) {
        let [h, m, s] = fields.map(|field| two_digits(field as u32));
        push_ascii(text, &[h[0], h[1], b':', m[0], m[1], b':', s[0], s[1]]);
    } else {
        let [hours, minutes, seconds] = fields;
        _ = write!(text, "{hours:02}:{minutes:02}:{seconds:02}");
    }
    if fraction != 0 {
        let digits = format!("{fraction:09}");
        let needed = digits.trim_end_matches('0').len().div_ceil(3) * 3;
        text.push('.');
        text.push_str(&digits[..needed]);
    }
}

/// The last two digits of a number.
fn two_digits(number: u32) -> [u8; 2] {
    [b'0' + (number / 10 % 10) as u8, b'0' + (number % 10) as u8]
}

fn push_ascii(text: &mut String, bytes: &[u8]) {
    text.push_str(std::str::from_utf8(bytes).expect("digits and marks are ASCII"));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_come_back_as_far_as_they_are_counted() {
        // Behind the last of these the shift of the epoch leaves 32 bits.
        for days in [-2_000_000_000, -146_097_001, -719_469, -1, 0, 146_097_001, 2_000_000_000] {
            let (year, month, day) = civil_from_days(days);
            assert_eq!(days_from_civil(year, month, day), days, "{year}-{month}-{day}");
        }
    }

    #[test]
    fn every_day_of_ten_thousand_years_against_an_independent_calendar() {
        let mut date = jiff::civil::date(1, 1, 1);
        let epoch = jiff::civil::date(1970, 1, 1);
        let mut days = -date.until(epoch).unwrap().get_days();
        loop {
            let (year, month, day) =
                (i32::from(date.year()), date.month() as u32, date.day() as u32);
            assert_eq!(days_from_civil(year, month, day), days, "{date}");
            assert_eq!(civil_from_days(days), (year, month, day), "{date}");
            assert_eq!(days_in_month(year, month), date.days_in_month() as u32, "{date}");
            assert_eq!(weekday(days), date.weekday().to_monday_one_offset() as u32, "{date}");
            // The fourth of January is in the first week.
            if (month, day) == (1, 4) {
                assert_eq!(days_of_year(year), date.days_in_year() as u32, "{date}");
                assert_eq!(
                    weeks_of_year(year),
                    date.iso_week_date().weeks_in_year() as u32,
                    "{date}"
                );
            }
            let Ok(next) = date.tomorrow() else { break };
            date = next;
            days += 1;
        }
        assert_eq!(date.year(), 9999);
    }

    #[test]
    fn times_show_the_digits_they_need() {
        for (nanos, want) in [
            (0, "00:00:00"),
            (86_399_000_000_000, "23:59:59"),
            (1_500_000_000, "00:00:01.500"),
            (1_000, "00:00:00.000001"),
            (100, "00:00:00.000000100"),
        ] {
            assert_eq!(format_nanos(nanos), want);
        }
    }
}
