//! One value → one native value, strictly.
//!
//! A [`Read`] reads what the declared type can hold, and nothing near it. White space around a value
//! is taken off before.

use std::marker::PhantomData;

use super::Reason;
use crate::dates::{Moment, Pattern, ReadOptions};
use crate::readings::{
    Decimal, Number, NumberStyle, POW10, bool_word, infinity, parse_integer, parse_number,
};
use crate::schema::{IntType, TimeUnit, Type};

/// Reads the values of one type.
pub(super) trait Read {
    /// What they are in memory.
    type Native: Copy + PartialOrd + Default;

    fn read(&self, value: &[u8]) -> Result<Self::Native, Reason>;

    /// Reads a bound as it stands in a schema file.
    fn bound(&self, text: &str) -> Result<Self::Native, Reason> {
        self.read(text.as_bytes())
    }
}

pub(super) fn read_bool(value: &[u8]) -> Result<bool, Reason> {
    match value {
        b"1" => Ok(true),
        b"0" => Ok(false),
        _ => bool_word(value).map(|(_, says)| says).ok_or(Reason::NotA(Type::Bool)),
    }
}

/// Reads numbers that are taken apart already.
pub(super) trait ReadNumber: Read {
    /// The type, for messages.
    fn ty(&self) -> Type;

    fn number(&self, number: &Number) -> Result<Self::Native, Reason>;
}

/// Numbers as people write them.
pub(super) struct Styled<R> {
    pub read: R,
    pub style: NumberStyle,
}

impl<R: ReadNumber> Read for Styled<R> {
    type Native = R::Native;

    fn read(&self, value: &[u8]) -> Result<R::Native, Reason> {
        match self.style.read(value) {
            Some(number) => self.read.number(&number),
            None => Err(Reason::NotWritten { ty: self.read.ty(), style: self.style.clone() }),
        }
    }

    /// Bounds are written plainly.
    fn bound(&self, text: &str) -> Result<R::Native, Reason> {
        self.read.read(text.as_bytes())
    }
}

/// A number written plainly, but for a typographer's minus, or a space behind the sign.
#[inline]
fn plain_number(value: &[u8]) -> Option<Number> {
    parse_number(value)
        .or_else(|| has_loose_sign(value).then(|| NumberStyle::default().read(value)).flatten())
}

/// Whether a value starts with a sign that is no part of a plain number: a typographer's minus, or one
/// with a space behind it.
#[inline]
fn has_loose_sign(value: &[u8]) -> bool {
    matches!(value, [b'+' | b'-', b' ' | b'\t' | 0x80.., ..] | [0xe2, 0x88, 0x92, ..])
}

/// Integers.
pub(super) struct IntRead<N> {
    ty: IntType,
    native: PhantomData<N>,
}

impl<N> IntRead<N> {
    pub fn new(ty: IntType) -> Self {
        IntRead { ty, native: PhantomData }
    }
}

impl<N: Copy + PartialOrd + Default + TryFrom<i64> + TryFrom<i128>> Read for IntRead<N> {
    type Native = N;

    #[inline]
    fn read(&self, value: &[u8]) -> Result<N, Reason> {
        match parse_integer(value) {
            Some(number) => N::try_from(number).map_err(|_| Reason::OutOfRange(Type::Int(self.ty))),
            None => self.read_long(value),
        }
    }
}

impl<N: TryFrom<i128>> IntRead<N> {
    /// Twenty digits, a plus, a fraction of zeros, an exponent: all that is an integer after all.
    #[inline(never)]
    fn read_long(&self, value: &[u8]) -> Result<N, Reason> {
        let ty = Type::Int(self.ty);
        let number = plain_number(value).ok_or_else(|| {
            let digits = value.strip_prefix(b"-").unwrap_or(value);
            let huge = !digits.is_empty() && digits.iter().all(u8::is_ascii_digit);
            if huge { Reason::OutOfRange(ty) } else { Reason::NotA(ty) }
        })?;
        self.whole(&number)
    }

    fn whole(&self, number: &Number) -> Result<N, Reason> {
        let ty = Type::Int(self.ty);
        let whole = exact(number, 0).ok_or(Reason::NotA(ty))?;
        N::try_from(whole).map_err(|_| Reason::OutOfRange(ty))
    }
}

