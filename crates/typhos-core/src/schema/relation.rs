//! How types relate: whether one place holds every value of another, and what it lacks where it does not. Asked of a
//! column that exists in a database, of a narrower type, of a draft beside a declaration, of two schemas.

use std::fmt;
use std::ops::RangeInclusive;

use super::{ColumnDecl, IntType, Scalar, TimeUnit, Type};

/// What a place can hold.
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
    /// Lists of what something else holds.
    List(Box<Held>),
    /// Points.
    Point,
    /// Something else.
    Other,
}

impl Held {
    /// What a declared column can hold.
    pub fn of(column: &ColumnDecl) -> Held {
        match &column.ty {
            Type::List(items) => {
                let items = ColumnDecl { ty: (**items).clone(), ..column.clone() };
                Held::List(Box::new(Held::of(&items)))
            }
            _ => Held::of_scalar(column.scalar(), column),
        }
    }

    fn of_scalar(scalar: Scalar, column: &ColumnDecl) -> Held {
        match scalar {
            Scalar::Bool => Held::Bool,
            Scalar::Int(int) => {
                let (low, high) = int.range();
                Held::Int(low..=high)
            }
            Scalar::Float32 => Held::Float(32),
            Scalar::Float64 => Held::Float(64),
            Scalar::Decimal { precision, scale } => {
                Held::Decimal(Some((precision.into(), scale.into())))
            }
            Scalar::Text { most } => Held::Text(most.map(u64::from)),
            Scalar::Category => Held::Listed(column.values.clone()),
            Scalar::Date => Held::Date,
            Scalar::Time(unit) => Held::Time(unit.digits()),
            Scalar::Timestamp { unit, utc } => Held::Timestamp(unit.digits(), Some(utc)),
            Scalar::Uuid => Held::Uuid,
            Scalar::Ip => Held::Ip,
            Scalar::Geopoint => Held::Point,
            Scalar::Json => Held::Json,
            carried => match carried.carrier() {
                Some(carrier) => Held::of_scalar(carrier, column),
                None => Held::Other,
            },
        }
    }

    /// The integers of so many bits.
    pub fn bits(bits: u32, signed: bool) -> Held {
        if signed {
            Held::Int(-(1 << (bits - 1))..=(1 << (bits - 1)) - 1)
        } else {
            Held::Int(0..=(1 << bits) - 1)
        }
    }
}

/// How a place relates to the values of a declared column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Relation {
    /// It holds all of them, and nothing else.
    Same,
    /// It holds all of them, and more.
    Wider,
    /// It holds some of them only.
    Narrower(Shortfall),
    /// It takes all of them, and changes some.
    Lossy(Shortfall),
    /// It holds values of another kind.
    Unlike(Shortfall),
}

/// Why a place does not hold every value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shortfall {
    /// What it lacks, as a clause about it: "cannot hold every int32: it holds 0 to 255".
    pub what: String,
    /// What to declare instead, where that is known.
    pub instead: Option<String>,
}

impl fmt::Display for Shortfall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.instead {
            Some(instead) => write!(f, "{}; {instead}", self.what),
            None => f.write_str(&self.what),
        }
    }
}

impl Relation {
    /// Whether every value gets in as it is.
    ///
    /// # Errors
    /// Why not.
    pub fn is_lossless(self) -> Result<(), Shortfall> {
        match self {
            Relation::Same | Relation::Wider => Ok(()),
            Relation::Narrower(lacks) | Relation::Lossy(lacks) | Relation::Unlike(lacks) => {
                Err(lacks)
            }
        }
    }
}

