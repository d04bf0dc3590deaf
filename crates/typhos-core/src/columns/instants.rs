//! Days, times of day and timestamps, by the patterns of their column.

use std::marker::PhantomData;

use super::Reason;
use super::values::{Loss, ReadValue};
use crate::dates::{Moment, Pattern, ReadOptions};
use crate::readings::trim;
use crate::schema::{Scalar, TimeUnit, iso_8601};

/// The patterns of a date column.
pub(super) struct PatternRead {
    pub patterns: Vec<Pattern>,
    pub options: ReadOptions,
    pub ty: Scalar,
    pub loss: Loss,
}

impl PatternRead {
    #[inline]
    fn moment(&self, value: &[u8]) -> Result<Moment, Reason> {
        self.moment_if(value).ok_or_else(|| self.misread(value))
    }

    /// The moment, where nobody asks why there is none.
    #[inline]
    fn moment_if(&self, value: &[u8]) -> Option<Moment> {
        self.patterns.iter().find_map(|pattern| pattern.read_if(value, &self.options))
    }

    /// The same, of a value without blanks around it.
    #[inline]
    fn short_moment(&self, value: &[u8]) -> Option<Moment> {
        if trim(value).len() == value.len() { self.moment_if(value) } else { None }
    }

    #[cold]
    fn misread(&self, value: &[u8]) -> Reason {
        let tried: Vec<_> = self
            .patterns
            .iter()
            .filter_map(|pattern| Some((pattern, pattern.read(value, &self.options).err()?)))
            .collect();
        Reason::date(value, &tried)
    }

    /// Bounds are written as ISO 8601 has it, whatever the patterns of the column are. A day alone is its first moment,
    /// of instants that of UTC.
    fn iso(&self, text: &str) -> Result<Moment, Reason> {
        let mut patterns = iso_8601(self.ty, false);
        if let Scalar::Timestamp { utc, .. } = self.ty {
            patterns.extend(iso_8601(Scalar::Date, false));
            // Offsets without a colon, too.
            let basic = ["yyyy-MM-dd'T'HH:mm:ss.SSSSSSSSSX", "yyyy-MM-dd'T'HH:mm:ssX"];
            let basic = basic.iter().filter(|_| utc);
            patterns.extend(basic.filter_map(|pattern| Pattern::compile(pattern).ok()));
        }
        let read = patterns
            .iter()
            .find_map(|pattern| pattern.read(text.as_bytes(), &ReadOptions::default()).ok());
        read.ok_or(Reason::NotA(self.ty))
    }
}

/// Days since 1970-01-01.
pub(super) struct DateRead(pub PatternRead);

impl ReadValue for DateRead {
    type Native = i32;

    #[inline]
    fn read(&self, value: &[u8]) -> Result<i32, Reason> {
        let moment = self.0.moment(value)?;
        // A time of day would be lost, unless it says no more than the day does.
        if moment.nanos != 0 && !self.0.loss.change() {
            return Err(Reason::TooPrecise(Scalar::Date));
        }
        Ok(moment.days)
    }

    #[inline(always)]
    fn read_short(&self, text: &[u8], start: usize, end: usize) -> Option<i32> {
        let moment = self.0.short_moment(&text[start..end])?;
        (moment.nanos == 0).then_some(moment.days)
    }

    fn loss(&self) -> &Loss {
        &self.0.loss
    }

    fn bound(&self, text: &str) -> Result<i32, Reason> {
        Ok(self.0.iso(text)?.days)
    }
}

/// Times of day, in units; `N` is `i32` for seconds and milliseconds.
pub(super) struct TimeRead<N> {
    pub patterns: PatternRead,
    pub unit: TimeUnit,
    pub native: PhantomData<N>,
}

impl<N: Copy + PartialOrd + Default + TryFrom<i64>> ReadValue for TimeRead<N> {
    type Native = N;

    fn read(&self, value: &[u8]) -> Result<N, Reason> {
        self.in_units(self.patterns.moment(value)?)
    }

    fn bound(&self, text: &str) -> Result<N, Reason> {
        self.in_units(self.patterns.iso(text)?)
    }

    fn loss(&self) -> &Loss {
        &self.patterns.loss
    }
}

impl<N: TryFrom<i64>> TimeRead<N> {
    fn in_units(&self, moment: Moment) -> Result<N, Reason> {
        let ty = Scalar::Time(self.unit);
        if moment.nanos % self.unit.nanos() != 0 && !self.patterns.loss.change() {
            return Err(Reason::TooPrecise(ty));
        }
        N::try_from(moment.nanos / self.unit.nanos()).map_err(|_| Reason::OutOfTime(ty))
    }
}

/// Timestamps, in units since 1970-01-01T00:00.
pub(super) struct TimestampRead {
    pub patterns: PatternRead,
    pub unit: TimeUnit,
}