impl<N: Copy + PartialOrd + Default + TryFrom<i64> + TryFrom<i128>> ReadNumber for IntRead<N> {
    fn ty(&self) -> Type {
        Type::Int(self.ty)
    }

    fn number(&self, number: &Number) -> Result<N, Reason> {
        self.whole(number)
    }
}

/// A number as an integer at a scale, where no digit is lost.
fn exact(number: &Number, scale: u8) -> Option<i128> {
    let exponent = number.exponent.unwrap_or(0);
    let decimal = Decimal { mantissa: number.mantissa, scale: number.scale };
    if exponent == 0 {
        return decimal.at_scale(scale);
    }
    if number.mantissa == 0 {
        return Some(0);
    }
    let shift = exponent + i32::from(scale) - i32::from(number.scale);
    let power = *POW10.get(usize::try_from(shift.unsigned_abs()).ok()?)?;
    if shift >= 0 {
        number.mantissa.checked_mul(power)
    } else {
        (number.mantissa % power == 0).then_some(number.mantissa / power)
    }
}

/// Decimals, as integers at their scale.
pub(super) struct DecimalRead {
    pub precision: u8,
    pub scale: u8,
}

impl Read for DecimalRead {
    type Native = i128;

    #[inline]
    fn read(&self, value: &[u8]) -> Result<i128, Reason> {
        let number = plain_number(value).ok_or(Reason::NotA(self.ty()))?;
        self.number(&number)
    }
}

impl ReadNumber for DecimalRead {
    fn ty(&self) -> Type {
        Type::Decimal { precision: self.precision, scale: self.scale }
    }

    #[inline]
    fn number(&self, number: &Number) -> Result<i128, Reason> {
        let ty = self.ty();
        let Some(unscaled) = exact(number, self.scale) else {
            let wide = number.exponent.is_none() && number.scale <= self.scale;
            return Err(if wide { Reason::OutOfRange(ty) } else { Reason::TooPrecise(ty) });
        };
        if unscaled.unsigned_abs() >= POW10[usize::from(self.precision)].unsigned_abs() {
            return Err(Reason::OutOfRange(ty));
        }
        Ok(unscaled)
    }
}

/// Floats of either size.
pub(super) struct FloatRead<N> {
    native: PhantomData<N>,
}

impl<N> FloatRead<N> {
    pub fn new() -> Self {
        FloatRead { native: PhantomData }
    }
}

fn float_text(value: &[u8], ty: Type) -> Result<&str, Reason> {
    let text = std::str::from_utf8(value).map_err(|_| Reason::NotA(ty))?;
    let plain = value.iter().all(|b| matches!(b, b'0'..=b'9' | b'.' | b'+' | b'-' | b'e' | b'E'));
    let is_special = || {
        matches!(text.trim_start_matches(['+', '-']), "NaN" | "nan") || infinity(value).is_some()
    };
    if plain || is_special() { Ok(text) } else { Err(Reason::NotA(ty)) }
}

macro_rules! float_read {
    ($native:ty, $type:expr) => {
        impl Read for FloatRead<$native> {
            type Native = $native;

            #[inline]
            fn read(&self, value: &[u8]) -> Result<$native, Reason> {
                if has_loose_sign(value) {
                    let number = plain_number(value).ok_or(Reason::NotA($type))?;
                    return self.number(&number);
                }
                let text = float_text(value, $type)?;
                let float: $native = text.parse().map_err(|_| Reason::NotA($type))?;
                // Digits that overflow are out of range; infinity has to be written as such.
                if float.is_infinite() && value.iter().any(u8::is_ascii_digit) {
                    return Err(Reason::OutOfRange($type));
                }
                Ok(float)
            }
        }

        impl ReadNumber for FloatRead<$native> {
            fn ty(&self) -> Type {
                $type
            }

            fn number(&self, number: &Number) -> Result<$native, Reason> {
                let text = format!("{}e-{}", number.mantissa, number.scale);
                text.parse().map_err(|_| Reason::NotA($type))
            }
        }
    };
}
float_read!(f32, Type::Float32);
float_read!(f64, Type::Float64);

