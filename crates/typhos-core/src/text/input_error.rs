//! Why an input cannot be read.

use thiserror::Error;

use super::FIELD_LIMITS;
use crate::remedy::Remedy;
use crate::wording::grouped;

/// Why an input cannot be read.
#[derive(Debug, Error)]
pub enum InputError {
    /// A file changed while it was read.
    #[error("{file} changed while it was read: {what}; run this again once nothing writes to it")]
    Changed {
        /// The file.
        file: String,
        /// What changed.
        what: String,
    },
    /// A file cannot be opened or read.
    #[error("{file}: {source}")]
    Io {
        /// The file, as it was given.
        file: String,
        /// What the operating system said.
        source: std::io::Error,
    },
    /// A part was asked for of a stream.
    #[error("a stream has no parts: where it ends is not known before it has ended; give a file")]
    NoParts,
    /// The first record of a part was said to start where it cannot.
    #[error(
        "byte {said} of {file} is outside of this part, which begins at byte {least} or behind it"
    )]
    BeginOutside {
        /// The file, as it was given.
        file: String,
        /// What was said.
        said: u64,
        /// The first byte that it may be.
        least: u64,
    },
    /// The first record of a part was said to start in the middle of a file, and it does not.
    #[error(
        "this part begins with a file, and nothing is to be said of where its first record starts"
    )]
    BeginsWithFile,
    /// Nothing was given to read.
    #[error("no input file was given")]
    NoFiles,
    /// Objects of JSON whose names are data.
    #[error(
        "the records have more than {limit} different fields: most likely names in them are values, such as ids; field_limit says how many are read"
    )]
    TooManyFields {
        /// The most that are read.
        limit: usize,
    },
    /// A file with so many columns that its delimiter is most likely another.
    #[error("{file} has {} columns, and no more than {} are read", grouped(*columns as u64), grouped(*limit as u64))]
    TooManyColumns {
        /// The file, as it was given.
        file: String,
        /// Columns of the file, or of it and those before it.
        columns: usize,
        /// The most that are read.
        limit: usize,
    },
    /// Something else than lists where each element was to become a row.
    #[error(
        "'{path}' is not a list that can be unnested: {}",
        other.as_deref().unwrap_or("no record has it")
    )]
    NotAList {
        /// Where it was to be.
        path: String,
        /// What is there instead, and where.
        other: Option<String>,
    },
    /// A file without a single record.
    #[error(
        "{file} is empty: there is not even a header in it, or none below the lines that are skipped"
    )]
    Empty {
        /// The file, as it was given.
        file: String,
    },
    /// A header that goes on and on.
    #[error(
        "{file}, line {line}: the header that starts here does not end within 1 MiB; most likely a quote in it \
         is opened and never closed"
    )]
    HeaderTooLong {
        /// The file, as it was given.
        file: String,
        /// Line on which the header starts.
        line: u64,
    },
    /// A header whose quotes do not end where they should.
    #[error("{file}, line {line}: the header that starts here {what}")]
    HeaderTorn {
        /// The file, as it was given.
        file: String,
        /// Line on which the header starts.
        line: u64,
        /// What is wrong with it.
        what: &'static str,
    },
    /// A file whose columns are not those of the others.
    #[error("{file} does not have the columns of {first}: {difference}")]
    OtherColumns {
        /// The file, as it was given.
        file: String,
        /// The first file of the input.
        first: String,
        /// What differs.
        difference: String,
    },
    /// A file without a header that has another number of columns than the first.
    #[error(
        "{file} has {fields} columns and {first} has {expected}; without a header nothing tells which of them are \
         the same"
    )]
    OtherCount {
        /// The file, as it was given.
        file: String,
        /// The first file of the input.
        first: String,
        /// Columns of the file.
        fields: usize,
        /// Columns of the first file.
        expected: usize,
    },
    /// Names were said, and not as many as there are columns.
    #[error("{said} names given for {file}, and it has {fields} columns")]
    OtherNames {
        /// The file, as it was given.
        file: String,
        /// Its columns.
        fields: usize,
        /// How many names were said.
        said: usize,
    },
    /// Two parts of a dialect that cannot be the same byte.
    #[error("'{byte}' cannot be {one} and {other}")]
    Contradiction {
        /// The byte.
        byte: char,
        /// What it was said to be.
        one: &'static str,
        /// What it is as well.
        other: &'static str,
    },
    /// Bytes that are not the UTF-8 they have to be.
    #[error("{file}, line {line}: the header is not valid UTF-8 (byte 0x{byte:02x})")]
    HeaderNotUtf8 {
        /// The file, as it was given.
        file: String,
        /// Line of the header.
        line: u64,
        /// The first byte that is not valid.
        byte: u8,
        /// Encodings that it may have, the likely one first.
        likely: Vec<String>,
    },
    /// Something other than delimited text.
    #[error("{file} cannot be read as delimited text: {reason}")]
    NotText {
        /// The file, as it was given.
        file: String,
        /// What was seen.
        reason: &'static str,
    },
}

impl InputError {
    /// What to do about it, where that is known.
    pub fn remedy(&self) -> Option<Remedy> {
        Some(match self {
            InputError::HeaderTooLong { .. } => {
                Remedy::of("if quotes mean nothing in this file, say {quote = none}")
            }
            InputError::HeaderTorn { .. } => Remedy::of(
                "close the quote, or say {header = false} if it is not a header, or {quote = none} if quotes mean nothing in this file",
            ),
            InputError::TooManyColumns { columns, .. } => {
                let remedy =
                    Remedy::of("most likely something else separates them: say {delimiter}");
                match *columns <= *FIELD_LIMITS.end() {
                    true => remedy
                        .say("; to read them all, say ")
                        .set("field_limit", columns.to_string()),
                    false => remedy.say(format!(
                        "; {} are the most that can be read",
                        grouped(*FIELD_LIMITS.end() as u64)
                    )),
                }
            }
            InputError::OtherColumns { .. } => Remedy::of(
                "to read them together, say {columns_differ = union} (every column of any file) or first (those of the first file)",
            ),
            InputError::HeaderNotUtf8 { likely, .. } => {
                let say = |(at, label): (usize, &String)| {
                    let before = if at == 0 { "say what it is: " } else { " or " };
                    (before, label.clone())
                };
                let likely = likely.iter().enumerate().map(say);
                likely.fold(Remedy::default(), |remedy, (before, label)| {
                    remedy.say(before).set("encoding", label)
                })
            }
            _ => return None,
        })
    }
}
