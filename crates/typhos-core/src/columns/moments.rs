//! Days, times and decimals as text, however far out they are.

use std::fmt::Write;

use crate::dates::{DAY_NANOS, push_days, push_nanos};

/// Days before and after 1970 that are shown as dates: those of the years from -262,143 to 262,142.
const MOST_DAYS: i64 = 95_746_000;

/// Appends a day, as far as a calendar reaches; what is beyond as a count.
pub(super) fn push_day(text: &mut String, days: i64) {
    match i32::try_from(days) {
        Ok(day) if days.abs() <= MOST_DAYS => push_days(text, day),
        _ => _ = write!(text, "{days} days"),
    }
}

/// Appends a time of day; what is none as a count.
pub(super) fn push_time(text: &mut String, nanos: i64) {
    if (0..DAY_NANOS).contains(&nanos) {
        push_nanos(text, nanos);
    } else {
        _ = write!(text, "{nanos} ns");
    }
}

/// Appends a day and a time.
pub(super) fn push_instant(text: &mut String, nanos: i128) {
    let (days, time) = match i64::try_from(nanos) {
        // Whole numbers of 64 bits are divided in a fraction of the time.
        Ok(nanos) => (nanos.div_euclid(DAY_NANOS), nanos.rem_euclid(DAY_NANOS)),
        Err(_) => {
            let day = i128::from(DAY_NANOS);
            // An instant in 64 bits of seconds is within 64 bits of days.
            (nanos.div_euclid(day) as i64, nanos.rem_euclid(day) as i64)
        }
    };
    push_day(text, days);
    text.push(' ');
    push_nanos(text, time);
}

/// Appends an integer of any length with a mark so many digits before its end; behind its end where that is negative.
pub(super) fn push_decimal(text: &mut String, digits: &str, scale: i8) {
    let (sign, digits) = match digits.strip_prefix('-') {
        Some(digits) => ("-", digits),
        None => ("", digits),
    };
    text.push_str(sign);
    let Ok(scale) = usize::try_from(scale) else {
        text.push_str(digits);
        text.extend(std::iter::repeat_n('0', usize::from(scale.unsigned_abs())));
        return;
    };
    let whole = digits.len().saturating_sub(scale);
    text.push_str(if whole == 0 { "0" } else { &digits[..whole] });
    if scale > 0 {
        text.push('.');
        text.extend(std::iter::repeat_n('0', scale.saturating_sub(digits.len())));
        text.push_str(&digits[whole..]);
    }
}