/// How a place relates to the values of a column.
pub fn relation(column: &ColumnDecl, place: &Held) -> Relation {
    let ty = column.scalar();
    let whole = || if Held::of(column) == *place { Relation::Same } else { Relation::Wider };
    if let (Type::List(items), Held::List(there)) = (&column.ty, place) {
        return relation(&ColumnDecl { ty: (**items).clone(), ..column.clone() }, there);
    }
    let lacks = |what: String, instead: Option<String>| Shortfall {
        what: format!("cannot hold every {}: {what}", column.ty),
        instead,
    };
    let narrower = |what: String| Relation::Narrower(lacks(what, None));
    let narrower_but =
        |what: String, instead: String| Relation::Narrower(lacks(what, Some(instead)));
    let if_it = |holds: bool, otherwise: &dyn Fn() -> Relation| {
        if holds { whole() } else { otherwise() }
    };
    match (ty, place) {
        (Scalar::Bool, Held::Bool) => whole(),
        (Scalar::Bool, Held::Int(range)) if range.contains(&0) && range.contains(&1) => whole(),
        (Scalar::Int(int), Held::Int(range)) => if_it(contains(range, int), &|| {
            let names = IntType::ALL.into_iter().filter(|int| contains(range, *int));
            let names: Vec<_> = names.map(IntType::name).collect();
            narrower_but(
                format!("it holds {} to {}", range.start(), range.end()),
                format!("declare {}", names.last().unwrap_or(&"a narrower type")),
            )
        }),
        (Scalar::Int(_) | Scalar::Decimal { .. }, Held::Decimal(None)) => whole(),
        (Scalar::Int(int), Held::Decimal(Some((precision, scale)))) => {
            let (low, high) = int.range();
            let before = precision.saturating_sub(*scale);
            let most = 10i128.checked_pow(before).unwrap_or(i128::MAX);
            if_it(high < most && low > -most, &|| {
                narrower(format!("it holds {before} digits before the mark"))
            })
        }
        (Scalar::Int(int), Held::Float(bits)) => {
            let exact = if *bits == 64 { 1i128 << 53 } else { 1 << 24 };
            if_it(int.range().1 <= exact, &|| {
                Relation::Lossy(lacks("large integers are rounded there".into(), None))
            })
        }
        (Scalar::Float32, Held::Float(_)) | (Scalar::Float64, Held::Float(64)) => whole(),
        (Scalar::Float64, Held::Float(_)) => {
            let instead = Some("declare float32".into());
            Relation::Lossy(lacks("it has half as many bits".into(), instead))
        }
        (Scalar::Decimal { precision, scale }, Held::Decimal(Some((there, scale_there)))) => {
            let (precision, scale) = (u32::from(precision), u32::from(scale));
            let before = there.saturating_sub(*scale_there);
            if_it(*scale_there >= scale && before >= precision - scale, &|| {
                narrower_but(
                    format!("it holds {before} digits before the mark and {scale_there} behind it"),
                    format!("declare decimal({there},{scale_there})"),
                )
            })
        }
        (Scalar::Decimal { precision, .. }, Held::Float(64)) if precision <= 15 => whole(),
        (Scalar::Decimal { precision, scale: 0 }, Held::Int(range)) => {
            let most = 10i128.checked_pow(u32::from(precision)).map_or(i128::MAX, |most| most - 1);
            if_it(range.contains(&most) && range.contains(&-most), &|| {
                narrower(format!("it holds {} to {}", range.start(), range.end()))
            })
        }
        (Scalar::Category, Held::Listed(values)) => {
            let missing: Vec<_> =
                column.values.iter().filter(|value| !values.contains(value)).collect();
            match missing.first() {
                None => whole(),
                Some(first) => narrower(format!(
                    "its list lacks {} of the declared values, '{}' first",
                    missing.len(),
                    first.escape_debug()
                )),
            }
        }
        (Scalar::Date, Held::Timestamp(_, Some(true))) => narrower_but(
            "it holds points in time, and a day has no zone".into(),
            "declare timestamp(s, utc) and a zone".into(),
        ),
        (Scalar::Date, Held::Date | Held::Timestamp(..)) => whole(),
        (Scalar::Time(unit), Held::Time(there)) => {
            if_it(*there >= unit.digits(), &|| Relation::Lossy(lacks(fewer_digits(*there), None)))
        }
        (Scalar::Timestamp { unit, .. }, Held::Timestamp(there, _)) if *there < unit.digits() => {
            Relation::Lossy(lacks(fewer_digits(*there), None))
        }
        (Scalar::Timestamp { utc, .. }, Held::Timestamp(_, Some(zone))) if utc != *zone => {
            if *zone {
                narrower_but(
                    "it holds points in time, and these have no zone".into(),
                    "declare timestamp(…, utc) and a zone".into(),
                )
            } else {
                narrower("it holds wall-clock times, and these are points in time".into())
            }
        }
        (Scalar::Timestamp { .. }, Held::Timestamp(..)) => whole(),
        (Scalar::Uuid, Held::Uuid) | (Scalar::Ip, Held::Ip) => whole(),
        (Scalar::Json, Held::Json) | (Scalar::Geopoint, Held::Point) => whole(),
        (_, Held::Text(None)) => whole(),
        (_, Held::Text(Some(there))) => match longest(column) {
            Some(most) if most <= *there => whole(),
            Some(most) => {
                let what = format!("it holds {there} characters, and these may have {most}");
                match ty.is_text() {
                    true => {
                        narrower_but(what, format!("declare text({there}), or change the table"))
                    }
                    false => narrower(what),
                }
            }
            // An open set of short words: the database objects where one is longer.
            None if ty == Scalar::Lowcard => whole(),
            None => narrower_but(
                format!("it holds {there} characters"),
                format!("declare text({there})"),
            ),
        },
        _ => match ty.carrier().filter(|carrier| !carrier.is_text()) {
            // Numbers stand for what a place has no type for.
            Some(carrier) => {
                let carried = ColumnDecl { ty: carrier.into(), ..column.clone() };
                relation(&carried, place)
            }
            None => Relation::Unlike(Shortfall {
                what: format!("holds no {}", column.ty),
                instead: None,
            }),
        },
    }
}

