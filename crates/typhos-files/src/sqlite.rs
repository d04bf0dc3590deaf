//! SQLite: a table in a database file, new or existing.
//!
//! A new database is written aside and renamed; in an existing one all is a single transaction.
//! Tables are `STRICT`, so that SQLite holds to the types too.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use arrow_array::types::*;
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType, RecordBatch, StringArray, cast::AsArray};
use arrow_buffer::NullBuffer;
use arrow_schema::DataType;
use rusqlite::types::{Null, Value};
use rusqlite::{Connection, OpenFlags, params_from_iter};
use typhos_core::columns::cell_text;
use typhos_core::schema::Schema;

use typhos_load::feed::{Abandoned, Canceller, Feed, RowEncoder};
use typhos_load::proof::Facts;
use typhos_load::table::{
    Answers, Ask, Define, Intent, MoveRows, Objections, TableTarget, UNFINISHED,
};
use typhos_load::whole::WholeFile;
use typhos_load::{
    Action, Awaited, Destination, Job, LoadError, LoadPlan, LoadReport, LoadRun, Probe, Problem,
    TargetError, TargetKind, goes_along, plain_name, plan_of, rejects_beside,
};
use typhos_sql::held::{Existing, ExistingColumn, Filled, Held, bits};
use typhos_sql::{Definitions, Language, Sqlite};

/// A table in a database file.
pub const KIND: TargetKind = TargetKind {
    name: "a database",
    schemes: &[],
    extensions: &["sqlite", "sqlite3", "db"],
    has_parts: false,
    open: |address| {
        Ok(Box::new(Database { path: address.into.into(), table: address.table.into() }))
    },
    probe: Some(&PROBE),
};

/// How a database tells whether a load appeared in it.
pub const PROBE: Probe =
    Probe { kind: "sqlite", count: transactions, recovered: recovered_transactions };

/// A table of a database file.
#[derive(Debug)]
struct Database {
    path: PathBuf,
    table: String,
}

impl Database {
    fn target(&self) -> Result<TableTarget<SqliteSession>, TargetError> {
        Ok(TableTarget { session: SqliteSession::new(&self.path)?, table: self.table.clone() })
    }
}

impl Destination for Database {
    fn path(&self) -> Option<&Path> {
        Some(&self.path)
    }

    fn rejects(&self) -> PathBuf {
        rejects_beside(&self.path, &format!(".{}", plain_name(&self.table)))
    }

    fn awaited(&self) -> Awaited {
        match self.path.exists() {
            true => Awaited::Transaction(self.path.clone(), &PROBE),
            false => Awaited::output(&self.path),
        }
    }

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of(self.target()?, job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into(self.target()?)
    }
}

/// A name as SQL: in quotes, so that no name can be anything else.
fn identifier(name: &str) -> String {
    Sqlite.identifier(name)
}

/// How a column is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Storage {
    Integer,
    /// Integers, and texts where they are too large for them.
    Wide,
    Real,
    Text,
}

fn storage(data_type: &DataType) -> Storage {
    match data_type {
        DataType::Boolean => Storage::Integer,
        DataType::UInt64 => Storage::Wide,
        number if number.is_integer() => Storage::Integer,
        DataType::Float32 | DataType::Float64 => Storage::Real,
        DataType::Decimal32(_, 0) | DataType::Decimal64(_, 0) => Storage::Integer,
        DataType::Decimal32(..) => Storage::Real,
        DataType::Decimal64(precision, _) if *precision <= typhos_sql::REAL_DIGITS => Storage::Real,
        _ => Storage::Text,
    }
}

/// How long a database is waited for that another program writes to.
const BUSY: Duration = Duration::from_secs(5);

/// How long that is at a time: a load that is called off waits no longer.
const BUSY_STEP: Duration = Duration::from_millis(100);

/// Does something again as long as another program writes to the database, but not for ever.
fn patiently<T>(
    is_called_off: &AtomicBool,
    mut run: impl FnMut() -> rusqlite::Result<T>,
) -> rusqlite::Result<T> {
    let since = Instant::now();
    loop {
        match run() {
            Err(error)
                if error.sqlite_error_code() == Some(rusqlite::ErrorCode::DatabaseBusy)
                    && since.elapsed() < BUSY
                    && !is_called_off.load(Ordering::SeqCst) => {}
            result => return result,
        }
    }
}

