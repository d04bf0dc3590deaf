//! What a partition takes of a value, as the specification of the format has it: results, and the hash behind buckets.

use std::fmt;

use super::literal::{Literal, shortest};
use typhos_core::dates::civil_from_days;
use typhos_core::schema::PartitionBy;

/// What a partition takes of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transform {
    /// What a declaration has a word for; times are counted from 1970.
    Of(PartitionBy),
    /// Nothing: a partition that is no longer one.
    Void,
}

/// The words of the format for those without a number.
const WORDS: [(&str, Transform); 6] = [
    ("identity", Transform::Of(PartitionBy::Value)),
    ("year", Transform::Of(PartitionBy::Year)),
    ("month", Transform::Of(PartitionBy::Month)),
    ("day", Transform::Of(PartitionBy::Day)),
    ("hour", Transform::Of(PartitionBy::Hour)),
    ("void", Transform::Void),
];

impl Transform {
    /// Reads one, as `bucket[16]`.
    pub fn parse(word: &str) -> Option<Transform> {
        if let Some((_, transform)) = WORDS.into_iter().find(|(known, _)| *known == word) {
            return Some(transform);
        }
        let (function, number) = word.strip_suffix(']')?.split_once('[')?;
        let number = number.parse().ok().filter(|number| *number > 0)?;
        match function {
            "bucket" => Some(Transform::Of(PartitionBy::Bucket(number))),
            "truncate" => Some(Transform::Of(PartitionBy::Truncate(number))),
            _ => None,
        }
    }

    /// The plain type of what comes out, of one that goes in.
    pub fn result(self, source: &str) -> String {
        match self {
            Transform::Void | Transform::Of(PartitionBy::Value | PartitionBy::Truncate(_)) => {
                source.to_owned()
            }
            Transform::Of(PartitionBy::Day) => "date".to_owned(),
            Transform::Of(_) => "int".to_owned(),
        }
    }

    /// What comes out; `None` of what takes no such value.
    pub fn apply(self, value: &Literal) -> Option<Literal> {
        let days = || match value {
            Literal::Date(days) => Some(i64::from(*days)),
            Literal::Instant(micros) => Some(micros.div_euclid(86_400_000_000)),
            _ => None,
        };
        let Transform::Of(by) = self else { return None };
        match by {
            PartitionBy::Value => Some(value.clone()),
            PartitionBy::Year => Some(Literal::Int(month_of(days()?)?.div_euclid(12))),
            PartitionBy::Month => Some(Literal::Int(month_of(days()?)?)),
            PartitionBy::Day => Some(Literal::Date(i32::try_from(days()?).ok()?)),
            PartitionBy::Hour => match value {
                Literal::Instant(micros) => {
                    Some(Literal::Int(i32::try_from(micros.div_euclid(3_600_000_000)).ok()?))
                }
                _ => None,
            },
            PartitionBy::Bucket(count) => {
                let hash = hash(value)? & i32::MAX.unsigned_abs();
                Some(Literal::Int((hash % count) as i32))
            }
            PartitionBy::Truncate(width) => truncated(value, width),
        }
    }
}

impl fmt::Display for Transform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Transform::Of(PartitionBy::Bucket(count)) => write!(f, "bucket[{count}]"),
            Transform::Of(PartitionBy::Truncate(width)) => write!(f, "truncate[{width}]"),
            other => {
                let known = WORDS.iter().find(|(_, known)| known == other);
                f.write_str(known.map_or("void", |(word, _)| word))
            }
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
            assert_eq!(
                Transform::Of(PartitionBy::Year).apply(&day(days)),
                Some(Literal::Int(year)),
                "{days}"
            );
            assert_eq!(
                Transform::Of(PartitionBy::Month).apply(&day(days)),
                Some(Literal::Int(month)),
                "{days}"
            );
        }
        let instant = Literal::Instant(-1);
        assert_eq!(Transform::Of(PartitionBy::Day).apply(&instant), Some(Literal::Date(-1)));
        assert_eq!(Transform::Of(PartitionBy::Hour).apply(&instant), Some(Literal::Int(-1)));
        assert_eq!(Transform::Of(PartitionBy::Hour).apply(&day(0)), None);
    }

    #[test]
    fn numbers_are_truncated_downwards_and_texts_to_characters() {
        let truncate = |value| Transform::Of(PartitionBy::Truncate(10)).apply(&value).unwrap();
        assert_eq!(truncate(Literal::Int(1)), Literal::Int(0));
        assert_eq!(truncate(Literal::Int(-1)), Literal::Int(-10));
        assert_eq!(truncate(Literal::Decimal(-1065, 4)), Literal::Decimal(-1070, 4));
        let least = Transform::Of(PartitionBy::Truncate(1000)).apply(&Literal::Long(i64::MIN));
        assert_eq!(least, Some(Literal::Long(i64::MAX - 191)));
        let text = Transform::Of(PartitionBy::Truncate(3)).apply(&Literal::Text("Tårnvik".into()));
        assert_eq!(text, Some(Literal::Text("Tår".into())));
        for word in ["bucket[16]", "truncate[4]", "identity", "hour", "void"] {
            assert_eq!(Transform::parse(word).map(|it| it.to_string()).as_deref(), Some(word));
        }
        assert_eq!(Transform::parse("bucket[0]"), None);
        assert_eq!(Transform::parse("zorder[2]"), None);
    }
}