fn contains(range: &RangeInclusive<i128>, int: IntType) -> bool {
    let (low, high) = int.range();
    range.contains(&low) && range.contains(&high)
}

fn fewer_digits(there: u8) -> String {
    format!("it keeps {there} digits of a second")
}

/// Most characters of the values of a column as text; `None` where there is no limit.
fn longest(column: &ColumnDecl) -> Option<u64> {
    longest_of(column.scalar(), column)
}

fn longest_of(scalar: Scalar, column: &ColumnDecl) -> Option<u64> {
    Some(match scalar {
        Scalar::Text { most } => most?.into(),
        Scalar::Category => {
            column.values.iter().map(|v| v.chars().count() as u64).max().unwrap_or(0)
        }
        Scalar::Bool => 5,
        Scalar::Int(_) => 20,
        Scalar::Float32 | Scalar::Float64 => 24,
        Scalar::Decimal { precision, .. } => u64::from(precision) + 3,
        Scalar::Date => 13,
        Scalar::Time(_) => 18,
        Scalar::Timestamp { .. } => 34,
        carried => return longest_of(carried.carrier()?, column),
    })
}

impl Scalar {
    /// The widest scalar of its kind, as a hurried import has it: numbers in 64 bits, everything else as text.
    pub fn widest(self) -> Scalar {
        match self {
            Scalar::Int(IntType::UInt64) => self,
            Scalar::Int(_) => Scalar::Int(IntType::Int64),
            Scalar::Float32 | Scalar::Float64 | Scalar::Decimal { .. } => Scalar::Float64,
            _ => Scalar::Text { most: None },
        }
    }

    /// Whether a draft says what is declared, where the longest text has `longest` characters. How much longer texts
    /// may become is a matter of taste, as long as those that are there fit.
    pub fn is_drafted_as(self, drafted: Scalar, longest: u64) -> bool {
        match (self, drafted) {
            (Scalar::Text { most }, Scalar::Text { .. }) => {
                most.is_none_or(|most| u64::from(most) >= longest)
            }
            _ => self == drafted,
        }
    }
}

