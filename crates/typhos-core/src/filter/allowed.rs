//! The values that a comparison allows, as sets: ranges of integers, of floats and of bytes, and entries
//! of a list.

use std::ops::Bound;

use arrow_schema::DataType;

use super::parse::Comparison;
use crate::columns::PlainValues;
use crate::readings::{bool_word, parse_number, uuid};
use crate::schema::{ColumnDecl, Scalar};
use crate::terms::{PhraseError, Word};

/// A set of values.
#[derive(Debug, Clone)]
pub(super) enum Allowed {
    /// Integers, decimals at their scale, days, units of time, 0 and 1: from one to another, both in.
    Ints(Vec<(i128, i128)>),
    /// Floats from one to another, both in. What is not a number is in none.
    Floats(Vec<(f64, f64)>),
    /// Texts by their bytes, and UUIDs.
    Bytes(Vec<ByteRange>),
    /// For each text of a closed list whether it is allowed.
    Listed(Vec<(String, bool)>),
}

pub(super) type ByteRange = (Bound<Vec<u8>>, Bound<Vec<u8>>);

impl Allowed {
    /// The values that fit a comparison, of a column that is held as `data_type`.
    pub fn by(
        comparison: &Comparison,
        column: &ColumnDecl,
        data_type: &DataType,
    ) -> Result<Allowed, PhraseError> {
        match column.scalar() {
            // A text would be another one with a space more.
            _ if column.ty.is_nested() => equal_only(comparison, Scalar::Geopoint),
            Scalar::Float32 | Scalar::Float64 => floats(comparison, column.scalar()),
            Scalar::Category => listed(comparison, column),
            Scalar::Text { .. } | Scalar::Lowcard => {
                bytes(comparison, |word| Ok(word.text.clone().into_bytes()))
            }
            Scalar::Ip | Scalar::Json | Scalar::Uuid | Scalar::Geopoint => {
                equal_only(comparison, column.scalar())
            }
            ty => ints(comparison, ty, data_type),
        }
    }

    /// All other values.
    pub fn complement(self) -> Allowed {
        match self {
            Allowed::Ints(mut ranges) => {
                ranges.sort_unstable();
                let (mut others, mut from) = (Vec::new(), Some(i128::MIN));
                for (low, high) in ranges {
                    if let Some(start) = from.filter(|start| *start < low) {
                        others.push((start, low - 1));
                    }
                    from = from.and_then(|start| Some(start.max(high.checked_add(1)?)));
                }
                others.extend(from.map(|start| (start, i128::MAX)));
                Allowed::Ints(others)
            }
            Allowed::Floats(mut ranges) => {
                ranges.sort_by(|a, b| a.0.total_cmp(&b.0));
                let (mut others, mut from) = (Vec::new(), f64::NEG_INFINITY);
                let mut is_open = true;
                for (low, high) in ranges {
                    if is_open && from < low {
                        others.push((from, low.next_down()));
                    }
                    is_open &= high < f64::INFINITY;
                    from = from.max(high.next_up());
                }
                if is_open {
                    others.push((from, f64::INFINITY));
                }
                Allowed::Floats(others)
            }
            Allowed::Bytes(ranges) => Allowed::Bytes(other_bytes(ranges)),
            Allowed::Listed(values) => {
                Allowed::Listed(values.into_iter().map(|(text, is_in)| (text, !is_in)).collect())
            }
        }
    }
}

/// The ranges between ranges that do not overlap, or each equal to another.
fn other_bytes(mut ranges: Vec<ByteRange>) -> Vec<ByteRange> {
    let start = |range: &ByteRange| match &range.0 {
        Bound::Unbounded => (0, Vec::new()),
        Bound::Included(bytes) => (1, bytes.clone()),
        Bound::Excluded(bytes) => (1, bytes.clone()),
    };
    ranges.sort_by_key(start);
    ranges.dedup();
    let flip = |bound: Bound<Vec<u8>>| match bound {
        Bound::Included(bytes) => Bound::Excluded(bytes),
        Bound::Excluded(bytes) => Bound::Included(bytes),
        Bound::Unbounded => Bound::Unbounded,
    };
    let (mut others, mut from) = (Vec::new(), Some(Bound::Unbounded));
    for (low, high) in ranges {
        if let Some(from) = from.take()
            && low != Bound::Unbounded
        {
            others.push((from, flip(low)));
        }
        from = (high != Bound::Unbounded).then(|| flip(high));
    }
    others.extend(from.map(|from| (from, Bound::Unbounded)));
    others
}

