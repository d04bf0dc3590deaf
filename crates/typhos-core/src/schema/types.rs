//! The types a column can have: spelling, range, size. One table feeds parsing, printing, messages
//! and choosing widths.

use std::fmt;

use thiserror::Error;

/// An integer type.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum IntType {
    /// -128 to 127.
    Int8,
    /// -32,768 to 32,767.
    Int16,
    /// About ±2.1 billion.
    Int32,
    /// About ±9.2 × 10^18.
    Int64,
    /// 0 to 255.
    UInt8,
    /// 0 to 65,535.
    UInt16,
    /// 0 to about 4.3 billion.
    UInt32,
    /// 0 to about 1.8 × 10^19.
    UInt64,
}

impl IntType {
    /// All integer types; of each sign the narrowest first, the unsigned first.
    pub const ALL: [IntType; 8] = [
        IntType::UInt8,
        IntType::UInt16,
        IntType::UInt32,
        IntType::UInt64,
        IntType::Int8,
        IntType::Int16,
        IntType::Int32,
        IntType::Int64,
    ];

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            IntType::Int8 => "int8",
            IntType::Int16 => "int16",
            IntType::Int32 => "int32",
            IntType::Int64 => "int64",
            IntType::UInt8 => "uint8",
            IntType::UInt16 => "uint16",
            IntType::UInt32 => "uint32",
            IntType::UInt64 => "uint64",
        }
    }

    /// Smallest and largest value.
    pub fn range(self) -> (i128, i128) {
        match self {
            IntType::Int8 => (i8::MIN.into(), i8::MAX.into()),
            IntType::Int16 => (i16::MIN.into(), i16::MAX.into()),
            IntType::Int32 => (i32::MIN.into(), i32::MAX.into()),
            IntType::Int64 => (i64::MIN.into(), i64::MAX.into()),
            IntType::UInt8 => (0, u8::MAX.into()),
            IntType::UInt16 => (0, u16::MAX.into()),
            IntType::UInt32 => (0, u32::MAX.into()),
            IntType::UInt64 => (0, u64::MAX.into()),
        }
    }

    /// The narrowest type that holds every integer from `low` to `high`: unsigned where `low` is not
    /// negative. `None` where 64 bits are not enough.
    pub fn narrowest(low: i128, high: i128) -> Option<IntType> {
        let signed = low < 0;
        IntType::ALL.into_iter().find(|ty| {
            let (least, most) = ty.range();
            (least < 0) == signed && least <= low && high <= most
        })
    }
}

/// The resolution of a time or timestamp.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum TimeUnit {
    /// Seconds.
    Second,
    /// Milliseconds.
    Milli,
    /// Microseconds.
    Micro,
    /// Nanoseconds.
    Nano,
}

impl TimeUnit {
    /// All units, the coarsest first.
    pub const ALL: [TimeUnit; 4] =
        [TimeUnit::Second, TimeUnit::Milli, TimeUnit::Micro, TimeUnit::Nano];

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            TimeUnit::Second => "s",
            TimeUnit::Milli => "ms",
            TimeUnit::Micro => "us",
            TimeUnit::Nano => "ns",
        }
    }

    /// Nanoseconds in one unit.
    pub fn nanos(self) -> i64 {
        match self {
            TimeUnit::Second => 1_000_000_000,
            TimeUnit::Milli => 1_000_000,
            TimeUnit::Micro => 1_000,
            TimeUnit::Nano => 1,
        }
    }

    /// The coarsest unit that keeps so many digits after the second.
    pub fn for_digits(digits: u8) -> TimeUnit {
        match digits {
            0 => TimeUnit::Second,
            1..=3 => TimeUnit::Milli,
            4..=6 => TimeUnit::Micro,
            _ => TimeUnit::Nano,
        }
    }
}

/// The most digits of a decimal.
pub const MAX_PRECISION: u8 = 38;

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
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
    /// A universally unique identifier, of 16 bytes.
    Uuid,
    /// An IPv4 or IPv6 address.
    Ip,
    /// Latitude and longitude in degrees.
    Geopoint,
    /// A JSON object or array.
    Json,
}

/// The spellings of all types, as shown to people; also what a wrong word is compared with.
pub const TYPE_NAMES: [&str; 22] = [
    "bool",
    "int8",
    "int16",
    "int32",
    "int64",
    "uint8",
    "uint16",
    "uint32",
    "uint64",
    "float32",
    "float64",
    "decimal(P,S)",
    "text",
    "lowcard",
    "category",
    "date",
    "time(UNIT)",
    "timestamp(UNIT)",
    "uuid",
    "ip",
    "geopoint",
    "json",
];

/// A type that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{message}")]
pub struct TypeError {
    /// What is wrong.
    pub message: String,
    /// What to write instead.
    pub help: Option<String>,
}

