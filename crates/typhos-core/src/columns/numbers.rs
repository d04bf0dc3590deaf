//! Integers, decimals and floats: plainly written, or as people write them.

use std::marker::PhantomData;

use super::Reason;
use super::values::{Loss, ReadValue};
use crate::readings::{
    Number, NumberStyle, POW10, SHORT_POW10, ShortNumber, ShortStyle, infinity, integer_within,
    nearest_float32, nearest_float32_of, nearest_float64, nearest_float64_of, parse_integer,
    parse_number, survives_float32, survives_float64, trim,
};
use crate::schema::{IntType, Rounding, Scalar};

/// Reads numbers that are taken apart already.
pub(super) trait ReadNumber: ReadValue {
    /// The type, for messages.
    fn ty(&self) -> Scalar;

    fn number(&self, number: &Number) -> Result<Self::Native, Reason>;
}

/// Numbers as people write them.
pub(super) struct Styled<R> {
    read: R,
    style: NumberStyle,
    short: Option<ShortStyle>,
}

impl<R> Styled<R> {
    pub fn new(read: R, style: &NumberStyle) -> Styled<R> {
        Styled { read, style: style.clone(), short: ShortStyle::of(style) }
    }
}

impl<R: ReadNumber> ReadValue for Styled<R> {
    type Native = R::Native;

    fn read(&self, value: &[u8]) -> Result<R::Native, Reason> {
        match self.style.read(value) {
            Some(number) => self.read.number(&number),
            None => Err(Reason::NotWritten { ty: self.read.ty(), style: self.style.clone() }),
        }
    }

    #[inline(always)]
    fn read_short(&self, text: &[u8], start: usize, end: usize) -> Option<R::Native> {
        let (mantissa, scale) = self.short.as_ref()?.read(&text[start..end])?;
        let number = Number {
            mantissa: mantissa.into(),
            scale,
            whole_digits: 0,
            marked: scale > 0,
            plus: false,
            leading_zero: false,
            exponent: None,
        };
        self.read.number(&number).ok()
    }

    /// Bounds are written plainly.
    fn bound(&self, text: &str) -> Result<R::Native, Reason> {
        self.read.read(text.as_bytes())
    }

    fn loss(&self) -> &Loss {
        self.read.loss()
    }
}

/// A number written plainly, but for a typographer's minus, a space behind the sign, or spaces around it that do not
/// break.
#[inline]
fn plain_number(value: &[u8]) -> Option<Number> {
    parse_number(value).or_else(|| {
        let is_loose = has_loose_sign(value) || has_wide_spaces(value);
        is_loose.then(|| NumberStyle::default().read(value)).flatten()
    })
}

/// Whether spaces may stand around a value that are no ASCII.
#[inline]
fn has_wide_spaces(value: &[u8]) -> bool {
    matches!(value, [0xc2 | 0xe2, ..] | [.., 0xa0 | 0x89 | 0xaf])
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
    loss: Loss,
    native: PhantomData<N>,
}

impl<N> IntRead<N> {
    pub fn new(ty: IntType, rounding: Rounding) -> Self {
        IntRead { ty, loss: Loss::new(rounding), native: PhantomData }
    }
}

impl<N: Copy + PartialOrd + Default + TryFrom<i64> + TryFrom<i128>> ReadValue for IntRead<N> {
    type Native = N;

    #[inline]
    fn read(&self, value: &[u8]) -> Result<N, Reason> {
        match parse_integer(value) {
            Some(number) => {
                N::try_from(number).map_err(|_| Reason::OutOfRange(Scalar::Int(self.ty)))
            }
            None => self.read_long(value),
        }
    }

    #[inline(always)]
    fn read_short(&self, text: &[u8], start: usize, end: usize) -> Option<N> {
        N::try_from(integer_within(text, start, end)?).ok()
    }

    fn loss(&self) -> &Loss {
        &self.loss
    }
}

impl<N: TryFrom<i128>> IntRead<N> {
    /// Twenty digits, a plus, a fraction of zeros, an exponent: all that is an integer after all.
    #[inline(never)]
    fn read_long(&self, value: &[u8]) -> Result<N, Reason> {
        let ty = Scalar::Int(self.ty);
        let number = plain_number(value).ok_or_else(|| {
            let digits = value.strip_prefix(b"-").unwrap_or(value);
            let huge = !digits.is_empty() && digits.iter().all(u8::is_ascii_digit);
            if huge { Reason::OutOfRange(ty) } else { Reason::NotA(ty) }
        })?;
        self.whole(&number)
    }