/// A database being loaded into.
pub struct SqliteSession {
    path: PathBuf,
    /// The database, where it exists or has been made; the load makes it where it does not.
    connection: Option<Connection>,
    /// A new database before it has its name.
    side: Option<WholeFile>,
    is_called_off: Arc<AtomicBool>,
}

impl SqliteSession {
    /// Opens a database that exists; a new one is made when rows come.
    ///
    /// # Errors
    /// A file that is not a database, or cannot be written.
    pub fn new(path: &Path) -> Result<SqliteSession, TargetError> {
        let exists = path.symlink_metadata().is_ok();
        let connection = exists.then(|| open_existing(path)).transpose()?;
        Ok(SqliteSession {
            path: path.to_path_buf(),
            connection,
            side: None,
            is_called_off: Arc::default(),
        })
    }

    fn failed(&self, source: rusqlite::Error) -> TargetError {
        TargetError::Format { path: self.path.clone(), source: source.into() }
    }

    fn connection(&mut self) -> Result<&Connection, TargetError> {
        if self.connection.is_none() {
            let side = WholeFile::create(&self.path, false)?;
            let connection = Connection::open(side.side_path()).map_err(|e| self.failed(e))?;
            // The file is thrown away unless it is finished, so it needs no journal of its own.
            connection
                .execute_batch("PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF")
                .map_err(|e| self.failed(e))?;
            self.side = Some(side);
            self.connection = Some(connection);
        }
        Ok(self.connection.as_ref().expect("opened above"))
    }
}

impl Ask for SqliteSession {
    fn language(&self) -> &dyn Language {
        &Sqlite
    }

    fn target(&self) -> String {
        self.path.display().to_string()
    }

    fn server(&self) -> Option<String> {
        None
    }

    fn query(&mut self, sql: &str) -> Result<Answers, TargetError> {
        let path = self.path.clone();
        let is_called_off = self.is_called_off.clone();
        let connection = self.connection()?;
        let answers = patiently(&is_called_off, || {
            let mut statement = connection.prepare(sql)?;
            let columns = statement.column_count();
            let rows = statement
                .query_map([], |row| (0..columns).map(|at| Ok(shown(row.get(at)?))).collect())?;
            rows.collect()
        });
        answers.map_err(|source| TargetError::Format { path, source: source.into() })
    }

    fn existing(&mut self, table: &str) -> Result<Option<Existing>, TargetError> {
        if self.connection.is_none() {
            return Ok(None);
        }
        let text = Sqlite.literal(table);
        let rows = self.query(&format!(
            "SELECT name, type, \"notnull\", dflt_value, pk, hidden FROM pragma_table_xinfo({text}) WHERE hidden <> 1"
        ))?;
        if rows.is_empty() {
            return Ok(None);
        }
        let numbered = rows.iter().filter(|row| row[4].as_deref() != Some("0")).count() == 1;
        let mut key: Vec<(u32, String)> = Vec::new();
        let mut columns = Vec::new();
        for row in rows {
            let [name, ty, not_null, default, place, hidden] =
                row.try_into().expect("as many values as were asked for");
            let (name, ty) = (name.unwrap_or_default(), ty.unwrap_or_default());
            let place: u32 = place.and_then(|place| place.parse().ok()).unwrap_or(0);
            if place > 0 {
                key.push((place, name.clone()));
            }
            let filled = if hidden.as_deref() != Some("0") {
                Filled::Computed
            } else if place > 0 && numbered && ty.eq_ignore_ascii_case("INTEGER") {
                Filled::Numbered
            } else {
                default.map_or(Filled::Nobody, Filled::Default)
            };
            columns.push(ExistingColumn {
                held: held(&ty),
                nullable: not_null.as_deref() != Some("1"),
                name,
                ty,
                filled,
                letters: None,
            });
        }
        key.sort();
        Ok(Some(Existing { columns, key: key.into_iter().map(|(_, name)| name).collect() }))
    }

