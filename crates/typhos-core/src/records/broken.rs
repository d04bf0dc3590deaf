//! Records that cannot be split into the columns expected, and what is wrong with them.

use std::borrow::Cow;

use super::JsonFault;
use crate::wording::size_name;

/// What is wrong with a record that could not be split into the columns expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BrokenKind {
    /// Too few or too many fields.
    FieldCount {
        /// Fields in this record.
        found: u32,
        /// Fields a record of this input has.
        expected: u32,
    },
    /// A quoted field goes on after its closing quote, so where it ends is a guess.
    TextAfterQuote {
        /// Fields before it in the record.
        field: u32,
    },
    /// A quote was opened and the input ended before it was closed.
    NeverClosed {
        /// Line ends between the start of the block and the quote.
        lines_before: u32,
        /// Lines that the record takes.
        lines: u32,
        /// Line ends between the start of the block and the next line that looks like a record, where one
        /// does: the record ends before it.
        next: Option<u32>,
    },
    /// It is longer than the record limit; the block has only its first bytes.
    TooLong {
        /// The limit, in bytes.
        limit: usize,
        /// Line ends between the start of the record and the quote that is open at the limit, if one
        /// is.
        quote: Option<u32>,
    },
    /// It is not an object of JSON.
    Json(JsonFault),
}

impl BrokenKind {
    pub(crate) fn is_never_closed(self) -> bool {
        matches!(self, BrokenKind::NeverClosed { .. })
    }

    /// Whether the whole record is at hand, so that it can be set aside word for word.
    pub fn is_whole(self) -> bool {
        !matches!(self, BrokenKind::TooLong { .. })
    }

    /// What is wrong, as a clause: "has 3 fields instead of 10".
    pub fn describe(self, first_line: u64) -> Cow<'static, str> {
        match self {
            BrokenKind::FieldCount { found, expected } => {
                let plural = if found == 1 { "field" } else { "fields" };
                format!("has {found} {plural} instead of {expected}").into()
            }
            BrokenKind::TextAfterQuote { field } => {
                format!("has text after the closing quote of field {}", field + 1).into()
            }
            BrokenKind::NeverClosed { lines_before, lines, next } => {
                let line = first_line + u64::from(lines_before);
                let taken = crate::wording::counted(u64::from(lines), "line");
                match next {
                    None if lines <= 1 => {
                        format!("has a quote, opened in line {line}, that is never closed").into()
                    }
                    Some(next) => format!(
                        "has a quote, opened in line {line}, that is never closed; it ends after {taken}, since line {} \
                         looks like the next record",
                        first_line + u64::from(next)
                    )
                    .into(),
                    None => format!(
                        "has a quote, opened in line {line}, that is never closed; it takes {taken}, to the end of the \
                         file, and none of them looks like a record"
                    )
                    .into(),
                }
            }
            BrokenKind::Json(fault) => fault.to_string().into(),
            BrokenKind::TooLong { limit, quote } => {
                let limit = size_name(limit);
                match quote {
                    None => format!("is longer than the record limit of {limit}").into(),
                    Some(lines) => {
                        let line = first_line + u64::from(lines);
                        format!(
                            "has a quote, opened in line {line}, that is not closed within the record limit of {limit}"
                        )
                        .into()
                    }
                }
            }
        }
    }
}

/// A record that could not be split into the columns expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Broken {
    /// Offset of its first byte in the block.
    pub start: u32,
    /// Offset after its last byte, its line end not included.
    pub end: u32,
    /// Fields that it leaves out at its end, where that is all that is wrong with it.
    pub missing: u32,
    /// Line ends between the start of the block and the record.
    pub line: u32,
    /// Whole records of this slice that stand before it.
    pub row: u32,
    /// What is wrong with it.
    pub kind: BrokenKind,
}
