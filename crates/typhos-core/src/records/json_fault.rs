//! What is wrong with a record of JSON.

use std::fmt;

/// What is wrong with a record of JSON. Bytes are counted from the start of the record, from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JsonFault {
    /// Something else stands where this was wanted.
    Unexpected {
        /// Where.
        byte: usize,
        /// What was wanted.
        wanted: &'static str,
        /// The byte that is there.
        found: u8,
    },
    /// The record ends where this was wanted.
    Cut {
        /// Where.
        byte: usize,
        /// What was wanted.
        wanted: &'static str,
    },
    /// It is whole, and something stands behind it.
    Behind {
        /// Where that starts.
        byte: usize,
    },
    /// It is a value of another kind than was wanted.
    Other {
        /// Where it starts.
        byte: usize,
        /// What it is, with its article.
        kind: &'static str,
        /// What was wanted, with its article.
        wanted: &'static str,
    },
    /// A control character stands in a text.
    Control {
        /// Where.
        byte: usize,
    },
    /// An escape that does not exist.
    Escape {
        /// Where.
        byte: usize,
    },
    /// Half of a character of two units.
    Surrogate {
        /// Where.
        byte: usize,
    },
    /// Objects or arrays within each other beyond the limit.
    TooDeep {
        /// Where the one too many starts.
        byte: usize,
    },
    /// A record of a rejects file that was no object, as it was.
    NotMended,
    /// A name is not valid UTF-8.
    Name {
        /// Where it starts.
        byte: usize,
    },
    /// An object has a name twice.
    Repeated {
        /// Where the second one starts.
        byte: usize,
    },
}

impl fmt::Display for JsonFault {
    /// As a clause, bytes counted from 1: "has ';' at byte 12 where a comma or } was expected".
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            JsonFault::Unexpected { byte, wanted, found } => {
                let found = match found {
                    b'\'' => "\"'\"".to_owned(),
                    0x20..0x7f => format!("'{}'", char::from(found)),
                    _ => format!("byte 0x{found:02x}"),
                };
                write!(f, "has {found} at byte {} where {wanted} was expected", byte + 1)
            }
            JsonFault::Cut { byte, wanted } => {
                write!(f, "ends at byte {byte}, where {wanted} was expected")
            }
            JsonFault::Behind { byte } => {
                write!(f, "has something behind its end, at byte {}", byte + 1)
            }
            JsonFault::Other { kind, wanted, .. } => write!(f, "is {kind}, and not {wanted}"),
            JsonFault::Control { byte } => {
                write!(f, "has a control character in a text, at byte {}", byte + 1)
            }
            JsonFault::Escape { byte } => {
                write!(f, "has an escape that does not exist, at byte {}", byte + 1)
            }
            JsonFault::Surrogate { byte } => {
                write!(f, "has half of a surrogate pair, at byte {}", byte + 1)
            }
            JsonFault::TooDeep { byte } => {
                write!(f, "nests too deep, at byte {}", byte + 1)
            }
            JsonFault::Name { byte } => {
                write!(f, "has a name that is not valid UTF-8, at byte {}", byte + 1)
            }
            JsonFault::NotMended => f.write_str("was set aside before, and was not mended"),
            JsonFault::Repeated { byte } => {
                write!(f, "has a name twice in one object, at byte {}", byte + 1)
            }
        }
    }
}