    fn objections(&mut self, intent: &Intent<'_>) -> Result<Objections, TargetError> {
        let mut found = Objections::default();
        let folder = typhos_load::whole::parent(&self.path);
        let place = if self.connection.is_some() { self.path.as_path() } else { folder };
        if !folder.is_dir() {
            let what = format!("there is no folder {}", folder.display());
            found.problems.push(Problem::outside(what, "make it"));
            return Ok(found);
        }
        // A database is written to with a journal beside it.
        let is_read_only = place.metadata().is_ok_and(|about| about.permissions().readonly());
        if is_read_only || typhos_load::whole::writable(folder).is_err() {
            let what = format!("{} cannot be written to", place.display());
            let help = "change its permissions, or name another place";
            found.problems.push(Problem::outside(what, help));
        }
        if intent.action == Action::Replace {
            let table = Sqlite.literal(intent.table);
            let counts = self.counts(&format!(
                "SELECT coalesce(sum(type = 'index' AND sql IS NOT NULL), 0), coalesce(sum(type = 'trigger'), 0) \
                 FROM sqlite_schema WHERE tbl_name = {table}"
            ))?;
            found.notes.extend(goes_along(counts, ["index", "trigger"]));
        }
        Ok(found)
    }
}

impl Define for SqliteSession {
    fn execute(&mut self, sql: &str) -> Result<Option<u64>, TargetError> {
        let path = self.path.clone();
        let is_called_off = self.is_called_off.clone();
        let connection = self.connection()?;
        let changed = patiently(&is_called_off, || connection.execute(sql, []));
        changed
            .map(|changed| Some(changed as u64))
            .map_err(|source| TargetError::Format { path, source: source.into() })
    }

    fn is_transactional(&self) -> bool {
        true
    }

    fn unfinished_name(&mut self) -> Result<String, TargetError> {
        // A transaction has the database to itself, and undoes what is not finished.
        Ok(UNFINISHED.to_owned())
    }

    fn put_in_place(
        &mut self,
        stage: &str,
        table: &str,
        replaces: bool,
    ) -> Result<(), TargetError> {
        let table = identifier(table);
        if replaces {
            self.execute(&format!("DROP TABLE {table}"))?;
            // Views that read it have nothing to read at this moment, and are not to be looked at.
            self.execute("PRAGMA legacy_alter_table = ON")?;
        }
        self.execute(&format!("ALTER TABLE {stage} RENAME TO {table}")).map(|_| ())
    }

    fn commit(&mut self) -> Result<(), TargetError> {
        self.execute("COMMIT").map(|_| ())
    }

    fn undo(&mut self, _stage: Option<&str>) {
        // A database that is new goes away with its side file.
        let _ = self.execute("ROLLBACK");
    }

    fn close(mut self) -> Result<(), TargetError> {
        let path = self.path;
        if let Some(connection) = self.connection.take() {
            connection
                .close()
                .map_err(|(_, source)| TargetError::Format { path, source: source.into() })?;
        }
        self.side.map_or(Ok(()), WholeFile::keep)
    }
}

impl MoveRows for SqliteSession {
    type Rows = SqliteRows;

    fn rows(&self, _schema: &Schema) -> SqliteRows {
        SqliteRows
    }

    fn bulk(
        &mut self,
        table: &str,
        schema: &Schema,
        mut feed: Feed<Vec<StoredBatch>>,
    ) -> Result<Facts, TargetError> {
        let path = self.path.clone();
        let failed = |source: rusqlite::Error| TargetError::Format {
            path: path.clone(),
            source: source.into(),
        };
        let names: Vec<_> = schema.columns.iter().map(|column| identifier(&column.name)).collect();
        let places = vec!["?"; names.len()].join(", ");
        let sql = format!("INSERT INTO {table} ({}) VALUES ({places})", names.join(", "));
        let mut insert = self.connection()?.prepare(&sql).map_err(failed)?;
        loop {
            match feed.take() {
                Ok(Some(batches)) => batches
                    .iter()
                    .try_for_each(|batch| batch.insert(&mut insert))
                    .map_err(failed)?,
                Ok(None) => return feed.into_sent(),
                Err(Abandoned) => return Err(TargetError::GivenUp),
            }
        }
    }

    fn canceller(&self) -> Canceller {
        let is_called_off = self.is_called_off.clone();
        let handle = self.connection.as_ref().map(Connection::get_interrupt_handle);
        Box::new(move || {
            is_called_off.store(true, Ordering::SeqCst);
            if let Some(handle) = &handle {
                handle.interrupt();
            }
        })
    }
}

