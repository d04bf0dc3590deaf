//! What a person said of an input, on the command line or in a schema file.

pub use crate::records::DEFAULT_DEPTH_LIMIT;

use super::dialect::words;
use super::{Charset, Dialect, Escape, LineEnds};

/// What a person said of an input. What is `None` is found from the data, or is as usual where there is
/// nothing to be found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct InputChoice {
    /// The format.
    pub format: Option<InputFormat>,
    /// The delimiter.
    pub delimiter: Option<u8>,
    /// The quote; `Some(None)` means that quotes mean nothing.
    pub quote: Option<Option<u8>>,
    /// How a quote is written inside quotes.
    pub escape: Option<Escape>,
    /// What ends a line.
    pub line_ends: Option<LineEnds>,
    /// What a comment starts with; `Some(None)` means that there are none.
    pub comment: Option<Option<u8>>,
    /// Whether records may end in one more delimiter.
    pub trailing_delimiter: Option<bool>,
    /// Whether there is a header.
    pub header: Option<bool>,
    /// Lines above the table.
    pub skip: Option<u32>,
    /// Lines between the header and the first record.
    pub skip_below: Option<u32>,
    /// Lines below the last record.
    pub skip_end: Option<u32>,
    /// What records are that leave out fields at their end.
    pub short_records: Option<ShortRecords>,
    /// What is done about columns that a schema does not declare.
    pub undeclared: Option<Undeclared>,
    /// The names of the columns, in order, over those of a header.
    pub names: Option<Vec<String>>,
    /// The encoding.
    pub encoding: Option<Charset>,
    /// What is done about files whose columns differ.
    pub columns_differ: Option<ColumnsDiffer>,
    /// What an empty field in quotes means.
    pub quoted_empty: Option<QuotedEmpty>,
    /// The most bytes a record may have.
    pub record_limit: Option<usize>,
    /// The most objects and arrays within each other in records of JSON.
    pub depth_limit: Option<usize>,
    /// The most columns, or different fields in all records of JSON.
    pub field_limit: Option<usize>,
    /// The path of a list in records of JSON each of whose elements becomes a row.
    pub unnest: Option<String>,
    /// What becomes of records whose list has no elements.
    pub without_elements: Option<WithoutElements>,
}

impl InputChoice {
    /// What a declaration means that says this. Where the delimiter is said, what quotes, escapes, comments and
    /// delimiters at the end of a record are is as usual unless said: a declaration is not to change its meaning with
    /// the data.
    pub fn as_declared(&self) -> InputChoice {
        if self.delimiter.is_none() {
            return self.clone();
        }
        let usual = Dialect::RFC_4180;
        self.or(&InputChoice {
            quote: Some(usual.quote),
            escape: Some(usual.escape),
            comment: Some(usual.comment),
            trailing_delimiter: Some(usual.trailing_delimiter),
            skip_below: Some(usual.skip_below),
            short_records: Some(ShortRecords::Reject),
            ..InputChoice::default()
        })
    }

    /// Whether two choices can be those of parts of one input: they differ in nothing but what may be each file's own.
    pub(crate) fn is_of_one_input(&self, other: &InputChoice) -> bool {
        let common = |choice: &InputChoice| InputChoice {
            line_ends: None,
            trailing_delimiter: None,
            skip: None,
            skip_below: None,
            short_records: None,
            encoding: None,
            ..choice.clone()
        };
        common(self) == common(other)
    }

    /// `self`, with what it leaves open taken from `other`.
    pub fn or(&self, other: &InputChoice) -> InputChoice {
        InputChoice {
            format: self.format.or(other.format),
            delimiter: self.delimiter.or(other.delimiter),
            quote: self.quote.or(other.quote),
            escape: self.escape.or(other.escape),
            line_ends: self.line_ends.or(other.line_ends),
            comment: self.comment.or(other.comment),
            trailing_delimiter: self.trailing_delimiter.or(other.trailing_delimiter),
            header: self.header.or(other.header),
            skip: self.skip.or(other.skip),
            skip_below: self.skip_below.or(other.skip_below),
            skip_end: self.skip_end.or(other.skip_end),
            short_records: self.short_records.or(other.short_records),
            undeclared: self.undeclared.or(other.undeclared),
            names: self.names.clone().or_else(|| other.names.clone()),
            encoding: self.encoding.or(other.encoding),
            columns_differ: self.columns_differ.or(other.columns_differ),
            quoted_empty: self.quoted_empty.or(other.quoted_empty),
            record_limit: self.record_limit.or(other.record_limit),
            depth_limit: self.depth_limit.or(other.depth_limit),
            field_limit: self.field_limit.or(other.field_limit),
            unnest: self.unnest.clone().or_else(|| other.unnest.clone()),
            without_elements: self.without_elements.or(other.without_elements),
        }
    }
}

