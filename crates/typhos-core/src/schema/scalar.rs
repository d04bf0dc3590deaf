//! What a leaf can hold: one table of names, spellings and Arrow types, which parsing, printing, messages and arrays are
//! made from.

use std::fmt;

use arrow_schema::{
    DECIMAL32_MAX_PRECISION, DECIMAL64_MAX_PRECISION, DataType, Field, Fields,
    TimeUnit as ArrowUnit,
};
use thiserror::Error;

use super::{IntType, TimeUnit};

/// The most digits of a decimal.
pub const MAX_PRECISION: u8 = 38;

/// What a leaf holds: a column, or what is innermost in one that nests.
///
/// More of them will come: who does not know one takes what [carries](Scalar::carrier) it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Scalar {
    /// True or false.
    Bool,
    /// An integer.
    Int(IntType),
    /// Binary floating point of 32 bits.
    Float32,
    /// Binary floating point of 64 bits.
    Float64,
    /// An exact number: so many digits in all, and so many of them after the mark.
    Decimal {
        /// Digits in all, 1 to 38.
        precision: u8,
        /// Digits after the mark, at most `precision`.
        scale: u8,
    },
    /// Unicode text.
    Text {
        /// The most characters, where that is said.
        most: Option<u32>,
    },
    /// Text of few distinct values, an open set, stored as dictionary codes.
    Lowcard,
    /// A closed set of texts, listed in the declaration.
    Category,
    /// A day.
    Date,
    /// A time of day.
    Time(TimeUnit),
    /// A day and a time.
    Timestamp {
        /// The resolution.
        unit: TimeUnit,
        /// Whether it is a point in time; otherwise it is what a clock on a wall shows.
        utc: bool,
    },
    /// A length of time, which may be longer than a day, and negative.
    Duration(TimeUnit),
    /// A universally unique identifier, of 16 bytes.
    Uuid,
    /// An IPv4 or IPv6 address.
    Ip,
    /// Latitude and longitude in degrees.
    Geopoint,
    /// A JSON object or array.
    Json,
}

/// How a scalar is spelled: one row of the table of all.
pub struct Spelling {
    /// As people are shown it: `decimal(P,S)`.
    pub shown: &'static str,
    /// What it holds, for documents.
    pub holds: &'static str,
    read: fn(&Words<'_>) -> Result<Scalar, TypeError>,
}

impl Spelling {
    const fn new(
        shown: &'static str,
        holds: &'static str,
        read: fn(&Words<'_>) -> Result<Scalar, TypeError>,
    ) -> Spelling {
        Spelling { shown, holds, read }
    }

    /// Its name: what stands before a parenthesis.
    pub fn name(&self) -> &'static str {
        self.shown.split('(').next().unwrap_or(self.shown)
    }
}

/// The table of scalars.
pub const SCALARS: [Spelling; 23] = [
    Spelling::new("bool", "true or false", |w| w.alone(Scalar::Bool)),
    Spelling::new("int8", "-128 to 127", |w| w.alone(Scalar::Int(IntType::Int8))),
    Spelling::new("int16", "-32,768 to 32,767", |w| w.alone(Scalar::Int(IntType::Int16))),
    Spelling::new("int32", "about ±2.1 × 10^9", |w| w.alone(Scalar::Int(IntType::Int32))),
    Spelling::new("int64", "about ±9.2 × 10^18", |w| w.alone(Scalar::Int(IntType::Int64))),
    Spelling::new("uint8", "0 to 255", |w| w.alone(Scalar::Int(IntType::UInt8))),
    Spelling::new("uint16", "0 to 65,535", |w| w.alone(Scalar::Int(IntType::UInt16))),
    Spelling::new("uint32", "0 to about 4.3 × 10^9", |w| w.alone(Scalar::Int(IntType::UInt32))),
    Spelling::new("uint64", "0 to about 1.8 × 10^19", |w| w.alone(Scalar::Int(IntType::UInt64))),
    Spelling::new("float32", "binary floating point", |w| w.alone(Scalar::Float32)),
    Spelling::new("float64", "binary floating point", |w| w.alone(Scalar::Float64)),
    Spelling::new("decimal(P,S)", "exact numbers of up to 38 digits", |w| w.decimal()),
    Spelling::new("text", "Unicode text", |w| w.text()),
    Spelling::new("lowcard", "text of few distinct values, an open set", |w| {
        w.alone(Scalar::Lowcard)
    }),
    Spelling::new("category", "a closed set, listed in values", |w| w.alone(Scalar::Category)),
    Spelling::new("date", "a day of the years 1 to 9999", |w| w.alone(Scalar::Date)),
    Spelling::new("time(UNIT)", "a time of day", |w| Ok(Scalar::Time(w.unit("time(s)")?))),
    Spelling::new("timestamp(UNIT)", "a day and a time", |w| w.timestamp()),
    Spelling::new("duration(UNIT)", "a length of time", |w| {
        Ok(Scalar::Duration(w.unit("duration(s)")?))
    }),
    Spelling::new("uuid", "16 bytes", |w| w.alone(Scalar::Uuid)),
    Spelling::new("ip", "an IPv4 or IPv6 address", |w| w.alone(Scalar::Ip)),
    Spelling::new("geopoint", "latitude and longitude in degrees", |w| w.alone(Scalar::Geopoint)),
    Spelling::new("json", "a JSON object or array", |w| w.alone(Scalar::Json)),
];

/// The spellings of all scalars, as shown to people; also what a wrong word is compared with.
pub const TYPE_NAMES: [&str; SCALARS.len()] = {
    let mut names = [""; SCALARS.len()];
    let mut at = 0;
    while at < names.len() {
        names[at] = SCALARS[at].shown;
        at += 1;
    }
    names
};

/// A type that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{message}")]
pub struct TypeError {
    /// What is wrong.
    pub message: String,
    /// What to write instead.
    pub help: Option<String>,
}

/// A spelling taken apart: a name, and what stands in parentheses behind it.
struct Words<'s> {
    whole: &'s str,
    name: &'s str,
    arguments: Option<Vec<&'s str>>,
}