/// What a type holds, by the affinity that SQLite finds in its name, and by what people mean by it.
fn held(ty: &str) -> Held {
    let ty = ty.to_uppercase();
    let has = |words: &[&str]| words.iter().any(|word| ty.contains(word));
    if has(&["BOOL"]) {
        Held::Bool
    } else if has(&["INT"]) && !has(&["POINT"]) {
        bits(64, true)
    } else if has(&["CHAR", "CLOB", "TEXT"]) {
        Held::Text(None)
    } else if has(&["REAL", "FLOA", "DOUB", "NUMERIC", "DECIMAL"]) {
        Held::Float(64)
    } else if has(&["DATETIME", "TIMESTAMP"]) {
        Held::Timestamp(9, None)
    } else if has(&["DATE"]) {
        Held::Date
    } else if has(&["TIME"]) {
        Held::Time(9)
    } else if ty.is_empty() || has(&["BLOB"]) {
        // Whatever comes is kept as it comes.
        Held::Text(None)
    } else {
        Held::Other
    }
}

/// A value as text.
fn shown(value: Value) -> Option<String> {
    match value {
        Value::Null => None,
        Value::Integer(number) => Some(number.to_string()),
        Value::Real(number) => Some(format!("{number:?}")),
        Value::Text(text) => Some(text),
        Value::Blob(bytes) => Some(format!("{} bytes", bytes.len())),
    }
}

fn open_existing(path: &Path) -> Result<Connection, TargetError> {
    let failed = |source: rusqlite::Error| TargetError::Format {
        path: path.to_path_buf(),
        source: source.into(),
    };
    let connection =
        Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE).map_err(failed)?;
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

/// Turns batches into what SQLite stores, so that the one thread that may insert does nothing else.
pub struct SqliteRows;

impl RowEncoder for SqliteRows {
    type Block = Vec<StoredBatch>;

    fn start(&self) -> Vec<StoredBatch> {
        Vec::new()
    }

    fn encode(&self, batch: &RecordBatch, block: &mut Vec<StoredBatch>) -> Result<(), TargetError> {
        // It would store null.
        typhos_load::view::refuse_floats(batch, "SQLite", false)?;
        let columns = batch.columns().iter();
        let columns = columns.map(|array| (stored(array), array.nulls().cloned()));
        block.push(StoredBatch { columns: columns.collect(), rows: batch.num_rows() });
        Ok(())
    }
}

/// A batch in SQLite's own types.
pub struct StoredBatch {
    columns: Vec<(Stored, Option<NullBuffer>)>,
    rows: usize,
}

/// A column in SQLite's own types.
enum Stored {
    Integer(Vec<i64>),
    Wide(Vec<u64>),
    Real(Vec<f64>),
    Text(StringArray),
    /// Texts by code.
    Coded(Vec<u32>, StringArray),
}

impl StoredBatch {
    fn insert(&self, insert: &mut rusqlite::Statement<'_>) -> rusqlite::Result<()> {
        for row in 0..self.rows {
            for (at, (column, nulls)) in self.columns.iter().enumerate() {
                let at = at + 1;
                match column {
                    _ if nulls.as_ref().is_some_and(|nulls| nulls.is_null(row)) => {
                        insert.raw_bind_parameter(at, Null)
                    }
                    Stored::Integer(values) => insert.raw_bind_parameter(at, values[row]),
                    Stored::Wide(values) => match i64::try_from(values[row]) {
                        Ok(value) => insert.raw_bind_parameter(at, value),
                        Err(_) => insert.raw_bind_parameter(at, values[row].to_string()),
                    },
                    Stored::Real(values) => insert.raw_bind_parameter(at, values[row]),
                    Stored::Text(values) => insert.raw_bind_parameter(at, values.value(row)),
                    Stored::Coded(codes, values) => {
                        insert.raw_bind_parameter(at, values.value(codes[row] as usize))
                    }
                }?;
            }
            insert.raw_execute()?;
        }
        Ok(())
    }
}

