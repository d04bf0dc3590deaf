//! What a value is by its looks. What is noted of the values of a class is in [`facts`](super::facts).

use serde::{Deserialize, Serialize};

/// What a value is by its looks alone. Every value that is not blank has exactly one class.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Class {
    /// A well-known text for "no value".
    Token,
    /// A word of a boolean pair.
    Bool,
    /// An integer without a leading zero or a plus.
    Integer,
    /// An integer with a plus in front.
    Signed,
    /// A number with a leading zero, as codes have it.
    Code,
    /// A number with a mark.
    Decimal,
    /// A number with an exponent.
    Exponent,
    /// An infinity.
    Infinite,
    /// A number that is not written plainly: with groups, a decimal comma, a currency sign.
    Written,
    /// A date, a time, or both, by its shape.
    Date,
    /// A UUID.
    Uuid,
    /// An IPv4 or IPv6 address.
    Ip,
    /// Latitude and longitude.
    Geopoint,
    /// A JSON object or array.
    Json,
    /// A length of time that is not a time of day.
    Length,
    /// Anything else.
    Text,
    /// Bytes that are not valid in the encoding.
    Malformed,
}

/// All classes, in the order of their facts.
pub const CLASSES: [Class; 17] = [
    Class::Token,
    Class::Bool,
    Class::Integer,
    Class::Signed,
    Class::Code,
    Class::Decimal,
    Class::Exponent,
    Class::Infinite,
    Class::Written,
    Class::Date,
    Class::Uuid,
    Class::Ip,
    Class::Geopoint,
    Class::Json,
    Class::Length,
    Class::Text,
    Class::Malformed,
];