impl<'s> Words<'s> {
    fn of(spelling: &'s str) -> Result<Words<'s>, TypeError> {
        let whole = spelling.trim();
        let Some((name, rest)) = whole.split_once('(') else {
            return Ok(Words { whole, name: whole, arguments: None });
        };
        let Some(list) = rest.strip_suffix(')') else {
            return Err(refuse(format!("'{whole}' has no closing parenthesis"), None));
        };
        let arguments = Some(list.split(',').map(str::trim).collect());
        Ok(Words { whole, name: name.trim_end(), arguments })
    }

    /// A scalar whose name says all.
    fn alone(&self, scalar: Scalar) -> Result<Scalar, TypeError> {
        match self.arguments {
            None => Ok(scalar),
            Some(_) => {
                let message = format!("'{}' takes nothing in parentheses", self.name);
                Err(refuse(message, Some(self.name)))
            }
        }
    }

    fn text(&self) -> Result<Scalar, TypeError> {
        match self.arguments.as_deref() {
            None => Ok(Scalar::Text { most: None }),
            Some([most]) => match most.parse() {
                Ok(most) if most > 0 => Ok(Scalar::Text { most: Some(most) }),
                _ => {
                    Err(refuse(format!("'{most}' is not a number of characters"), Some("text(40)")))
                }
            },
            Some(_) => self.alone(Scalar::Text { most: None }),
        }
    }

    fn decimal(&self) -> Result<Scalar, TypeError> {
        let Some([precision, scale]) = self.arguments.as_deref() else {
            let message = format!("'{}' does not say its digits", self.whole);
            return Err(refuse(message, Some("decimal(9,2)")));
        };
        match (precision.parse::<u8>(), scale.parse::<u8>()) {
            (Ok(precision @ 1..=MAX_PRECISION), Ok(scale)) if scale <= precision => {
                Ok(Scalar::Decimal { precision, scale })
            }
            _ => {
                let message = format!(
                    "decimal({precision},{scale}) is not possible: up to 38 digits in all, no more of them after the mark"
                );
                Err(refuse(message, Some("decimal(9,2)")))
            }
        }
    }

    /// The unit that stands alone in the parentheses.
    fn unit(&self, example: &str) -> Result<TimeUnit, TypeError> {
        match self.arguments.as_deref() {
            Some([unit]) => time_unit(unit),
            _ => Err(self.no_unit(example)),
        }
    }

    fn timestamp(&self) -> Result<Scalar, TypeError> {
        match self.arguments.as_deref() {
            Some([unit]) => Ok(Scalar::Timestamp { unit: time_unit(unit)?, utc: false }),
            Some([unit, "utc"]) => Ok(Scalar::Timestamp { unit: time_unit(unit)?, utc: true }),
            _ => Err(self.no_unit("timestamp(s)' or 'timestamp(s, utc)")),
        }
    }

    fn no_unit(&self, example: &str) -> TypeError {
        let message = format!("'{}' does not say its unit: s, ms, us or ns", self.whole);
        refuse(message, Some(example))
    }
}

impl Scalar {
    /// Reads the spelling of a scalar.
    ///
    /// # Errors
    /// One that does not exist or whose numbers make no sense, with the nearest right word.
    pub fn parse(spelling: &str) -> Result<Scalar, TypeError> {
        let words = Words::of(spelling)?;
        match SCALARS.iter().find(|known| known.name() == words.name) {
            Some(known) => (known.read)(&words),
            None => Err(unknown(words.name)),
        }
    }