impl TimeUnit {
    /// Digits of a second that it has.
    pub fn digits(self) -> u8 {
        match self {
            TimeUnit::Second => 0,
            TimeUnit::Milli => 3,
            TimeUnit::Micro => 6,
            TimeUnit::Nano => 9,
        }
    }
}

/// Whether a nested type holds every value of another: field by field, where both nest alike.
pub fn nests_alike(old: &Type, new: &Type) -> bool {
    match (old, new) {
        (Type::Scalar(_), Type::Scalar(_)) => true,
        (Type::List(old), Type::List(new)) => nests_alike(old, new),
        (Type::Struct(old), Type::Struct(new)) => {
            old.len() == new.len()
                && old
                    .iter()
                    .zip(new)
                    .all(|(old, new)| old.name == new.name && nests_alike(&old.ty, &new.ty))
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(spelling: &str) -> ColumnDecl {
        ColumnDecl::new("a", Scalar::parse(spelling).unwrap())
    }

    #[test]
    fn a_declared_column_is_the_same_as_itself() {
        for spelling in [
            "bool",
            "uint8",
            "int64",
            "float32",
            "decimal(9,2)",
            "text(8)",
            "text",
            "date",
            "time(ms)",
            "timestamp(us)",
            "timestamp(s, utc)",
            "uuid",
            "ip",
            "geopoint",
            "json",
        ] {
            let column = column(spelling);
            assert_eq!(relation(&column, &Held::of(&column)), Relation::Same, "{spelling}");
        }
    }

    #[test]
    fn relations_have_a_direction_and_a_reason() {
        let of = |old: &str, new: &str| relation(&column(old), &Held::of(&column(new)));
        for (old, new) in [
            ("uint8", "int16"),
            ("int32", "float64"),
            ("float32", "float64"),
            ("decimal(9,2)", "decimal(12,3)"),
            ("text(8)", "text"),
            ("date", "timestamp(s)"),
            ("timestamp(s)", "timestamp(ns)"),
            ("uuid", "text(36)"),
            ("bool", "uint8"),
        ] {
            assert_eq!(of(old, new), Relation::Wider, "{old} to {new}");
            assert!(of(new, old).is_lossless().is_err(), "{new} to {old}");
        }
        let why = |old, new| of(old, new).is_lossless().unwrap_err().to_string();
        assert!(matches!(of("int64", "float64"), Relation::Lossy(_)));
        assert!(matches!(of("timestamp(ms)", "timestamp(s)"), Relation::Lossy(_)));
        assert!(matches!(of("date", "uuid"), Relation::Unlike(_)));
        assert_eq!(
            why("int16", "uint8"),
            "cannot hold every int16: it holds 0 to 255; declare uint8"
        );
        assert_eq!(why("date", "uuid"), "holds no date");
    }

    #[test]
    fn texts_that_fit_are_as_drafted() {
        let text = |most| Scalar::Text { most };
        assert!(text(None).is_drafted_as(text(Some(36)), 18));
        assert!(text(Some(18)).is_drafted_as(text(Some(36)), 18));
        assert!(!text(Some(17)).is_drafted_as(text(Some(36)), 18));
        assert!(!Scalar::Lowcard.is_drafted_as(text(Some(36)), 18));
    }

    #[test]
    fn types_nest_alike_field_by_field() {
        let of = |fields: &[&str]| {
            Type::Struct(fields.iter().map(|name| ColumnDecl::new(*name, Scalar::Bool)).collect())
        };
        let list = |ty| Type::List(Box::new(ty));
        assert!(nests_alike(&list(of(&["a", "b"])), &list(of(&["a", "b"]))));
        assert!(!nests_alike(&list(of(&["a"])), &list(of(&["b"]))));
        assert!(!nests_alike(&of(&["a"]), &list(of(&["a"]))));
    }
}
