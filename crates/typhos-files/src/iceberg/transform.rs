//! What a partition takes of a value, as the specification of the format has it: results, and the hash behind buckets.

use std::fmt;

use super::literal::{Literal, shortest};
use typhos_core::dates::civil_from_days;
use typhos_core::schema::PartitionBy;

/// What a partition takes of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transform {
    /// All of it.
    Identity,
    /// Years since 1970.
    Year,
    /// Months since 1970.
    Month,
    /// Days since 1970.
    Day,
    /// Hours since 1970.
    Hour,
    /// Its hash, modulo so many.
    Bucket(u32),
    /// So many of its first characters, or the number below it that so many divide.
    Truncate(u32),
    /// Nothing: a partition that is no longer one.
    Void,
}

impl Transform {
    /// Reads one, as `bucket[16]`.
    pub fn parse(word: &str) -> Option<Transform> {
        let call = word.strip_suffix(']').and_then(|rest| rest.split_once('['));
        Some(match (word, call) {
            ("identity", _) => Transform::Identity,
            ("year", _) => Transform::Year,
            ("month", _) => Transform::Month,
            ("day", _) => Transform::Day,
            ("hour", _) => Transform::Hour,
            ("void", _) => Transform::Void,
            (_, Some(("bucket", count))) => {
                Transform::Bucket(count.parse().ok().filter(|it| *it > 0)?)
            }
            (_, Some(("truncate", width))) => {
                Transform::Truncate(width.parse().ok().filter(|it| *it > 0)?)
            }
            _ => return None,
        })
    }

    /// The one that a declaration means.
    pub fn of(by: PartitionBy) -> Transform {
        match by {
            PartitionBy::Value => Transform::Identity,
            PartitionBy::Year => Transform::Year,
            PartitionBy::Month => Transform::Month,
            PartitionBy::Day => Transform::Day,
            PartitionBy::Hour => Transform::Hour,
            PartitionBy::Bucket(count) => Transform::Bucket(count),
            PartitionBy::Truncate(width) => Transform::Truncate(width),
        }
    }

    /// What a declaration says for it; `None` for what is no longer a partition.
    pub fn declared(self) -> Option<PartitionBy> {
        Some(match self {
            Transform::Identity => PartitionBy::Value,
            Transform::Year => PartitionBy::Year,
            Transform::Month => PartitionBy::Month,
            Transform::Day => PartitionBy::Day,
            Transform::Hour => PartitionBy::Hour,
            Transform::Bucket(count) => PartitionBy::Bucket(count),
            Transform::Truncate(width) => PartitionBy::Truncate(width),
            Transform::Void => return None,
        })
    }

    /// The plain type of what comes out, of one that goes in.
    pub fn result(self, source: &str) -> String {
        match self {
            Transform::Identity | Transform::Truncate(_) | Transform::Void => source.to_owned(),
            Transform::Day => "date".to_owned(),
            _ => "int".to_owned(),
        }
    }

    /// What comes out; `None` of what takes no such value.
    pub fn apply(self, value: &Literal) -> Option<Literal> {
        let days = || match value {
            Literal::Date(days) => Some(i64::from(*days)),
            Literal::Instant(micros) => Some(micros.div_euclid(86_400_000_000)),
            _ => None,
        };
        match self {
            Transform::Identity => Some(value.clone()),
            Transform::Void => None,
            Transform::Year => Some(Literal::Int(month_of(days()?)?.div_euclid(12))),
            Transform::Month => Some(Literal::Int(month_of(days()?)?)),
            Transform::Day => Some(Literal::Date(i32::try_from(days()?).ok()?)),
            Transform::Hour => match value {
                Literal::Instant(micros) => {
                    Some(Literal::Int(i32::try_from(micros.div_euclid(3_600_000_000)).ok()?))
                }
                _ => None,
            },
            Transform::Bucket(count) => {
                let hash = hash(value)? & i32::MAX.unsigned_abs();
                Some(Literal::Int((hash % count) as i32))
            }
            Transform::Truncate(width) => truncated(value, width),
        }
    }
}

impl fmt::Display for Transform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Transform::Identity => f.write_str("identity"),
            Transform::Year => f.write_str("year"),
            Transform::Month => f.write_str("month"),
            Transform::Day => f.write_str("day"),
            Transform::Hour => f.write_str("hour"),
            Transform::Bucket(count) => write!(f, "bucket[{count}]"),
            Transform::Truncate(width) => write!(f, "truncate[{width}]"),
            Transform::Void => f.write_str("void"),
        }
    }
}