impl ReadValue for TimestampRead {
    type Native = i64;

    #[inline]
    fn read(&self, value: &[u8]) -> Result<i64, Reason> {
        self.in_units(self.patterns.moment(value)?)
    }

    #[inline(always)]
    fn read_short(&self, text: &[u8], start: usize, end: usize) -> Option<i64> {
        self.in_units(self.patterns.short_moment(&text[start..end])?).ok()
    }

    fn bound(&self, text: &str) -> Result<i64, Reason> {
        self.in_units(self.patterns.iso(text)?)
    }

    fn loss(&self) -> &Loss {
        &self.patterns.loss
    }
}

impl TimestampRead {
    #[inline]
    fn in_units(&self, moment: Moment) -> Result<i64, Reason> {
        // A division by a number that is known is a multiplication.
        let (per_second, rest, lost) = match self.unit {
            TimeUnit::Second => parts::<1>(moment.nanos),
            TimeUnit::Milli => parts::<1_000>(moment.nanos),
            TimeUnit::Micro => parts::<1_000_000>(moment.nanos),
            TimeUnit::Nano => parts::<1_000_000_000>(moment.nanos),
        };
        if lost != 0 && !self.patterns.loss.change() {
            return Err(Reason::TooPrecise(self.patterns.ty));
        }
        // In whole seconds first: years 1 to 9999 fit there, and in nanoseconds they do not.
        let seconds = i64::from(moment.days) * 86_400 - i64::from(moment.offset.unwrap_or(0));
        let units = seconds.checked_mul(per_second).and_then(|units| units.checked_add(rest));
        units.map_or_else(|| self.at_the_edge(seconds, per_second, rest), Ok)
    }

    /// The first day that 64 bits reach begins beyond them.
    #[cold]
    fn at_the_edge(&self, seconds: i64, per_second: i64, rest: i64) -> Result<i64, Reason> {
        let units = i128::from(seconds) * i128::from(per_second) + i128::from(rest);
        i64::try_from(units).map_err(|_| Reason::OutOfTime(self.patterns.ty))
    }
}

/// Units of a second, how many of them some nanoseconds are, and what is left.
#[inline(always)]
fn parts<const PER_SECOND: i64>(nanos: i64) -> (i64, i64, i64) {
    let unit = const { 1_000_000_000 / PER_SECOND };
    (PER_SECOND, nanos / unit, nanos % unit)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn timestamps(unit: TimeUnit, pattern: &str) -> TimestampRead {
        let utc = pattern.contains('X');
        let ty = Scalar::Timestamp { unit, utc };
        let patterns = vec![Pattern::compile(pattern).unwrap()];
        TimestampRead {
            patterns: PatternRead {
                patterns,
                options: ReadOptions::default(),
                ty,
                loss: Loss::default(),
            },
            unit,
        }
    }

    #[test]
    fn timestamps_keep_every_digit_or_say_so() {
        let micros = timestamps(TimeUnit::Micro, "yyyy-MM-dd HH:mm:ss.SSSSSSS");
        assert_eq!(micros.read(b"1970-01-01 00:00:01.5"), Ok(1_500_000));
        assert!(matches!(micros.read(b"1970-01-01 00:00:01.1234567"), Err(Reason::TooPrecise(_))));
        assert_eq!(micros.read(b"0001-01-01 00:00:00.0"), Ok(-62_135_596_800_000_000));
        assert_eq!(micros.read(b"9999-12-31 23:59:59.999999"), Ok(253_402_300_799_999_999));
        let nanos = timestamps(TimeUnit::Nano, "yyyy-MM-dd HH:mm");
        assert!(nanos.read(b"2262-04-11 23:47").is_ok());
        assert!(matches!(nanos.read(b"2262-04-12 00:00"), Err(Reason::OutOfTime(_))));
        assert!(matches!(nanos.read(b"1677-01-01 00:00"), Err(Reason::OutOfTime(_))));
        let fine = timestamps(TimeUnit::Nano, "yyyy-MM-dd HH:mm:ss.SSSSSSSSS");
        assert_eq!(fine.read(b"1677-09-21 00:12:43.145224192"), Ok(i64::MIN));
        assert!(fine.read(b"1677-09-21 00:12:43.145224191").is_err());
        assert_eq!(fine.read(b"2262-04-11 23:47:16.854775807"), Ok(i64::MAX));
        assert!(fine.read(b"2262-04-11 23:47:16.854775808").is_err());
        let utc = timestamps(TimeUnit::Second, "yyyy-MM-dd'T'HH:mm:ssXXX");
        assert_eq!(utc.read(b"1970-01-01T01:00:00+01:00"), Ok(0));
    }
}