impl Scalar {
    /// Reads the spelling of a type.
    ///
    /// # Errors
    /// A type that does not exist or whose numbers make no sense, with the nearest right word.
    pub fn parse(spelling: &str) -> Result<Scalar, TypeError> {
        let spelling = spelling.trim();
        let (name, arguments) = match spelling.split_once('(') {
            Some((name, rest)) => match rest.strip_suffix(')') {
                Some(arguments) => (name.trim_end(), Some(arguments)),
                None => {
                    return Err(refuse(format!("'{spelling}' has no closing parenthesis"), None));
                }
            },
            None => (spelling, None),
        };
        let arguments: Option<Vec<&str>> =
            arguments.map(|list| list.split(',').map(str::trim).collect());
        let arguments = arguments.as_deref();
        match (name, arguments) {
            ("bool", None) => Ok(Scalar::Bool),
            ("float32", None) => Ok(Scalar::Float32),
            ("float64", None) => Ok(Scalar::Float64),
            ("text", None) => Ok(Scalar::Text { most: None }),
            ("text", Some([most])) => match most.parse() {
                Ok(most) if most > 0 => Ok(Scalar::Text { most: Some(most) }),
                _ => {
                    Err(refuse(format!("'{most}' is not a number of characters"), Some("text(40)")))
                }
            },
            ("lowcard", None) => Ok(Scalar::Lowcard),
            ("category", None) => Ok(Scalar::Category),
            ("date", None) => Ok(Scalar::Date),
            ("uuid", None) => Ok(Scalar::Uuid),
            ("ip", None) => Ok(Scalar::Ip),
            ("geopoint", None) => Ok(Scalar::Geopoint),
            ("json", None) => Ok(Scalar::Json),
            ("decimal", Some([precision, scale])) => decimal(precision, scale),
            ("decimal", _) => {
                Err(refuse(format!("'{spelling}' does not say its digits"), Some("decimal(9,2)")))
            }
            ("time", Some([unit])) => Ok(Scalar::Time(time_unit(unit)?)),
            ("timestamp", Some([unit])) => {
                Ok(Scalar::Timestamp { unit: time_unit(unit)?, utc: false })
            }
            ("timestamp", Some([unit, "utc"])) => {
                Ok(Scalar::Timestamp { unit: time_unit(unit)?, utc: true })
            }
            ("time" | "timestamp", _) => {
                let example =
                    if name == "time" { "time(s)" } else { "timestamp(s)' or 'timestamp(s, utc)" };
                Err(refuse(
                    format!("'{spelling}' does not say its unit: s, ms, us or ns"),
                    Some(example),
                ))
            }
            (_, None) => match IntType::ALL.into_iter().find(|ty| ty.name() == name) {
                Some(ty) => Ok(Scalar::Int(ty)),
                None => Err(unknown(name)),
            },
            (_, Some(_)) if TYPE_NAMES.contains(&name) => {
                Err(refuse(format!("'{name}' takes nothing in parentheses"), Some(name)))
            }
            _ => Err(unknown(name)),
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
    let bare = TYPE_NAMES.map(|spelling| spelling.split('(').next().unwrap_or(spelling));
    let near = ELSEWHERE
        .iter()
        .find(|(word, _)| word.eq_ignore_ascii_case(name))
        .map(|(_, ours)| *ours)
        .or_else(|| crate::nearest(name, bare));
    TypeError {
        message: format!("unknown type '{name}'"),
        help: Some(match near {
            Some(near) => format!("did you mean '{near}'?"),
            None => format!("the types are {}", TYPE_NAMES.join(", ")),
        }),
    }
}

fn decimal(precision: &str, scale: &str) -> Result<Scalar, TypeError> {
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
            Scalar::Timestamp { unit, utc: false } => write!(f, "timestamp({})", unit.name()),
            Scalar::Timestamp { unit, utc: true } => write!(f, "timestamp({}, utc)", unit.name()),
            Scalar::Uuid => f.write_str("uuid"),
            Scalar::Ip => f.write_str("ip"),
            Scalar::Geopoint => f.write_str("geopoint"),
            Scalar::Json => f.write_str("json"),
        }
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
            types.push(Scalar::Time(unit));
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

    #[test]
    fn narrowest_integers_at_every_boundary() {
        for ty in IntType::ALL {
            let (low, high) = ty.range();
            assert_eq!(IntType::narrowest(low, high), Some(ty));
            let wider = IntType::narrowest(low, high + 1).map(|wider| wider.range().1);
            assert!(wider.is_none_or(|most| most > high), "{}", ty.name());
            if low < 0 {
                assert_ne!(IntType::narrowest(low - 1, high), Some(ty));
            }
        }
        assert_eq!(IntType::narrowest(0, 0), Some(IntType::UInt8));
        assert_eq!(IntType::narrowest(-1, 127), Some(IntType::Int8));
        assert_eq!(IntType::narrowest(-1, 128), Some(IntType::Int16));
        assert_eq!(IntType::narrowest(0, i128::from(u64::MAX) + 1), None);
    }
}