/// The patterns of a date column.
pub(super) struct PatternRead {
    pub patterns: Vec<Pattern>,
    pub options: ReadOptions,
    pub ty: Type,
}

impl PatternRead {
    #[inline]
    fn moment(&self, value: &[u8]) -> Result<Moment, Reason> {
        for pattern in &self.patterns {
            if let Some(moment) = pattern.read_if(value, &self.options) {
                return Ok(moment);
            }
        }
        Err(self.misread(value))
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

    /// Bounds are written as ISO 8601 has it, whatever the patterns of the column are.
    fn iso(&self, text: &str) -> Result<Moment, Reason> {
        let patterns: &[&str] = match self.ty {
            Type::Date => &["yyyy-MM-dd"],
            Type::Time(_) => &["HH:mm:ss.SSSSSSSSS", "HH:mm:ss", "HH:mm"],
            Type::Timestamp { utc: true, .. } => &[
                "yyyy-MM-dd'T'HH:mm:ss.SSSSSSSSSX",
                "yyyy-MM-dd'T'HH:mm:ssX",
                "yyyy-MM-dd'T'HH:mm:ssXXX",
            ],
            _ => &[
                "yyyy-MM-dd HH:mm:ss.SSSSSSSSS",
                "yyyy-MM-dd HH:mm:ss",
                "yyyy-MM-dd'T'HH:mm:ss",
                "yyyy-MM-dd",
            ],
        };
        let mut compiled = patterns.iter().filter_map(|pattern| Pattern::compile(pattern).ok());
        let read = compiled
            .find_map(|pattern| pattern.read(text.as_bytes(), &ReadOptions::default()).ok());
        read.ok_or(Reason::NotA(self.ty))
    }
}

/// Days since 1970-01-01.
pub(super) struct DateRead(pub PatternRead);

impl Read for DateRead {
    type Native = i32;