impl InputChoice {
    /// What both say alike.
    pub fn shared(&self, other: &InputChoice) -> InputChoice {
        fn alike<T: PartialEq + Clone>(a: &Option<T>, b: &Option<T>) -> Option<T> {
            if a == b { a.clone() } else { None }
        }
        InputChoice {
            format: alike(&self.format, &other.format),
            delimiter: alike(&self.delimiter, &other.delimiter),
            quote: alike(&self.quote, &other.quote),
            escape: alike(&self.escape, &other.escape),
            line_ends: alike(&self.line_ends, &other.line_ends),
            comment: alike(&self.comment, &other.comment),
            trailing_delimiter: alike(&self.trailing_delimiter, &other.trailing_delimiter),
            header: alike(&self.header, &other.header),
            skip: alike(&self.skip, &other.skip),
            skip_below: alike(&self.skip_below, &other.skip_below),
            skip_end: alike(&self.skip_end, &other.skip_end),
            short_records: alike(&self.short_records, &other.short_records),
            undeclared: alike(&self.undeclared, &other.undeclared),
            names: alike(&self.names, &other.names),
            encoding: alike(&self.encoding, &other.encoding),
            columns_differ: alike(&self.columns_differ, &other.columns_differ),
            quoted_empty: alike(&self.quoted_empty, &other.quoted_empty),
            record_limit: alike(&self.record_limit, &other.record_limit),
            depth_limit: alike(&self.depth_limit, &other.depth_limit),
            field_limit: alike(&self.field_limit, &other.field_limit),
            unnest: alike(&self.unnest, &other.unnest),
            without_elements: alike(&self.without_elements, &other.without_elements),
        }
    }
}

impl From<Dialect> for InputChoice {
    fn from(dialect: Dialect) -> Self {
        InputChoice {
            // A dialect is one of delimited text.
            format: Some(InputFormat::Delimited),
            delimiter: Some(dialect.delimiter),
            quote: Some(dialect.quote),
            escape: Some(dialect.escape),
            line_ends: Some(dialect.line_ends),
            comment: Some(dialect.comment),
            trailing_delimiter: Some(dialect.trailing_delimiter),
            header: Some(dialect.header),
            skip: Some(dialect.skip),
            skip_below: Some(dialect.skip_below),
            short_records: Some(ShortRecords::of(dialect.short_records)),
            ..InputChoice::default()
        }
    }
}

/// What the text of an input is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum InputFormat {
    /// Fields with delimiters between them.
    #[default]
    Delimited,
    /// Objects of JSON, one a line or all in one array.
    Json,
}

words!(InputFormat, "a format", Delimited = "delimited", Json = "json");

/// What becomes of records whose list has no elements, where each element becomes a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WithoutElements {
    /// They are one row, in which what would be of an element is absent.
    #[default]
    Keep,
    /// They are no row.
    Drop,
}

words!(WithoutElements, "what becomes of records without elements", Keep = "keep", Drop = "drop");

/// What records are that leave out fields at their end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ShortRecords {
    /// Broken: they cannot be split into the columns.
    #[default]
    Reject,
    /// Whole: the fields that are left out are absent.
    Absent,
}

words!(ShortRecords, "what short records are", Reject = "reject", Absent = "absent");

impl ShortRecords {
    fn of(is_absent: bool) -> ShortRecords {
        if is_absent { ShortRecords::Absent } else { ShortRecords::Reject }
    }
}

/// What is done about columns of an input that a schema does not declare.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Undeclared {
    /// They are left out, and every report says so.
    #[default]
    Note,
    /// It is an error.
    Stop,
    /// They are left out.
    Ignore,
}

words!(
    Undeclared,
    "what to do about undeclared columns",
    Note = "note",
    Stop = "stop",
    Ignore = "ignore"
);

/// The most lines below a header or at the end of a file that are passed over: more are no units and no totals.
pub const MOST_SKIPPED: u32 = 10_000;

