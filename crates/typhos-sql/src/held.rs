//! What a column that exists can hold, and whether that is enough for a declared one.

use std::ops::RangeInclusive;

use typhos_core::schema::{ColumnDecl, IntType, Scalar};

use super::units::digits;

/// A table that exists.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Existing {
    /// Its columns, in their order.
    pub columns: Vec<ExistingColumn>,
    /// Its primary key.
    pub key: Vec<String>,
}

/// A column that exists.
#[derive(Debug, Clone, PartialEq)]
pub struct ExistingColumn {
    /// Its name.
    pub name: String,
    /// Its type, as the database spells it.
    pub ty: String,
    /// What it can hold.
    pub held: Held,
    /// Whether it may be null.
    pub nullable: bool,
    /// Who fills it where a load does not.
    pub filled: Filled,
    /// How its texts are compared, where that is not by their bytes.
    pub letters: Option<Letters>,
}

/// How texts are compared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Letters {
    /// The letters there are.
    pub character_set: String,
    /// What is the same among them, and in which order.
    pub collation: String,
}

/// Who fills a column where a load does not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Filled {
    /// Nobody: it is null.
    Nobody,
    /// Its default, as the database writes it.
    Default(String),
    /// The database, with numbers of its own; a load may bring them along.
    Numbered,
    /// The database, by an expression; a load cannot.
    Computed,
}

/// What a type can hold.
#[derive(Debug, Clone, PartialEq)]
pub enum Held {
    /// True and false.
    Bool,
    /// Integers.
    Int(RangeInclusive<i128>),
    /// Digits in all, and those behind the mark; without a limit where it is `None`.
    Decimal(Option<(u32, u32)>),
    /// Binary floating point of so many bits.
    Float(u8),
    /// Text of at most so many characters.
    Text(Option<u64>),
    /// One of a list.
    Listed(Vec<String>),
    /// Days.
    Date,
    /// Times of day with so many digits of a second.
    Time(u8),
    /// Days and times with so many digits of a second, and whether they are points in time.
    Timestamp(u8, Option<bool>),
    /// UUIDs.
    Uuid,
    /// Addresses.
    Ip,
    /// JSON.
    Json,
    /// Points.
    Point,
    /// Something else.
    Other,
}

/// The range of the integers of so many bits.
pub fn bits(bits: u32, signed: bool) -> Held {
    if signed {
        Held::Int(-(1 << (bits - 1))..=(1 << (bits - 1)) - 1)
    } else {
        Held::Int(0..=(1 << bits) - 1)
    }
}