    /// What holds it where there is no type for it: numbers, or text as it is written plainly. `None` where every place
    /// has to have a type.
    pub fn carrier(self) -> Option<Scalar> {
        let text = |most| Some(Scalar::Text { most });
        match self {
            Scalar::Duration(_) => Some(Scalar::Int(IntType::Int64)),
            Scalar::Lowcard | Scalar::Json => text(None),
            Scalar::Uuid => text(Some(36)),
            Scalar::Ip => text(Some(45)),
            Scalar::Geopoint => text(Some(50)),
            _ => None,
        }
    }

    /// Itself, or the numbers that carry it where there is no type for it.
    pub fn numbered(self) -> Scalar {
        self.carrier().filter(|carrier| carrier.is_number()).unwrap_or(self)
    }

    /// The units that its values are whole numbers of, where what carries it is numbers.
    pub fn counts(self) -> Option<&'static str> {
        match self {
            Scalar::Duration(TimeUnit::Second) => Some("seconds"),
            Scalar::Duration(TimeUnit::Milli) => Some("milliseconds"),
            Scalar::Duration(TimeUnit::Micro) => Some("microseconds"),
            Scalar::Duration(TimeUnit::Nano) => Some("nanoseconds"),
            _ => None,
        }
    }

    /// What its values are, in the plural.
    pub fn what(self) -> &'static str {
        match self {
            Scalar::Duration(_) => "lengths of time",
            Scalar::Uuid => "UUIDs",
            Scalar::Ip => "addresses",
            Scalar::Geopoint => "points",
            Scalar::Json => "JSON",
            Scalar::Lowcard => "dictionaries",
            _ => "its values",
        }
    }

    /// Whether its values have an order that bounds can be said in.
    pub fn is_ordered(self) -> bool {
        self.is_number() || self.takes_patterns() || matches!(self, Scalar::Duration(_))
    }

    /// The Arrow type that holds it. `values` is the length of a category's list.
    pub fn arrow(self, values: usize) -> DataType {
        match self {
            Scalar::Bool => DataType::Boolean,
            Scalar::Int(int) => match int {
                IntType::Int8 => DataType::Int8,
                IntType::Int16 => DataType::Int16,
                IntType::Int32 => DataType::Int32,
                IntType::Int64 => DataType::Int64,
                IntType::UInt8 => DataType::UInt8,
                IntType::UInt16 => DataType::UInt16,
                IntType::UInt32 => DataType::UInt32,
                IntType::UInt64 => DataType::UInt64,
            },
            Scalar::Float32 => DataType::Float32,
            Scalar::Float64 => DataType::Float64,
            // The narrowest integers that hold the digits.
            Scalar::Decimal { precision, scale } => {
                let of = match precision {
                    p if p <= DECIMAL32_MAX_PRECISION => DataType::Decimal32,
                    p if p <= DECIMAL64_MAX_PRECISION => DataType::Decimal64,
                    _ => DataType::Decimal128,
                };
                of(precision, scale.cast_signed())
            }
            Scalar::Text { .. } | Scalar::Ip | Scalar::Json => DataType::Utf8,
            Scalar::Uuid => DataType::FixedSizeBinary(16),
            Scalar::Geopoint => DataType::Struct(point_fields()),
            // How many values there will be is not known before the last.
            Scalar::Lowcard => dictionary(DataType::UInt32),
            Scalar::Category => dictionary(code_type(values as u64)),
            Scalar::Date => DataType::Date32,
            Scalar::Time(unit @ (TimeUnit::Second | TimeUnit::Milli)) => {
                DataType::Time32(arrow_unit(unit))
            }
            Scalar::Time(unit) => DataType::Time64(arrow_unit(unit)),
            Scalar::Duration(unit) => DataType::Duration(arrow_unit(unit)),
            Scalar::Timestamp { unit, utc } => {
                DataType::Timestamp(arrow_unit(unit), utc.then(|| "UTC".into()))
            }
        }
    }

    /// Whether its values are texts, so that a well-known token is a value like any other.
    pub fn is_text(self) -> bool {
        matches!(self, Scalar::Text { .. } | Scalar::Lowcard | Scalar::Category)
    }

    /// Whether its values are read by date patterns.
    pub fn takes_patterns(self) -> bool {
        matches!(self, Scalar::Date | Scalar::Time(_) | Scalar::Timestamp { .. })
    }

    /// Whether its values are numbers.
    pub fn is_number(self) -> bool {
        matches!(self, Scalar::Int(_) | Scalar::Float32 | Scalar::Float64 | Scalar::Decimal { .. })
    }
}