/// Reads a number of lines below a header, or at the end of a file.
///
/// # Errors
/// Says what is allowed, where `word` is none of it.
pub fn parse_lines(word: &str) -> Result<u32, String> {
    word.parse().ok().filter(|lines| *lines <= MOST_SKIPPED).ok_or_else(|| {
        format!("'{}' is not a number of lines: 0 to {MOST_SKIPPED}", word.escape_debug())
    })
}

/// What is done about files of one input whose columns differ. Columns are matched by their names, so
/// another order is not a difference.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ColumnsDiffer {
    /// It is an error.
    #[default]
    Stop,
    /// The input has every column that any file has. Where a file lacks one, its values are absent.
    Union,
    /// The input has the columns of the first file. Others are left out; where a file lacks one, its
    /// values are absent.
    First,
}

words!(
    ColumnsDiffer,
    "what to do where columns differ",
    Stop = "stop",
    Union = "union",
    First = "first"
);

/// What a blank field in quotes means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum QuotedEmpty {
    /// The same as a blank field without quotes: no value.
    #[default]
    Absent,
    /// An empty text, which is a value.
    Text,
}

words!(QuotedEmpty, "what an empty field in quotes is", Absent = "absent", Text = "text");

/// The longest record that is read where nothing else is said: 16 MiB. A longer one is almost surely a
/// quote that is never closed.
pub const DEFAULT_RECORD_LIMIT: usize = 16 << 20;

/// Record limits that can be said, in bytes: memory grows with them, and offsets have 32 bits.
const RECORD_LIMITS: std::ops::RangeInclusive<usize> = 1 << 10..=1 << 30;

/// Different fields of JSON that are read where nothing else is said: of more the names are most likely data, and each
/// would be a column.
pub const DEFAULT_FIELD_LIMIT: usize = 10_000;

/// Columns of delimited text that are read where nothing else is said: what is known of so many takes a quarter of a
/// gibibyte, and a line that was split by what does not separate its fields may have a million.
pub const DEFAULT_COLUMN_LIMIT: usize = 30_000;

/// Field limits that can be said: memory grows with them.
pub const FIELD_LIMITS: std::ops::RangeInclusive<usize> = 1..=1_000_000;

/// Reads a number of bytes as people say it: `65536`, `64 KiB`, `1g`.
pub fn parse_size(word: &str) -> Option<usize> {
    let digits = word.trim_end_matches(|letter: char| !letter.is_ascii_digit());
    let shift = match word[digits.len()..].trim().to_ascii_lowercase().as_str() {
        "" | "b" | "bytes" => 0,
        "kib" | "k" => 10,
        "mib" | "m" => 20,
        "gib" | "g" => 30,
        _ => return None,
    };
    digits.parse::<usize>().ok()?.checked_mul(1 << shift)
}

/// Reads a record limit: bytes, or KiB, MiB or GiB.
///
/// # Errors
/// Says what is allowed, where `word` is none of it: 1 KiB to 1 GiB.
pub fn parse_record_limit(word: &str) -> Result<usize, String> {
    parse_size(word).filter(|bytes| RECORD_LIMITS.contains(bytes)).ok_or_else(|| {
        format!(
            "'{}' is not a record limit: give bytes, or as in '64 MiB', from 1 KiB to 1 GiB",
            word.escape_debug()
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wording::size_name;

    #[test]
    fn what_was_said_first_wins() {
        let said = InputChoice { delimiter: Some(b';'), ..Default::default() };
        let file = InputChoice { delimiter: Some(b','), header: Some(false), ..Default::default() };
        let both = said.or(&file);
        assert_eq!((both.delimiter, both.header, both.quote), (Some(b';'), Some(false), None));
    }

    #[test]
    fn record_limits_are_read_with_their_unit() {
        for (word, want) in [("64 MiB", 64 << 20), ("4096", 4096), ("1GiB", 1 << 30), ("8k", 8192)]
        {
            assert_eq!(parse_record_limit(word), Ok(want), "{word}");
        }
        for word in ["", "MiB", "12", "2 GiB", "-1", "64 furlongs", "99999999999999999999"] {
            assert!(parse_record_limit(word).is_err(), "{word}");
        }
        for bytes in [1 << 30, 16 << 20, 3 << 10] {
            assert_eq!(parse_record_limit(&size_name(bytes)), Ok(bytes));
        }
        assert_eq!(size_name(1500), "1500 bytes");
    }
}
