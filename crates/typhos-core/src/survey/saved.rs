//! Pieces of the format in which surveys are saved, where it is not what a derived one would be: bytes
//! that are nearly always text, and numbers that JSON cannot hold exactly.

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::{Facts, KindFacts, Sequence, Tally};
use crate::text::LineRef;

/// A text as itself; other bytes as `{"hex": "…"}`.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum TextOrBytes {
    Text(String),
    Bytes { hex: String },
}

impl TextOrBytes {
    fn of(bytes: &[u8]) -> TextOrBytes {
        match std::str::from_utf8(bytes) {
            Ok(text) => TextOrBytes::Text(text.to_owned()),
            Err(_) => TextOrBytes::Bytes { hex: hex(bytes) },
        }
    }

    fn bytes(self) -> Result<Vec<u8>, String> {
        match self {
            TextOrBytes::Text(text) => Ok(text.into_bytes()),
            TextOrBytes::Bytes { hex } => unhex(&hex).ok_or_else(|| "not hexadecimal".into()),
        }
    }
}

/// Bytes as hexadecimal digits.
pub(super) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The bytes of hexadecimal digits.
pub(super) fn unhex(text: &str) -> Option<Vec<u8>> {
    let digits: Option<Vec<u8>> =
        text.chars().map(|letter| letter.to_digit(16).map(|digit| digit as u8)).collect();
    let (pairs, rest) = digits.as_ref()?.as_chunks::<2>();
    rest.is_empty().then(|| pairs.iter().map(|[high, low]| high << 4 | low).collect())
}

/// Bytes that are nearly always text.
pub(super) mod text_or_bytes {
    use super::*;

    pub fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        TextOrBytes::of(bytes).serialize(to)
    }

    pub fn deserialize<'d, D: Deserializer<'d>>(from: D) -> Result<Vec<u8>, D::Error> {
        TextOrBytes::deserialize(from)?.bytes().map_err(D::Error::custom)
    }
}

/// Counts by a text that is held as bytes.
pub(super) mod bytes_as_text {
    use super::*;
    use std::collections::BTreeMap;

    pub fn serialize<S: Serializer>(
        counts: &BTreeMap<Vec<u8>, u64>,
        to: S,
    ) -> Result<S::Ok, S::Error> {
        to.collect_map(counts.iter().map(|(key, count)| (String::from_utf8_lossy(key), count)))
    }

    pub fn deserialize<'d, D: Deserializer<'d>>(
        from: D,
    ) -> Result<BTreeMap<Vec<u8>, u64>, D::Error> {
        let counts = BTreeMap::<String, u64>::deserialize(from)?;
        Ok(counts.into_iter().map(|(key, count)| (key.into_bytes(), count)).collect())
    }
}

/// Smallest and largest, as texts: JSON keeps neither 38 digits nor infinities.
pub(super) mod ranges {
    use super::*;
    use crate::readings::{Decimal, parse_number};

    /// A number that is written exactly and read back.
    pub trait AsText: Sized {
        fn text(&self) -> String;
        fn parse(text: &str) -> Option<Self>;
    }

    impl AsText for Decimal {
        fn text(&self) -> String {
            self.to_string()
        }
        fn parse(text: &str) -> Option<Decimal> {
            let number = parse_number(text.as_bytes()).filter(|n| n.exponent.is_none())?;
            Some(Decimal { mantissa: number.mantissa, scale: number.scale })
        }
    }

    impl AsText for f64 {
        fn text(&self) -> String {
            format!("{self:e}")
        }
        fn parse(text: &str) -> Option<f64> {
            text.parse().ok()
        }
    }

    impl AsText for i128 {
        fn text(&self) -> String {
            self.to_string()
        }
        fn parse(text: &str) -> Option<i128> {
            text.parse().ok()
        }
    }

    pub fn serialize<S: Serializer, N: AsText>(
        range: &Option<(N, N)>,
        to: S,
    ) -> Result<S::Ok, S::Error> {
        range.as_ref().map(|(low, high)| (low.text(), high.text())).serialize(to)
    }

    pub fn deserialize<'d, D: Deserializer<'d>, N: AsText>(
        from: D,
    ) -> Result<Option<(N, N)>, D::Error> {
        let Some((low, high)) = Option::<(String, String)>::deserialize(from)? else {
            return Ok(None);
        };
        let numbers = N::parse(&low).zip(N::parse(&high));
        numbers.map(Some).ok_or_else(|| D::Error::custom("a range is two numbers"))
    }
}

/// A column as it is saved: either its values or their hashes, and the facts of what is not among the
/// values.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct SavedColumn {
    pub empty: u64,
    pub values: Option<Vec<SavedValue>>,
    pub hashes: Option<SavedHashes>,
    /// Of values that are not among `values`; left out where there are none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub facts: Option<Facts>,
    pub quoted: Tally,
    pub sequence: Sequence,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kinds: Option<Box<KindFacts>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub elements: Option<u64>,
}

/// A distinct value.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct SavedValue {
    #[serde(with = "text_or_bytes")]
    pub value: Vec<u8>,
    pub count: u64,
    pub first: LineRef,
}

/// Hashes of the values of a column, in hexadecimal: all of them, or the registers of a sketch.
#[derive(Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub(super) enum SavedHashes {
    All(String),
    Sketch(String),
}

/// A number that may not be there, as a text.
pub(super) mod decimal {
    use super::ranges::AsText;
    use super::*;
    use crate::readings::Decimal;

    pub fn serialize<S: Serializer>(number: &Option<Decimal>, to: S) -> Result<S::Ok, S::Error> {
        number.as_ref().map(AsText::text).serialize(to)
    }

    pub fn deserialize<'d, D: Deserializer<'d>>(from: D) -> Result<Option<Decimal>, D::Error> {
        let Some(text) = Option::<String>::deserialize(from)? else { return Ok(None) };
        let number = Decimal::parse(&text);
        number.map(Some).ok_or_else(|| D::Error::custom("not a number"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_come_back_from_hexadecimal() {
        let bytes: Vec<u8> = (0..=255).collect();
        assert_eq!(unhex(&hex(&bytes)), Some(bytes));
        assert_eq!((unhex("0"), unhex("0g"), unhex("")), (None, None, Some(Vec::new())));
    }
}
