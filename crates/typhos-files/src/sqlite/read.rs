//! What is read of a database: its tables, how many transactions were finished.

use std::path::Path;
use std::sync::atomic::AtomicBool;

use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};
use typhos_load::TargetError;
use typhos_sql::{Definitions, Sqlite};

use super::busy::{BUSY_STEP, patiently};

/// A name as SQL: in quotes, so that no name can be anything else.
pub(crate) fn identifier(name: &str) -> String {
    Sqlite.identifier(name)
}

/// A value as text.
pub(crate) fn shown(value: ValueRef<'_>) -> Option<String> {
    match value {
        ValueRef::Null => None,
        ValueRef::Integer(number) => Some(number.to_string()),
        ValueRef::Real(number) => Some(format!("{number:?}")),
        ValueRef::Text(text) => Some(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Some(format!("{} bytes", bytes.len())),
    }
}

/// What a column that is not strict likes its values to be, by the name of its type.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Affinity {
    Integer,
    Text,
    Blob,
    Real,
    Numeric,
}

impl Affinity {
    /// The affinity of a declared type, by the rules that SQLite's documentation of datatypes gives, in their order.
    pub fn of(declared: &str) -> Affinity {
        let declared = declared.to_ascii_uppercase();
        let has = |words: &[&str]| words.iter().any(|word| declared.contains(word));
        if has(&["INT"]) {
            Affinity::Integer
        } else if has(&["CHAR", "CLOB", "TEXT"]) {
            Affinity::Text
        } else if declared.is_empty() || has(&["BLOB"]) {
            Affinity::Blob
        } else if has(&["REAL", "FLOA", "DOUB"]) {
            Affinity::Real
        } else {
            Affinity::Numeric
        }
    }
}

pub(crate) fn open_existing(path: &Path) -> Result<Connection, TargetError> {
    let failed = |source: rusqlite::Error| TargetError::Format {
        path: path.to_path_buf(),
        source: source.into(),
    };
    // A lock of its own for each value that is bound is for connections that several threads share.
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(path, flags).map_err(failed)?;
    connection.busy_timeout(BUSY_STEP).map_err(failed)?;
    let look = || connection.query_row("PRAGMA schema_version", [], |_| Ok(()));
    match patiently(&AtomicBool::new(false), look) {
        Ok(()) => Ok(connection),
        Err(rusqlite::Error::SqliteFailure(error, _))
            if error.code == rusqlite::ErrorCode::NotADatabase =>
        {
            let what = "is not a SQLite database; name another file".into();
            Err(TargetError::NotThat { path: path.to_path_buf(), what })
        }
        Err(source) => Err(failed(source)),
    }
}

/// How many transactions a database has had, as its file counts them; `None` where it cannot be read, or counts them
/// elsewhere (in a write-ahead log).
pub fn transactions(path: &Path) -> Option<u32> {
    use std::io::Read;
    let mut header = [0; 28];
    std::fs::File::open(path).ok()?.read_exact(&mut header).ok()?;
    let has_log = header[18] == 2 || header[19] == 2;
    let count = header[24..].try_into().expect("four bytes");
    (!has_log).then(|| u32::from_be_bytes(count))
}

/// The same, with what a killed program left of a transaction undone before.
pub fn recovered_transactions(path: &Path) -> Option<u32> {
    let connection = open_existing(path).ok()?;
    connection.close().ok()?;
    transactions(path)
}

/// The tables of a database, in the order they were made.
///
/// # Errors
/// A file that is not a database.
pub fn tables(path: &Path) -> Result<Vec<String>, TargetError> {
    let failed = |source: rusqlite::Error| TargetError::Format {
        path: path.to_path_buf(),
        source: source.into(),
    };
    let connection = open_existing(path)?;
    let sql = "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'";
    let mut statement = connection.prepare(sql).map_err(failed)?;
    let names = statement.query_map([], |row| row.get(0)).map_err(failed)?;
    names.collect::<Result<_, _>>().map_err(failed)
}