fn refuse(message: String, example: Option<&str>) -> TypeError {
    TypeError { message, help: example.map(|example| format!("write '{example}'")) }
}

/// Words of other systems, and what they are here.
const ELSEWHERE: [(&str, &str); 18] = [
    ("string", "text"),
    ("varchar", "text(N)"),
    ("str", "text"),
    ("char", "text(N)"),
    ("int", "int32"),
    ("integer", "int32"),
    ("bigint", "int64"),
    ("smallint", "int16"),
    ("float", "float64"),
    ("double", "float64"),
    ("boolean", "bool"),
    ("numeric", "decimal(P,S)"),
    ("datetime", "timestamp(s)"),
    ("enum", "category"),
    ("guid", "uuid"),
    ("inet", "ip"),
    ("jsonb", "json"),
    ("point", "geopoint"),
];

fn unknown(name: &str) -> TypeError {
    let near = ELSEWHERE
        .iter()
        .find(|(word, _)| word.eq_ignore_ascii_case(name))
        .map(|(_, ours)| *ours)
        .or_else(|| crate::nearest(name, SCALARS.iter().map(Spelling::name)));
    TypeError {
        message: format!("unknown type '{name}'"),
        help: Some(match near {
            Some(near) => format!("did you mean '{near}'?"),
            None => format!("the types are {}", TYPE_NAMES.join(", ")),
        }),
    }
}

fn time_unit(unit: &str) -> Result<TimeUnit, TypeError> {
    let found = TimeUnit::ALL.into_iter().find(|known| known.name() == unit);
    found
        .ok_or_else(|| refuse(format!("'{unit}' is not a unit of time: use s, ms, us or ns"), None))
}