/// The months since January 1970 of a day.
fn month_of(days: i64) -> Option<i32> {
    let (year, month, _) = civil_from_days(i32::try_from(days).ok()?);
    Some((year - 1970) * 12 + month as i32 - 1)
}

/// The hash of a value: Murmur3 of 32 bits, of its bytes in the form that the specification has for hashing; `None` for types
/// that have none.
fn hash(value: &Literal) -> Option<u32> {
    let bytes = match value {
        Literal::Int(value) | Literal::Date(value) => i64::from(*value).to_le_bytes().to_vec(),
        Literal::Long(value) | Literal::Time(value) | Literal::Instant(value) => {
            value.to_le_bytes().to_vec()
        }
        Literal::Decimal(digits, _) => shortest(*digits),
        Literal::Text(text) => text.as_bytes().to_vec(),
        Literal::Uuid(bytes) => bytes.to_vec(),
        Literal::Bool(_) | Literal::Float(_) | Literal::Double(_) => return None,
    };
    murmur3::murmur3_32(&mut &bytes[..], 0).ok()
}

fn truncated(value: &Literal, width: u32) -> Option<Literal> {
    Some(match value {
        // Below the smallest number there is none: it wraps around, as in the library that others follow.
        Literal::Int(value) => {
            let below = i64::from(*value) - i64::from(*value).rem_euclid(width.into());
            Literal::Int(below as i32)
        }
        Literal::Long(value) => Literal::Long(value.wrapping_sub(value.rem_euclid(width.into()))),
        Literal::Decimal(digits, precision) => {
            Literal::Decimal(digits - digits.rem_euclid(width.into()), *precision)
        }
        Literal::Text(text) => Literal::Text(text.chars().take(width as usize).collect()),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The values of the appendix of the specification.
    #[test]
    fn hashes_are_those_of_the_specification() {
        let uuid = 0xf79c_3e09_677c_4bbd_a479_3f34_9cb7_85e7_u128.to_be_bytes();
        for (value, expected) in [
            (Literal::Int(34), 2_017_239_379),
            (Literal::Long(34), 2_017_239_379),
            (Literal::Decimal(1420, 4), -500_754_589),
            (Literal::Date(17_486), -653_330_422),
            (Literal::Time(81_068_000_000), -662_762_989),
            (Literal::Instant(1_510_871_468_000_000), -2_047_944_441),
            (Literal::Text("iceberg".into()), 1_210_000_089),
            (Literal::Uuid(uuid), 1_488_055_340),
        ] {
            assert_eq!(hash(&value).map(u32::cast_signed), Some(expected), "{value:?}");
        }
        assert_eq!(hash(&Literal::Double(1.0)), None);
    }

    #[test]
    fn times_are_counted_from_1970_and_below() {
        let day = |days| Literal::Date(days);
        for (days, year, month) in
            [(0, 0, 0), (-1, -1, -1), (31, 0, 1), (19_723, 54, 648), (-719_162, -1969, -23_628)]
        {
            assert_eq!(Transform::Year.apply(&day(days)), Some(Literal::Int(year)), "{days}");
            assert_eq!(Transform::Month.apply(&day(days)), Some(Literal::Int(month)), "{days}");
        }
        let instant = Literal::Instant(-1);
        assert_eq!(Transform::Day.apply(&instant), Some(Literal::Date(-1)));
        assert_eq!(Transform::Hour.apply(&instant), Some(Literal::Int(-1)));
        assert_eq!(Transform::Hour.apply(&day(0)), None);
    }

    #[test]
    fn numbers_are_truncated_downwards_and_texts_to_characters() {
        let truncate = |value| Transform::Truncate(10).apply(&value).unwrap();
        assert_eq!(truncate(Literal::Int(1)), Literal::Int(0));
        assert_eq!(truncate(Literal::Int(-1)), Literal::Int(-10));
        assert_eq!(truncate(Literal::Decimal(-1065, 4)), Literal::Decimal(-1070, 4));
        let least = Transform::Truncate(1000).apply(&Literal::Long(i64::MIN));
        assert_eq!(least, Some(Literal::Long(i64::MAX - 191)));
        let text = Transform::Truncate(3).apply(&Literal::Text("Tårnvik".into()));
        assert_eq!(text, Some(Literal::Text("Tår".into())));
        for word in ["bucket[16]", "truncate[4]", "identity", "hour", "void"] {
            assert_eq!(Transform::parse(word).map(|it| it.to_string()).as_deref(), Some(word));
        }
        assert_eq!(Transform::parse("bucket[0]"), None);
        assert_eq!(Transform::parse("zorder[2]"), None);
    }
}