    fn whole(&self, number: &Number) -> Result<N, Reason> {
        let ty = Scalar::Int(self.ty);
        let out_of_range = || Reason::OutOfRange(ty);
        let (whole, is_exact) = at_scale(number, 0, self.loss.rounding).ok_or_else(out_of_range)?;
        if !is_exact && self.loss.rounding == Rounding::Exact {
            return Err(Reason::NotWhole(ty));
        }
        let whole = N::try_from(whole).map_err(|_| out_of_range())?;
        if !is_exact {
            self.loss.change();
        }
        Ok(whole)
    }
}

impl<N: Copy + PartialOrd + Default + TryFrom<i64> + TryFrom<i128>> ReadNumber for IntRead<N> {
    fn ty(&self) -> Scalar {
        Scalar::Int(self.ty)
    }

    fn number(&self, number: &Number) -> Result<N, Reason> {
        self.whole(number)
    }
}

/// A number as an integer at a scale, rounded where it has more digits, and whether it is exact. `None`
/// where it is too large.
#[inline]
fn at_scale(number: &Number, scale: u8, rounding: Rounding) -> Option<(i128, bool)> {
    // Nearly all are written with the digits that their column keeps.
    if number.scale == scale && number.exponent.is_none() {
        return Some((number.mantissa, true));
    }
    rescaled(number, scale, rounding)
}

/// As [`at_scale`], for those that are not at that scale already.
fn rescaled(number: &Number, scale: u8, rounding: Rounding) -> Option<(i128, bool)> {
    let mantissa = number.mantissa;
    if mantissa == 0 {
        return Some((0, true));
    }
    let shift = number.exponent.unwrap_or(0) + i32::from(scale) - i32::from(number.scale);
    let power = POW10.get(usize::try_from(shift.unsigned_abs()).ok()?);
    if shift >= 0 {
        return Some((mantissa.checked_mul(*power?)?, true));
    }
    // No mantissa is as large as half of a power that is not in the table.
    let Some(&power) = power else { return Some((0, false)) };
    let (whole, rest) = (mantissa / power, mantissa % power);
    let away = match rounding {
        Rounding::Exact | Rounding::Down => false,
        Rounding::HalfUp => rest.abs() >= power - rest.abs(),
        Rounding::HalfEven => {
            let below = power - rest.abs();
            rest.abs() > below || rest.abs() == below && whole % 2 != 0
        }
    };
    Some((if away { whole + mantissa.signum() } else { whole }, rest == 0))
}

/// Decimals, as integers at their scale.
pub(super) struct DecimalRead<N> {
    precision: u8,
    scale: u8,
    /// The smallest integer of a [`ShortNumber`] that is too large.
    short_most: u64,
    loss: Loss,
    native: PhantomData<N>,
}

impl<N> DecimalRead<N> {
    pub fn new(precision: u8, scale: u8, rounding: Rounding) -> Self {
        let short_most = 10u64.checked_pow(precision.into()).unwrap_or(u64::MAX);
        DecimalRead { precision, scale, short_most, loss: Loss::new(rounding), native: PhantomData }
    }
}

impl<N: Copy + PartialOrd + Default + TryFrom<i64> + TryFrom<i128>> ReadValue for DecimalRead<N> {
    type Native = N;

    #[inline]
    fn read(&self, value: &[u8]) -> Result<N, Reason> {
        if let Some(short) = ShortNumber::read(value)
            && short.scale == self.scale
            && short.mantissa.unsigned_abs() < self.short_most
        {
            let out_of_range = |_| Reason::OutOfRange(self.ty());
            return N::try_from(i128::from(short.mantissa)).map_err(out_of_range);
        }
        let number = plain_number(value).ok_or(Reason::NotA(self.ty()))?;
        self.number(&number)
    }