fn wrong(word: &Word, message: String) -> PhraseError {
    word.wrong(message)
}

/// A value as an integer of its type: the greatest that is not above it, and whether it is that.
fn int(word: &Word, ty: Scalar, data_type: &DataType) -> Result<(i128, bool), PhraseError> {
    let no_value = || wrong(word, format!("'{}' is not a valid {ty}", word.text.escape_debug()));
    match ty {
        Scalar::Bool => {
            let says = bool_word(word.text.as_bytes()).ok_or_else(no_value)?.1;
            Ok((i128::from(says), true))
        }
        Scalar::Int(_) | Scalar::Decimal { .. } => {
            let scale = match data_type {
                DataType::Decimal32(_, scale)
                | DataType::Decimal64(_, scale)
                | DataType::Decimal128(_, scale) => i32::from(*scale),
                _ => 0,
            };
            let number = parse_number(word.text.as_bytes()).ok_or_else(no_value)?;
            let shift = number.exponent.unwrap_or(0) + scale - i32::from(number.scale);
            let power = 10i128.checked_pow(shift.unsigned_abs());
            let mantissa = number.mantissa;
            Ok(match power {
                Some(power) if shift < 0 => {
                    (mantissa.div_euclid(power), mantissa.rem_euclid(power) == 0)
                }
                Some(power) => match mantissa.checked_mul(power) {
                    Some(whole) => (whole, true),
                    // Beyond all values there are.
                    None if mantissa < 0 => (i128::MIN, false),
                    None => (i128::MAX - 1, false),
                },
                None if mantissa == 0 => (0, true),
                None if shift > 0 && mantissa > 0 => (i128::MAX - 1, false),
                None if shift > 0 => (i128::MIN, false),
                None => (if mantissa < 0 { -1 } else { 0 }, false),
            })
        }
        _ => match PlainValues::units(ty, &word.text) {
            Ok(Some(units)) => Ok((i128::from(units), true)),
            Ok(None) => Err(no_value()),
            Err(message) => Err(wrong(word, format!("{message}; write one like {}", example(ty)))),
        },
    }
}

/// How a value of a type is written that is read from a text of its own.
fn example(ty: Scalar) -> &'static str {
    match ty {
        Scalar::Time(_) => "10:20:30",
        Scalar::Timestamp { utc: true, .. } => "2024-03-01 10:20:30Z",
        Scalar::Timestamp { .. } => "2024-03-01 10:20:30",
        Scalar::Duration(_) => "36:20:30",
        _ => "2024-03-01",
    }
}

fn ints(comparison: &Comparison, ty: Scalar, data_type: &DataType) -> Result<Allowed, PhraseError> {
    let int = |word: &Word| int(word, ty, data_type);
    let range = |low: i128, high: i128| Vec::from_iter((low <= high).then_some((low, high)));
    Ok(Allowed::Ints(match comparison {
        Comparison::Less(word) => match int(word)? {
            (i128::MIN, true) => Vec::new(),
            (floor, is_exact) => range(i128::MIN, floor - i128::from(is_exact)),
        },
        Comparison::AtMost(word) => range(i128::MIN, int(word)?.0),
        Comparison::More(word) => range(int(word)?.0.saturating_add(1), i128::MAX),
        Comparison::AtLeast(word) => {
            let (floor, is_exact) = int(word)?;
            range(if is_exact { floor } else { floor.saturating_add(1) }, i128::MAX)
        }
        Comparison::OneOf(words) => {
            let values = words.iter().map(int).collect::<Result<Vec<_>, _>>()?;
            values.into_iter().filter(|(_, is_exact)| *is_exact).map(|(v, _)| (v, v)).collect()
        }
    }))
}

