//! Values as text, appended to a buffer: what databases are sent that read text.

use arrow_schema::TimeUnit;
use typhos_core::dates::civil_from_days;

use typhos_load::view::units_per_second;

/// A number.
pub fn number(buffer: &mut Vec<u8>, value: impl std::fmt::Display) {
    use std::io::Write;
    write!(buffer, "{value}").expect("a buffer takes what it is given");
}

/// An integer of 64 bits.
pub fn integer(buffer: &mut Vec<u8>, value: i64) {
    buffer.extend_from_slice(itoa::Buffer::new().format(value).as_bytes());
}

/// A number with a mark before its last digits.
pub fn decimal(buffer: &mut Vec<u8>, mantissa: i128, scale: u8) {
    match i64::try_from(mantissa) {
        Ok(mantissa) if scale == 0 => integer(buffer, mantissa),
        Ok(mantissa) if scale < 18 => {
            let power = 10i64.pow(u32::from(scale));
            if mantissa < 0 {
                buffer.push(b'-');
            }
            let size = mantissa.unsigned_abs();
            integer(buffer, (size / power.unsigned_abs()) as i64);
            buffer.push(b'.');
            padded(buffer, size % power.unsigned_abs(), scale.into());
        }
        _ => number(buffer, typhos_core::readings::Decimal { mantissa, scale }),
    }
}

/// An integer with zeros before it.
fn padded(buffer: &mut Vec<u8>, value: u64, width: usize) {
    let start = buffer.len();
    buffer.resize(start + width, b'0');
    let mut rest = value;
    for digit in buffer[start..].iter_mut().rev() {
        *digit = b'0' + (rest % 10) as u8;
        rest /= 10;
    }
}

/// A day in the short form of ISO 8601, 20241231; `None` outside of the years 0 to 9999.
pub fn short_date(buffer: &mut Vec<u8>, days: i32) -> Option<()> {
    let (year, month, day) = civil_from_days(days);
    let year = u64::try_from(year).ok().filter(|year| *year <= 9999)?;
    padded(buffer, year * 10_000 + u64::from(month) * 100 + u64::from(day), 8);
    Some(())
}

/// A time of day.
pub fn time(buffer: &mut Vec<u8>, units: i64, unit: TimeUnit) {
    clock(buffer, units, unit, b":");
}

/// A day and a time of it, 20241231235959.123; `None` outside of the years 0 to 9999.
pub fn short_timestamp(buffer: &mut Vec<u8>, units: i64, unit: TimeUnit) -> Option<()> {
    let day = 86_400 * units_per_second(unit);
    short_date(buffer, i32::try_from(units.div_euclid(day)).ok()?)?;
    clock(buffer, units.rem_euclid(day), unit, b"");
    Some(())
}

/// Hours, minutes and seconds with something between them.
fn clock(buffer: &mut Vec<u8>, units: i64, unit: TimeUnit, between: &[u8]) {
    let per = units_per_second(unit);
    let (seconds, part) = (units / per, units % per);
    for (at, field) in [seconds / 3600, seconds / 60 % 60, seconds % 60].into_iter().enumerate() {
        if at > 0 {
            buffer.extend_from_slice(between);
        }
        padded(buffer, field.unsigned_abs(), 2);
    }
    if per > 1 {
        buffer.push(b'.');
        padded(buffer, part.unsigned_abs(), per.ilog10() as usize);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn text(write: impl FnOnce(&mut Vec<u8>)) -> String {
        let mut buffer = Vec::new();
        write(&mut buffer);
        String::from_utf8(buffer).unwrap()
    }

    proptest! {
        #[test]
        fn numbers_are_written_as_the_library_writes_them(
            int in any::<i64>(), mantissa in any::<i64>(), scale in 0u8..=38
        ) {
            prop_assert_eq!(text(|b| integer(b, int)), int.to_string());
            let mantissa = i128::from(mantissa);
            let want = typhos_core::readings::Decimal { mantissa, scale }.to_string();
            prop_assert_eq!(text(|b| decimal(b, mantissa, scale)), want);
        }

        #[test]
        fn times_are_written_as_the_core_writes_them(days in -700_000..2_900_000i32, nanos in 0..86_400_000_000_000i64) {
            let want = typhos_core::dates::format_days(days);
            let mut buffer = Vec::new();
            let written = short_date(&mut buffer, days);
            let is_four = want.len() == 10 && !want.starts_with(['-', '+']);
            prop_assert_eq!(written.is_some(), is_four);
            if is_four {
                prop_assert_eq!(String::from_utf8(buffer).unwrap(), want.replace('-', ""));
            }
            let seconds = nanos / 1_000_000_000;
            let whole = text(|b| time(b, seconds, TimeUnit::Second));
            prop_assert_eq!(&whole, &typhos_core::dates::format_nanos(seconds * 1_000_000_000));
            let moment = i64::from(days) * 86_400 + seconds;
            let both = text(|b| _ = short_timestamp(b, moment, TimeUnit::Second));
            if is_four {
                prop_assert_eq!(both, (want + &whole).replace(['-', ':'], ""));
            }
            let fine = text(|b| time(b, nanos, TimeUnit::Nanosecond));
            prop_assert!(fine.len() == 18 && fine.starts_with(&typhos_core::dates::format_nanos(nanos)[..8]));
        }
    }
}