    #[inline(always)]
    fn read_short(&self, text: &[u8], start: usize, end: usize) -> Option<N> {
        let (mantissa, scale) = match ShortNumber::read_fraction(text, start, end) {
            Some(short) => (short.mantissa, short.scale),
            None => (integer_within(text, start, end)?, 0),
        };
        let mantissa = match usize::from(self.scale.checked_sub(scale)?) {
            0 => mantissa,
            // Digits that are left out are zeros.
            zeros => mantissa.checked_mul(*SHORT_POW10.get(zeros)?)?,
        };
        if mantissa.unsigned_abs() >= self.short_most {
            return None;
        }
        N::try_from(mantissa).ok()
    }

    fn loss(&self) -> &Loss {
        &self.loss
    }
}

impl<N: Copy + PartialOrd + Default + TryFrom<i64> + TryFrom<i128>> ReadNumber for DecimalRead<N> {
    fn ty(&self) -> Scalar {
        Scalar::Decimal { precision: self.precision, scale: self.scale }
    }

    #[inline]
    fn number(&self, number: &Number) -> Result<N, Reason> {
        let ty = self.ty();
        let out_of_range = || Reason::OutOfRange(ty);
        let (unscaled, is_exact) =
            at_scale(number, self.scale, self.loss.rounding).ok_or_else(out_of_range)?;
        if !is_exact && self.loss.rounding == Rounding::Exact {
            return Err(Reason::TooPrecise(ty));
        }
        if unscaled.unsigned_abs() >= POW10[usize::from(self.precision)].unsigned_abs() {
            return Err(out_of_range());
        }
        if !is_exact {
            self.loss.change();
        }
        N::try_from(unscaled).map_err(|_| out_of_range())
    }
}

/// Floats of either size.
pub(super) struct FloatRead<N> {
    loss: Loss,
    native: PhantomData<N>,
}

impl<N> FloatRead<N> {
    pub fn new(rounding: Rounding) -> Self {
        FloatRead { loss: Loss::new(rounding), native: PhantomData }
    }

    /// Whether a number may stand for what was written: it does, or it is rounded as declared.
    fn keeps(&self, survives: bool, ty: Scalar) -> Result<(), Reason> {
        if survives || self.loss.change() { Ok(()) } else { Err(Reason::TooPrecise(ty)) }
    }
}

fn float_text(value: &[u8], ty: Scalar) -> Result<&str, Reason> {
    let text = std::str::from_utf8(value).map_err(|_| Reason::NotA(ty))?;
    let plain = value.iter().all(|b| matches!(b, b'0'..=b'9' | b'.' | b'+' | b'-' | b'e' | b'E'));
    let is_special = || {
        matches!(text.trim_start_matches(['+', '-']), "NaN" | "nan") || infinity(value).is_some()
    };
    if plain || is_special() { Ok(text) } else { Err(Reason::NotA(ty)) }
}

