//! Days, times and decimals as text, however far out they are.

use crate::dates::{DAY_NANOS, format_days, format_nanos};

/// Days before and after 1970 that are shown as dates: those of the years from -262,143 to 262,142.
const MOST_DAYS: i64 = 95_746_000;

/// A day, as far as a calendar reaches; what is beyond as a count.
pub(super) fn day_text(days: i64) -> String {
    match i32::try_from(days) {
        Ok(day) if days.abs() <= MOST_DAYS => format_days(day),
        _ => format!("{days} days"),
    }
}

/// A time of day; what is none as a count.
pub(super) fn time_text(nanos: i64) -> String {
    if (0..DAY_NANOS).contains(&nanos) { format_nanos(nanos) } else { format!("{nanos} ns") }
}

/// A day and a time.
pub(super) fn instant_text(nanos: i128) -> String {
    let day = i128::from(DAY_NANOS);
    // An instant in 64 bits of seconds is within 64 bits of days.
    let days = day_text(nanos.div_euclid(day) as i64);
    format!("{days} {}", format_nanos(nanos.rem_euclid(day) as i64))
}

/// An integer of any length with a mark so many digits before its end; behind its end where that is negative.
pub(super) fn decimal_text(digits: &str, scale: i8) -> String {
    let (sign, digits) = match digits.strip_prefix('-') {
        Some(digits) => ("-", digits),
        None => ("", digits),
    };
    match usize::try_from(scale) {
        Ok(0) => format!("{sign}{digits}"),
        Ok(scale) => {
            let padded = format!("{digits:0>width$}", width = scale + 1);
            let (whole, fraction) = padded.split_at(padded.len() - scale);
            format!("{sign}{whole}.{fraction}")
        }
        Err(_) => format!("{sign}{digits}{}", "0".repeat(usize::from(scale.unsigned_abs()))),
    }
}