impl fmt::Display for Scalar {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Scalar::Bool => f.write_str("bool"),
            Scalar::Int(ty) => f.write_str(ty.name()),
            Scalar::Float32 => f.write_str("float32"),
            Scalar::Float64 => f.write_str("float64"),
            Scalar::Decimal { precision, scale } => write!(f, "decimal({precision},{scale})"),
            Scalar::Text { most: None } => f.write_str("text"),
            Scalar::Text { most: Some(most) } => write!(f, "text({most})"),
            Scalar::Lowcard => f.write_str("lowcard"),
            Scalar::Category => f.write_str("category"),
            Scalar::Date => f.write_str("date"),
            Scalar::Time(unit) => write!(f, "time({})", unit.name()),
            Scalar::Duration(unit) => write!(f, "duration({})", unit.name()),
            Scalar::Timestamp { unit, utc: false } => write!(f, "timestamp({})", unit.name()),
            Scalar::Timestamp { unit, utc: true } => write!(f, "timestamp({}, utc)", unit.name()),
            Scalar::Uuid => f.write_str("uuid"),
            Scalar::Ip => f.write_str("ip"),
            Scalar::Geopoint => f.write_str("geopoint"),
            Scalar::Json => f.write_str("json"),
        }
    }
}

/// The narrowest unsigned integers that are codes for so many values. Absent is not a code.
pub fn code_type(values: u64) -> DataType {
    match values {
        0..=0x100 => DataType::UInt8,
        0x101..=0x1_0000 => DataType::UInt16,
        _ => DataType::UInt32,
    }
}

/// The fields of a point: latitude and longitude in degrees.
pub fn point_fields() -> Fields {
    let degrees = |name: &str| Field::new(name, DataType::Float64, false);
    Fields::from(vec![degrees("lat"), degrees("lon")])
}

fn dictionary(codes: DataType) -> DataType {
    DataType::Dictionary(Box::new(codes), Box::new(DataType::Utf8))
}

fn arrow_unit(unit: TimeUnit) -> ArrowUnit {
    match unit {
        TimeUnit::Second => ArrowUnit::Second,
        TimeUnit::Milli => ArrowUnit::Millisecond,
        TimeUnit::Micro => ArrowUnit::Microsecond,
        TimeUnit::Nano => ArrowUnit::Nanosecond,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_reads_back() {
        let mut types = vec![
            Scalar::Bool,
            Scalar::Float32,
            Scalar::Float64,
            Scalar::Decimal { precision: 38, scale: 0 },
            Scalar::Decimal { precision: 6, scale: 2 },
            Scalar::Text { most: None },
            Scalar::Text { most: Some(8) },
            Scalar::Lowcard,
            Scalar::Category,
            Scalar::Date,
            Scalar::Uuid,
            Scalar::Ip,
            Scalar::Geopoint,
            Scalar::Json,
        ];
        types.extend(IntType::ALL.map(Scalar::Int));
        for unit in TimeUnit::ALL {
            types.extend([Scalar::Time(unit), Scalar::Duration(unit)]);
            types.extend([false, true].map(|utc| Scalar::Timestamp { unit, utc }));
        }
        for ty in &types {
            assert_eq!(Scalar::parse(&ty.to_string()), Ok(*ty));
        }
        for name in TYPE_NAMES {
            let bare = name.split('(').next().unwrap();
            assert!(types.iter().any(|ty| ty.to_string().starts_with(bare)), "{name}");
        }
    }

    #[test]
    fn wrong_types_are_told_the_right_word() {
        for (spelling, message, help) in [
            ("unit16", "unknown type 'unit16'", "did you mean 'uint16'?"),
            ("string", "unknown type 'string'", "did you mean 'text'?"),
            ("timestmp(s)", "unknown type 'timestmp'", "did you mean 'timestamp'?"),
            ("timestamp", "does not say its unit", "write 'timestamp(s)'"),
            ("timestamp(minutes)", "'minutes' is not a unit", ""),
            ("decimal", "does not say its digits", "write 'decimal(9,2)'"),
            ("decimal(2,3)", "decimal(2,3) is not possible", ""),
            ("decimal(39,3)", "is not possible", ""),
            ("text(0)", "'0' is not a number of characters", ""),
            ("text(8", "no closing parenthesis", ""),
            ("bool(1)", "'bool' takes nothing", ""),
            ("blob", "unknown type 'blob'", "the types are bool, int8"),
        ] {
            let error = Scalar::parse(spelling).unwrap_err();
            assert!(error.message.contains(message), "{spelling}: {}", error.message);
            assert!(error.help.unwrap_or_default().contains(help), "{spelling}");
        }
    }
}