/// The digits of a number without zeros around them, and the power of ten of the last: of numbers too
/// long to be read otherwise.
fn significant(text: &str) -> (String, i64) {
    let (digits, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    let digits = digits.trim_start_matches(['+', '-']);
    let fraction = digits.split_once('.').map_or(0, |(_, fraction)| fraction.len());
    let all = digits.replace('.', "");
    let kept = all.trim_end_matches('0');
    let power = exponent.parse().unwrap_or(0) + (all.len() - kept.len()) as i64 - fraction as i64;
    (kept.trim_start_matches('0').to_owned(), power)
}

macro_rules! float_read {
    ($native:ident, $type:expr, $nearest:ident, $nearest_of:ident, $survives:ident) => {
        impl ReadValue for FloatRead<$native> {
            type Native = $native;

            #[inline]
            fn read(&self, value: &[u8]) -> Result<$native, Reason> {
                if let Some(short) = ShortNumber::read(value)
                    && short.mantissa != 0
                    && let digits = short.mantissa.unsigned_abs()
                    && let Some((float, survives)) = $nearest_of(value, digits, short.scale)
                {
                    let float = if short.mantissa < 0 { -float } else { float };
                    return self.keeps(survives, $type).map(|()| float);
                }
                if has_loose_sign(value) || has_wide_spaces(value) {
                    let number = plain_number(value).ok_or(Reason::NotA($type))?;
                    return self.number(&number);
                }
                if let Some(number) = parse_number(value)
                    && let Some((float, survives)) = $nearest(value, &number)
                {
                    return self.keeps(survives, $type).map(|()| float);
                }
                let text = float_text(value, $type)?;
                let float: $native = text.parse().map_err(|_| Reason::NotA($type))?;
                // Digits that overflow are out of range; infinity has to be written as such.
                if float.is_infinite() && value.iter().any(u8::is_ascii_digit) {
                    return Err(Reason::OutOfRange($type));
                }
                // So few digits survive; an exponent may take any of them away.
                if value.len() > $native::DIGITS as usize
                    || value.contains(&b'e')
                    || value.contains(&b'E')
                {
                    self.look(value, text, float)?;
                }
                Ok(float)
            }

            #[inline(always)]
            fn read_short(&self, text: &[u8], start: usize, end: usize) -> Option<$native> {
                let value = &text[start..end];
                let Some(short) = ShortNumber::read_fraction(text, start, end) else {
                    return if trim(value).len() == value.len() {
                        self.read(value).ok()
                    } else {
                        None
                    };
                };
                let digits = short.mantissa.unsigned_abs();
                if digits == 0 {
                    return None;
                }
                let (float, survives) = $nearest_of(value, digits, short.scale)?;
                survives.then_some(if short.mantissa < 0 { -float } else { float })
            }

            fn loss(&self) -> &Loss {
                &self.loss
            }
        }

        impl FloatRead<$native> {
            /// Looks whether a number of many digits survives.
            fn look(&self, value: &[u8], text: &str, float: $native) -> Result<(), Reason> {
                let survives = !float.is_finite()
                    || match parse_number(value) {
                        Some(number) => $survives(value, &number),
                        None => significant(text) == significant(&format!("{float:e}")),
                    };
                self.keeps(survives, $type)
            }
        }

        impl ReadNumber for FloatRead<$native> {
            fn ty(&self) -> Scalar {
                $type
            }

            fn number(&self, number: &Number) -> Result<$native, Reason> {
                if let Some((float, survives)) = $nearest(&[], number) {
                    return self.keeps(survives, $type).map(|()| float);
                }
                let exponent = i64::from(number.exponent.unwrap_or(0)) - i64::from(number.scale);
                let text = format!("{}e{exponent}", number.mantissa);
                let float: $native = text.parse().map_err(|_| Reason::NotA($type))?;
                if float.is_infinite() {
                    return Err(Reason::OutOfRange($type));
                }
                self.keeps($survives(text.as_bytes(), number), $type)?;
                Ok(float)
            }
        }
    };
}
float_read!(f32, Scalar::Float32, nearest_float32, nearest_float32_of, survives_float32);
float_read!(f64, Scalar::Float64, nearest_float64, nearest_float64_of, survives_float64);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn integers_at_every_boundary() {
        fn holds<N: Copy + PartialOrd + Default + TryFrom<i64> + TryFrom<i128>>(ty: IntType) {
            let read = IntRead::<N>::new(ty, Rounding::Exact);
            let (low, high) = ty.range();
            for (value, fits) in [(low, true), (low - 1, false), (high, true), (high + 1, false)] {
                let got = read.read(value.to_string().as_bytes());
                assert_eq!(got.is_ok(), fits, "{value} as {}", ty.name());
                if let Err(reason) = got {
                    assert_eq!(reason, Reason::OutOfRange(Scalar::Int(ty)));
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
        let read = IntRead::<i32>::new(IntType::Int32, Rounding::Exact);
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
        for text in ["12.5", "1e-3", "1e-60"] {
            assert_eq!(
                read.read(text.as_bytes()),
                Err(Reason::NotWhole(Scalar::Int(IntType::Int32))),
                "{text}"
            );
        }
        for text in ["", "x", "1 2", "--1", "0x10"] {
            assert_eq!(
                read.read(text.as_bytes()),
                Err(Reason::NotA(Scalar::Int(IntType::Int32))),
                "{text}"
            );
        }
        let huge = "9".repeat(60);
        assert_eq!(
            read.read(huge.as_bytes()),
            Err(Reason::OutOfRange(Scalar::Int(IntType::Int32)))
        );
    }

    #[test]
    fn decimals_are_exact_or_misfits() {
        let read = DecimalRead::<i32>::new(6, 2, Rounding::Exact);
        let ty = Scalar::Decimal { precision: 6, scale: 2 };
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
        let widest = DecimalRead::<i128>::new(38, 0, Rounding::Exact);
        let nines = "9".repeat(38);
        assert_eq!(widest.read(nines.as_bytes()), Ok(10i128.pow(38) - 1));
    }

    #[test]
    fn floats_do_not_overflow_in_silence() {
        let (small, large) =
            (FloatRead::<f32>::new(Rounding::Exact), FloatRead::<f64>::new(Rounding::Exact));
        assert_eq!(small.read(b"1e39"), Err(Reason::OutOfRange(Scalar::Float32)));
        assert_eq!(large.read(b"1e39"), Ok(1e39));
        assert_eq!(large.read(b"1e309"), Err(Reason::OutOfRange(Scalar::Float64)));
        assert_eq!(large.read(b"-inf"), Ok(f64::NEG_INFINITY));
        assert_eq!(large.read(b"- 1.5"), Ok(-1.5));
        assert_eq!(small.read("\u{2212}1.5".as_bytes()), Ok(-1.5));
        assert!(large.read(b"NaN").unwrap().is_nan());
        for text in ["", "abc", "1,5", "0x1", "infinite", "1e", "e5", "."] {
            assert_eq!(large.read(text.as_bytes()), Err(Reason::NotA(Scalar::Float64)), "{text}");
        }
    }

    #[test]
    fn rounding_is_as_declared_and_counted() {
        let whole = |text: &str, rounding| {
            let read = IntRead::<i32>::new(IntType::Int32, rounding);
            (read.read(text.as_bytes()).ok(), read.loss().take())
        };
        for (text, even, up, down) in [
            ("2.5", 2, 3, 2),
            ("3.5", 4, 4, 3),
            ("-2.5", -2, -3, -2),
            ("-3.5", -4, -4, -3),
            ("2.4999", 2, 2, 2),
            ("2.5001", 3, 3, 2),
            ("-0.5", 0, -1, 0),
            ("25e-1", 2, 3, 2),
            ("1e-60", 0, 0, 0),
            ("99999999999999999999999999999999999999e-38", 1, 1, 0),
        ] {
            for (rounding, want) in
                [(Rounding::HalfEven, even), (Rounding::HalfUp, up), (Rounding::Down, down)]
            {
                assert_eq!(whole(text, rounding), (Some(want), 1), "{text} {}", rounding.name());
            }
            assert_eq!(whole(text, Rounding::Exact), (None, 0), "{text}");
        }
        assert_eq!(whole("7.000", Rounding::Down), (Some(7), 0), "nothing is lost");
        let cents = DecimalRead::<i64>::new(10, 2, Rounding::HalfUp);
        assert_eq!(cents.read(b"1.005"), Ok(101));
        assert_eq!(cents.read(b"99999999.995"), Err(Reason::OutOfRange(cents.ty())));
    }

    #[test]
    fn floats_keep_what_is_written_or_say_so() {
        let small = FloatRead::<f32>::new(Rounding::Exact);
        for text in ["0.1", "16777216", "3.4028235e38", "-1.5e-3", "0.000", "123456.7"] {
            assert!(small.read(text.as_bytes()).is_ok(), "{text}");
        }
        let longest = f32::MAX.to_string();
        assert_eq!(small.read(longest.as_bytes()), Ok(f32::MAX), "of more than 38 digits");
        assert!(small.read(longest.replace('8', "9").as_bytes()).is_err());
        for text in ["16777217", "0.123456789", "1e-46", "12345678.9"] {
            assert_eq!(
                small.read(text.as_bytes()),
                Err(Reason::TooPrecise(Scalar::Float32)),
                "{text}"
            );
        }
        let nearest = FloatRead::<f32>::new(Rounding::HalfEven);
        assert_eq!(nearest.read(b"16777217"), Ok(16_777_216.0));
        assert_eq!(nearest.read(b"0.5"), Ok(0.5));
        assert_eq!(nearest.loss().take(), 1);
        let large = FloatRead::<f64>::new(Rounding::Exact);
        assert_eq!(large.read(b"0.30000000000000004"), Ok(0.1 + 0.2));
        let pi = b"3.14159265358979323846";
        assert_eq!(large.read(pi), Err(Reason::TooPrecise(Scalar::Float64)));
        assert_eq!(FloatRead::<f64>::new(Rounding::HalfEven).read(pi), Ok(std::f64::consts::PI));
    }
}