/// Whether every value of a declared column fits into what exists.
///
/// # Errors
/// What does not fit, and what to declare instead.
pub fn fits(column: &ColumnDecl, held: &Held) -> Result<(), String> {
    let ty = column.scalar();
    let narrower = |what: String| Err(format!("cannot hold every {ty}: {what}"));
    match (ty, held) {
        (Scalar::Bool, Held::Bool) => Ok(()),
        (Scalar::Bool, Held::Int(range)) if range.contains(&0) && range.contains(&1) => Ok(()),
        (Scalar::Int(int), Held::Int(range)) => {
            let (low, high) = int.range();
            if range.contains(&low) && range.contains(&high) {
                return Ok(());
            }
            let names = IntType::ALL.into_iter().filter(|int| {
                let (low, high) = int.range();
                range.contains(&low) && range.contains(&high)
            });
            let names: Vec<_> = names.map(IntType::name).collect();
            narrower(format!(
                "it holds {} to {}; declare {}",
                range.start(),
                range.end(),
                names.last().unwrap_or(&"a narrower type")
            ))
        }
        (Scalar::Int(_), Held::Decimal(None)) => Ok(()),
        (Scalar::Int(int), Held::Decimal(Some((precision, scale)))) => {
            let (low, high) = int.range();
            let most = 10i128.checked_pow(precision.saturating_sub(*scale)).unwrap_or(i128::MAX);
            if high < most && low > -most {
                Ok(())
            } else {
                narrower(format!(
                    "it holds {} digits before the mark",
                    precision.saturating_sub(*scale)
                ))
            }
        }
        (Scalar::Int(int), Held::Float(bits)) => {
            let exact = if *bits == 64 { 1i128 << 53 } else { 1 << 24 };
            if int.range().1 <= exact {
                Ok(())
            } else {
                narrower("large integers are rounded there".into())
            }
        }
        (Scalar::Float32, Held::Float(_)) | (Scalar::Float64, Held::Float(64)) => Ok(()),
        (Scalar::Float64, Held::Float(_)) => {
            narrower("it has half as many bits; declare float32".into())
        }
        (Scalar::Decimal { .. }, Held::Decimal(None)) => Ok(()),
        (Scalar::Decimal { precision, scale }, Held::Decimal(Some((there, scale_there)))) => {
            let (precision, scale) = (u32::from(precision), u32::from(scale));
            if *scale_there >= scale && there.saturating_sub(*scale_there) >= precision - scale {
                Ok(())
            } else {
                let before = there.saturating_sub(*scale_there);
                narrower(format!(
                    "it holds {before} digits before the mark and {scale_there} behind it; declare decimal({there},{scale_there})"
                ))
            }
        }
        (Scalar::Decimal { precision, .. }, Held::Float(64)) if precision <= 15 => Ok(()),
        (Scalar::Decimal { precision, scale: 0 }, Held::Int(range)) => {
            let most = 10i128.checked_pow(u32::from(precision)).map_or(i128::MAX, |most| most - 1);
            if range.contains(&most) && range.contains(&-most) {
                Ok(())
            } else {
                narrower(format!("it holds {} to {}", range.start(), range.end()))
            }
        }
        (Scalar::Category, Held::Listed(values)) => {
            let missing: Vec<_> =
                column.values.iter().filter(|value| !values.contains(value)).collect();
            match missing.first() {
                None => Ok(()),
                Some(first) => narrower(format!(
                    "its list lacks {} of the declared values, '{}' first",
                    missing.len(),
                    first.escape_debug()
                )),
            }
        }
        (Scalar::Date, Held::Timestamp(_, Some(true))) => narrower(
            "it holds points in time, and a day has no zone; declare timestamp(s, utc) and a zone"
                .into(),
        ),
        (Scalar::Date, Held::Date | Held::Timestamp(..)) => Ok(()),
        (Scalar::Time(unit), Held::Time(there)) if *there >= digits(unit) => Ok(()),
        (Scalar::Time(_), Held::Time(there)) => {
            narrower(format!("it keeps {there} digits of a second"))
        }
        (Scalar::Timestamp { unit, .. }, Held::Timestamp(there, _)) if *there < digits(unit) => {
            narrower(format!("it keeps {there} digits of a second"))
        }
        (Scalar::Timestamp { utc, .. }, Held::Timestamp(_, Some(zone))) if utc != *zone => {
            narrower(if *zone {
                "it holds points in time, and these have no zone; declare timestamp(…, utc) and a zone".into()
            } else {
                "it holds wall-clock times, and these are points in time".into()
            })
        }
        (Scalar::Timestamp { .. }, Held::Timestamp(..)) => Ok(()),
        (Scalar::Uuid, Held::Uuid) | (Scalar::Ip, Held::Ip) => Ok(()),
        (Scalar::Json, Held::Json) | (Scalar::Geopoint, Held::Point) => Ok(()),
        (_, Held::Text(None)) => Ok(()),
        (_, Held::Text(Some(there))) => match longest(column) {
            Some(most) if most <= *there => Ok(()),
            Some(most) => {
                let instead = if ty.is_text() {
                    format!("; declare text({there}), or change the table")
                } else {
                    String::new()
                };
                narrower(format!("it holds {there} characters, and these may have {most}{instead}"))
            }
            // An open set of short words: the database objects where one is longer.
            None if ty == Scalar::Lowcard => Ok(()),
            None => narrower(format!("it holds {there} characters; declare text({there})")),
        },
        _ => Err(format!("holds no {ty}")),
    }
}

/// Most characters of the values of a column as text; `None` where there is no limit.
fn longest(column: &ColumnDecl) -> Option<u64> {
    Some(match column.scalar() {
        Scalar::Text { most } => most?.into(),
        Scalar::Category => {
            column.values.iter().map(|v| v.chars().count() as u64).max().unwrap_or(0)
        }
        Scalar::Lowcard | Scalar::Json => return None,
        Scalar::Bool => 5,
        Scalar::Int(_) => 20,
        Scalar::Float32 | Scalar::Float64 => 24,
        Scalar::Decimal { precision, .. } => u64::from(precision) + 3,
        Scalar::Date => 13,
        Scalar::Time(_) => 18,
        Scalar::Timestamp { .. } => 34,
        Scalar::Uuid => 36,
        Scalar::Ip => 45,
        Scalar::Geopoint => 50,
    })
}