    #[inline]
    fn read(&self, value: &[u8]) -> Result<i32, Reason> {
        let moment = self.0.moment(value)?;
        // A time of day would be lost, unless it says no more than the day does.
        if moment.nanos != 0 { Err(Reason::TooPrecise(Type::Date)) } else { Ok(moment.days) }
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

impl<N: Copy + PartialOrd + Default + TryFrom<i64>> Read for TimeRead<N> {
    type Native = N;

    fn read(&self, value: &[u8]) -> Result<N, Reason> {
        self.in_units(self.patterns.moment(value)?)
    }

    fn bound(&self, text: &str) -> Result<N, Reason> {
        self.in_units(self.patterns.iso(text)?)
    }
}

impl<N: TryFrom<i64>> TimeRead<N> {
    fn in_units(&self, moment: Moment) -> Result<N, Reason> {
        let ty = Type::Time(self.unit);
        if moment.nanos % self.unit.nanos() != 0 {
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

impl Read for TimestampRead {
    type Native = i64;

    #[inline]
    fn read(&self, value: &[u8]) -> Result<i64, Reason> {
        self.in_units(self.patterns.moment(value)?)
    }

    fn bound(&self, text: &str) -> Result<i64, Reason> {
        self.in_units(self.patterns.iso(text)?)
    }
}

impl TimestampRead {
    #[inline]
    fn in_units(&self, moment: Moment) -> Result<i64, Reason> {
        let unit = self.unit.nanos();
        if moment.nanos % unit != 0 {
            return Err(Reason::TooPrecise(self.patterns.ty));
        }
        // In whole seconds first: years 1 to 9999 fit there, and in nanoseconds they do not.
        let seconds = i64::from(moment.days) * 86_400 - i64::from(moment.offset.unwrap_or(0));
        let units = seconds
            .checked_mul(1_000_000_000 / unit)
            .and_then(|units| units.checked_add(moment.nanos / unit));
        units.ok_or(Reason::OutOfTime(self.patterns.ty))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn integers_at_every_boundary() {
        fn holds<N: Copy + PartialOrd + Default + TryFrom<i64> + TryFrom<i128>>(ty: IntType) {
            let read = IntRead::<N>::new(ty);
            let (low, high) = ty.range();
            for (value, fits) in [(low, true), (low - 1, false), (high, true), (high + 1, false)] {
                let got = read.read(value.to_string().as_bytes());
                assert_eq!(got.is_ok(), fits, "{value} as {}", ty.name());
                if let Err(reason) = got {
                    assert_eq!(reason, Reason::OutOfRange(Type::Int(ty)));
                }
            }
        }
        holds::<i8>(IntType::Int8);
        holds::<i16>(IntType::Int16);
        holds::<i32>(IntType::Int32);
        holds::<i64>(IntType::Int64);
        holds::<u8>(IntType::UInt8);
        holds::<u16>(IntType::UInt16);
        holds::<u32>(IntType::UInt32);
        holds::<u64>(IntType::UInt64);
    }

    #[test]
    fn integers_written_in_other_ways() {
        let read = IntRead::<i32>::new(IntType::Int32);
        for (text, want) in [
            ("+7", Some(7)),
            ("12.00", Some(12)),
            ("1e3", Some(1000)),
            ("-0", Some(0)),
            ("007", Some(7)),
            ("- 5", Some(-5)),
            ("+ 0", Some(0)),
            ("\u{2212}5", Some(-5)),
        ] {
            assert_eq!(read.read(text.as_bytes()).ok(), want, "{text}");
        }
        for text in ["", "12.5", "1e-3", "x", "1 2", "--1", "0x10"] {
            assert_eq!(
                read.read(text.as_bytes()),
                Err(Reason::NotA(Type::Int(IntType::Int32))),
                "{text}"
            );
        }
        let huge = "9".repeat(60);
        assert_eq!(read.read(huge.as_bytes()), Err(Reason::OutOfRange(Type::Int(IntType::Int32))));
    }

    #[test]
    fn decimals_are_exact_or_misfits() {
        let read = DecimalRead { precision: 6, scale: 2 };
        let ty = Type::Decimal { precision: 6, scale: 2 };
        for (text, want) in [
            ("12.5", Ok(1250)),
            ("9999.99", Ok(999_999)),
            ("10000.00", Err(Reason::OutOfRange(ty))),
            ("1.500", Ok(150)),
            ("1.505", Err(Reason::TooPrecise(ty))),
            ("1e2", Ok(10_000)),
            ("15e-1", Ok(150)),
            ("15e-3", Err(Reason::TooPrecise(ty))),
            ("-0.01", Ok(-1)),
            ("12,5", Err(Reason::NotA(ty))),
            ("", Err(Reason::NotA(ty))),
        ] {
            assert_eq!(read.read(text.as_bytes()), want, "{text}");
        }
        let widest = DecimalRead { precision: 38, scale: 0 };
        let nines = "9".repeat(38);
        assert_eq!(widest.read(nines.as_bytes()), Ok(10i128.pow(38) - 1));
    }

    #[test]
    fn floats_do_not_overflow_in_silence() {
        let (small, large) = (FloatRead::<f32>::new(), FloatRead::<f64>::new());
        assert_eq!(small.read(b"1e39"), Err(Reason::OutOfRange(Type::Float32)));
        assert_eq!(large.read(b"1e39"), Ok(1e39));
        assert_eq!(large.read(b"1e309"), Err(Reason::OutOfRange(Type::Float64)));
        assert_eq!(large.read(b"-inf"), Ok(f64::NEG_INFINITY));
        assert_eq!(large.read(b"- 1.5"), Ok(-1.5));
        assert_eq!(small.read("\u{2212}1.5".as_bytes()), Ok(-1.5));
        assert!(large.read(b"NaN").unwrap().is_nan());
        for text in ["", "abc", "1,5", "0x1", "infinite", "1e", "e5", "."] {
            assert_eq!(large.read(text.as_bytes()), Err(Reason::NotA(Type::Float64)), "{text}");
        }
    }

    fn timestamps(unit: TimeUnit, pattern: &str) -> TimestampRead {
        let utc = pattern.contains('X');
        let ty = Type::Timestamp { unit, utc };
        let patterns = vec![Pattern::compile(pattern).unwrap()];
        TimestampRead {
            patterns: PatternRead { patterns, options: ReadOptions::default(), ty },
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
        let utc = timestamps(TimeUnit::Second, "yyyy-MM-dd'T'HH:mm:ssXXX");
        assert_eq!(utc.read(b"1970-01-01T01:00:00+01:00"), Ok(0));
    }
}