fn floats(comparison: &Comparison, ty: Scalar) -> Result<Allowed, PhraseError> {
    let float = |word: &Word| {
        let value = match ty {
            // The number that the column would hold.
            Scalar::Float32 => word.text.parse::<f32>().map(f64::from),
            _ => word.text.parse::<f64>(),
        };
        let value = value.ok().filter(|value| !value.is_nan());
        value.ok_or_else(|| {
            wrong(word, format!("'{}' is not a valid {ty}", word.text.escape_debug()))
        })
    };
    let range = |low: f64, high: f64| Vec::from_iter((low <= high).then_some((low, high)));
    let (least, most) = (f64::NEG_INFINITY, f64::INFINITY);
    Ok(Allowed::Floats(match comparison {
        Comparison::Less(word) => match float(word)? {
            value if value == least => Vec::new(),
            value => range(least, value.next_down()),
        },
        Comparison::AtMost(word) => range(least, float(word)?),
        Comparison::More(word) => match float(word)? {
            value if value == most => Vec::new(),
            value => range(value.next_up(), most),
        },
        Comparison::AtLeast(word) => range(float(word)?, most),
        Comparison::OneOf(words) => {
            words.iter().map(|word| float(word).map(|v| (v, v))).collect::<Result<_, _>>()?
        }
    }))
}

fn bytes(
    comparison: &Comparison,
    read: impl Fn(&Word) -> Result<Vec<u8>, PhraseError>,
) -> Result<Allowed, PhraseError> {
    use Bound::{Excluded, Included, Unbounded};
    Ok(Allowed::Bytes(match comparison {
        Comparison::Less(word) => vec![(Unbounded, Excluded(read(word)?))],
        Comparison::AtMost(word) => vec![(Unbounded, Included(read(word)?))],
        Comparison::More(word) => vec![(Excluded(read(word)?), Unbounded)],
        Comparison::AtLeast(word) => vec![(Included(read(word)?), Unbounded)],
        Comparison::OneOf(words) => {
            let values = words.iter().map(read).collect::<Result<Vec<_>, _>>()?;
            values.into_iter().map(|value| (Included(value.clone()), Included(value))).collect()
        }
    }))
}

/// Types that have no order that anybody would ask for.
fn equal_only(comparison: &Comparison, ty: Scalar) -> Result<Allowed, PhraseError> {
    match comparison {
        _ if ty == Scalar::Geopoint => {}
        Comparison::OneOf(_) => {
            return bytes(comparison, |word| match ty {
                Scalar::Uuid => uuid(word.text.as_bytes()).map(Vec::from).ok_or_else(|| {
                    wrong(word, format!("'{}' is not a UUID", word.text.escape_debug()))
                }),
                _ => Ok(word.text.clone().into_bytes()),
            });
        }
        _ => {}
    }
    let word = match comparison {
        Comparison::Less(word)
        | Comparison::AtMost(word)
        | Comparison::More(word)
        | Comparison::AtLeast(word) => word.clone(),
        Comparison::OneOf(words) => words[0].clone(),
    };
    let only = if ty == Scalar::Geopoint { "is absent" } else { "=, !=, in and is absent" };
    Err(wrong(&word, format!("a column of type {ty} can be asked for with {only} alone")))
}

fn listed(comparison: &Comparison, column: &ColumnDecl) -> Result<Allowed, PhraseError> {
    let place = |word: &Word| {
        let values = &column.values;
        values.iter().position(|value| *value == word.text).ok_or_else(|| {
            let text = word.text.escape_debug();
            let message = format!("'{text}' is not among the values of '{}'", column.name);
            wrong(
                word,
                match crate::nearest(&word.text, values.iter().map(String::as_str)) {
                    Some(near) => format!("{message}; did you mean '{near}'?"),
                    None => message,
                },
            )
        })
    };
    let order = |word: &Word, fits: fn(std::cmp::Ordering) -> bool| {
        let rank = if column.ranked { Some(place(word)?) } else { None };
        let values = column.values.iter().enumerate().map(|(at, value)| {
            let ordering = match rank {
                Some(rank) => at.cmp(&rank),
                None => value.as_bytes().cmp(word.text.as_bytes()),
            };
            (value.clone(), fits(ordering))
        });
        Ok(values.collect())
    };
    Ok(Allowed::Listed(match comparison {
        Comparison::Less(word) => order(word, std::cmp::Ordering::is_lt)?,
        Comparison::AtMost(word) => order(word, std::cmp::Ordering::is_le)?,
        Comparison::More(word) => order(word, std::cmp::Ordering::is_gt)?,
        Comparison::AtLeast(word) => order(word, std::cmp::Ordering::is_ge)?,
        Comparison::OneOf(words) => {
            let places = words.iter().map(place).collect::<Result<Vec<_>, _>>()?;
            let values = column.values.iter().enumerate();
            values.map(|(at, value)| (value.clone(), places.contains(&at))).collect()
        }
    }))
}
