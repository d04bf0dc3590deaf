//! The history of a database: a small table of the files that were loaded into it, kept where somebody wants that, by which
//! a file is known that comes again.
//!
//! A file is known by its contents. A line of the history is written by the session of the load, in its transaction where
//! there is one.

use std::io::{self, Read};

use twox_hash::XxHash3_128;
use typhos_core::schema::{ColumnDecl, IntType, Scalar, Schema, write};
use typhos_core::text::{Input, InputFile};
use typhos_sql::{self as sql, Language};

use super::session::Session;
use crate::error::TargetError;

/// The table that the history is in.
pub const HISTORY: &str = "typhos_loads";

/// Bytes that are read at a time.
const READ_BYTES: usize = 1 << 20;

/// A file that is loaded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileMark {
    /// What it is called.
    pub name: String,
    /// Its bytes, as it is stored.
    pub bytes: u64,
    /// The hash of its contents: XXH3 of 128 bits, in hexadecimal digits.
    pub hash: String,
}

/// A load of which a database knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoadedBefore {
    /// What the file was called.
    pub name: String,
    /// When it was loaded, in UTC.
    pub at: String,
    /// The rows of that load, of all its files.
    pub rows: u64,
}

impl FileMark {
    /// The mark of a file, all of which is read.
    fn of(file: &InputFile) -> io::Result<FileMark> {
        let mut from = file.origin().open(0)?;
        let mut hasher = XxHash3_128::new();
        let mut buffer = vec![0; READ_BYTES];
        let mut bytes = 0;
        loop {
            match from.read(&mut buffer) {
                Ok(0) => break,
                Ok(count) => {
                    hasher.write(&buffer[..count]);
                    bytes += count as u64;
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(FileMark { name: file.name(), bytes, hash: format!("{:032x}", hasher.finish_128()) })
    }

    /// The marks of all files of an input.
    ///
    /// # Errors
    /// A file that cannot be read.
    pub fn all(input: &Input) -> Result<Vec<FileMark>, TargetError> {
        let mark = |file: &InputFile| {
            let path = file.path().map_or_else(|| file.name().into(), Into::into);
            FileMark::of(file).map_err(|source| TargetError::Io { path, source })
        };
        input.files().iter().map(mark).collect()
    }
}

/// What the table of the history is made of.
fn history_schema() -> Schema {
    let text = |name: &str, most| ColumnDecl {
        required: true,
        ..ColumnDecl::new(name, Scalar::Text { most })
    };
    let count = |name: &str| ColumnDecl {
        required: true,
        ..ColumnDecl::new(name, Scalar::Int(IntType::Int64))
    };
    Schema {
        columns: vec![
            text("loaded_at", Some(20)),
            text("table_name", None),
            text("file_name", None),
            count("file_bytes"),
            text("file_hash", Some(32)),
            count("load_rows"),
            text("schema_hash", Some(32)),
        ],
        ..Schema::default()
    }
}

/// Makes the table of the history where there is none.
pub(super) fn prepare<S: Session>(session: &mut S) -> Result<(), TargetError> {
    if session.existing(HISTORY)?.is_some() {
        return Ok(());
    }
    let name = session.qualified(HISTORY);
    let definition = sql::define(session.language(), &history_schema(), &name, HISTORY);
    session.execute(&definition.table).map(|_| ())
}

/// Writes down that files were loaded into a table, under a schema.
pub(super) fn record<S: Session>(
    session: &mut S,
    (table, schema): (&str, &Schema),
    files: &[FileMark],
    rows: u64,
) -> Result<(), TargetError> {
    if files.is_empty() {
        return Ok(());
    }
    let columns = history_schema().columns;
    let language = session.language();
    let names: Vec<_> = columns.iter().map(|column| language.identifier(&column.name)).collect();
    let schema_hash = format!("{:032x}", XxHash3_128::oneshot(write(schema, &[], &[]).as_bytes()));
    let now = format!("{:.0}", jiff::Timestamp::now());
    let text = |text: &str| language.literal(text).trim_start().to_owned();
    let lines = files.iter().map(|file| {
        let values = [
            text(&now),
            text(table),
            text(&file.name),
            file.bytes.to_string(),
            text(&file.hash),
            rows.to_string(),
            text(&schema_hash),
        ];
        format!("({})", values.join(", "))
    });
    let lines = lines.collect::<Vec<_>>().join(", ");
    let insert = language.insert(&session.qualified(HISTORY), &names.join(", "));
    session.execute(&format!("{insert} VALUES {lines}")).map(|_| ())
}

/// For each file, the first load of its contents into a table that the database knows of.
pub(super) fn look_up<S: Session>(
    session: &mut S,
    table: &str,
    files: &[FileMark],
) -> Result<Vec<Option<LoadedBefore>>, TargetError> {
    if files.is_empty() || session.existing(HISTORY)?.is_none() {
        return Ok(vec![None; files.len()]);
    }
    let sql = question(session.language(), &session.qualified(HISTORY), table, files);
    let known = session.query(&sql)?;
    let of = |file: &FileMark| {
        known.iter().find_map(|row| match &row[..] {
            [Some(hash), Some(name), Some(at), Some(rows)] if *hash == file.hash => {
                let rows = rows.parse().unwrap_or_default();
                Some(LoadedBefore { name: name.clone(), at: at.clone(), rows })
            }
            _ => None,
        })
    };
    Ok(files.iter().map(of).collect())
}

/// Asks for the loads of files into a table, the first before the others.
fn question(language: &dyn Language, history: &str, table: &str, files: &[FileMark]) -> String {
    let of = |name: &str| language.identifier(name);
    let hashes: Vec<_> = files.iter().map(|file| format!("'{}'", file.hash)).collect();
    format!(
        "SELECT {}, {}, {}, {} FROM {history} WHERE {} = {} AND {} IN ({}) ORDER BY {}",
        of("file_hash"),
        of("file_name"),
        of("loaded_at"),
        of("load_rows"),
        of("table_name"),
        language.literal(table),
        of("file_hash"),
        hashes.join(", "),
        of("loaded_at"),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use typhos_core::text::InputChoice;

    #[test]
    fn a_file_is_known_by_its_contents() {
        let mark = |name: &str, text: &str| {
            let input = Input::from_bytes(name, text.into(), &InputChoice::default());
            FileMark::all(&input).unwrap().remove(0)
        };
        let (one, same, other) =
            (mark("a.csv", "n\n1\n"), mark("b.csv", "n\n1\n"), mark("a.csv", "n\n2\n"));
        assert_eq!((one.bytes, one.hash.len()), (4, 32));
        assert_eq!(one.hash, same.hash);
        assert_ne!(one.hash, other.hash);
        // The published value of the hash of nothing.
        assert_eq!(
            format!("{:032x}", XxHash3_128::oneshot(b"")),
            "99aa06d3014798d86001c324468d497f"
        );
    }
}