/// The values of an array as SQLite stores them. What stands under a null is never looked at.
fn stored(array: &ArrayRef) -> Stored {
    fn integers<A: ArrowPrimitiveType>(array: &ArrayRef) -> Stored
    where
        A::Native: Into<i64>,
    {
        Stored::Integer(
            array.as_primitive::<A>().values().iter().map(|value| (*value).into()).collect(),
        )
    }
    fn decimals(mantissas: impl Iterator<Item = i64>, scale: i8, array: &ArrayRef) -> Stored {
        if storage(array.data_type()) == Storage::Integer {
            return Stored::Integer(mantissas.collect());
        }
        // Both are exact in a double up to 15 digits, so the quotient is the nearest double.
        let power = 10f64.powi(i32::from(scale));
        Stored::Real(mantissas.map(|mantissa| mantissa as f64 / power).collect())
    }
    match array.data_type() {
        DataType::Boolean => {
            Stored::Integer(array.as_boolean().values().iter().map(i64::from).collect())
        }
        DataType::Int8 => integers::<Int8Type>(array),
        DataType::Int16 => integers::<Int16Type>(array),
        DataType::Int32 => integers::<Int32Type>(array),
        DataType::Int64 => integers::<Int64Type>(array),
        DataType::UInt8 => integers::<UInt8Type>(array),
        DataType::UInt16 => integers::<UInt16Type>(array),
        DataType::UInt32 => integers::<UInt32Type>(array),
        DataType::UInt64 => Stored::Wide(array.as_primitive::<UInt64Type>().values().to_vec()),
        // The shortest text of a float32 is the number that was meant; widening it would add digits.
        DataType::Float32 => Stored::Real(
            array
                .as_primitive::<Float32Type>()
                .values()
                .iter()
                .map(|f| f.to_string().parse().unwrap_or(f64::NAN))
                .collect(),
        ),
        DataType::Float64 => Stored::Real(array.as_primitive::<Float64Type>().values().to_vec()),
        DataType::Decimal32(_, scale) => {
            let mantissas = array.as_primitive::<Decimal32Type>().values().iter();
            decimals(mantissas.map(|mantissa| i64::from(*mantissa)), *scale, array)
        }
        DataType::Decimal64(_, scale) if storage(array.data_type()) != Storage::Text => {
            decimals(array.as_primitive::<Decimal64Type>().values().iter().copied(), *scale, array)
        }
        DataType::Utf8 => Stored::Text(array.as_string::<i32>().clone()),
        DataType::Dictionary(..) => {
            let dictionary = array.as_any_dictionary();
            let words = dictionary.values().as_string::<i32>();
            // Without a single word all is null, and there are no codes to make sound.
            let codes =
                if words.is_empty() { vec![0; array.len()] } else { dictionary.normalized_keys() };
            Stored::Coded(codes.into_iter().map(|code| code as u32).collect(), words.clone())
        }
        _ => Stored::Text((0..array.len()).map(|row| cell_text(array, row)).collect()),
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

/// The head of a table: column names and types, rows, and how many rows there are.
#[derive(Debug, Clone, PartialEq)]
pub struct TableHead {
    /// Names and declared types of the columns.
    pub columns: Vec<(String, String)>,
    /// The first rows; `None` is null.
    pub rows: Vec<Vec<Option<String>>>,
    /// Rows of the whole table.
    pub total: u64,
}

/// Reads the first rows of a table.
///
/// # Errors
/// A table that is not there, a file that is not a database.
pub fn head(path: &Path, table: &str, rows: usize) -> Result<TableHead, TargetError> {
    let failed = |source: rusqlite::Error| TargetError::Format {
        path: path.to_path_buf(),
        source: source.into(),
    };
    let connection = open_existing(path)?;
    let mut statement =
        connection.prepare("SELECT name, type FROM pragma_table_info(?1)").map_err(failed)?;
    let columns =
        statement.query_map([table], |row| Ok((row.get(0)?, row.get(1)?))).map_err(failed)?;
    let columns: Vec<(String, String)> = columns.collect::<Result<_, _>>().map_err(failed)?;
    if columns.is_empty() {
        let what = format!("has no table '{table}'");
        return Err(TargetError::NotThat { path: path.to_path_buf(), what });
    }
    let name = identifier(table);
    let total: i64 = connection
        .query_row(&format!("SELECT count(*) FROM {name}"), [], |row| row.get(0))
        .map_err(failed)?;
    let mut statement =
        connection.prepare(&format!("SELECT * FROM {name} LIMIT ?1")).map_err(failed)?;
    let limit = i64::try_from(rows).unwrap_or(i64::MAX);
    let read = statement.query_map(params_from_iter([limit]), |row| {
        (0..columns.len()).map(|at| Ok(shown(row.get(at)?))).collect()
    });
    let rows = read.map_err(failed)?.collect::<Result<_, _>>().map_err(failed)?;
    drop(statement);
    Ok(TableHead { columns, rows, total: total.unsigned_abs() })
}
