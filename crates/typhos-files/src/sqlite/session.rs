//! A database being loaded into.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use rusqlite::{Connection, ErrorCode, OpenFlags};
use typhos_core::schema::Held;
use typhos_core::schema::Schema;
use typhos_load::at_once::ask_at_once;
use typhos_load::feed::{Abandoned, Canceller, Feed};
use typhos_load::proof::SentFacts;
use typhos_load::table::{
    Adding, Answers, Ask, Define, Intent, MoveRows, Objections, RowOrder, UNFINISHED,
};
use typhos_load::whole::WholeFile;
use typhos_load::{Action, Problem, TargetError, columns_go_along, goes_along, rows_go_along};
use typhos_sql::held::{Existing, ExistingColumn, Filled};
use typhos_sql::{Definitions, Language, Movements, Sqlite};

use super::busy::patiently;
use super::read::{Affinity, identifier, open_existing, shown};
use super::rows::{Inserts, Refusal, SqliteRows, StoredBatch};

/// A database being loaded into.
pub struct SqliteSession {
    path: PathBuf,
    /// The database, where it exists or has been made; the load makes it where it does not.
    connection: Option<Connection>,
    /// A new database before it has its name.
    side: Option<WholeFile>,
    /// The last row before those that this transaction added to a table, where they stand behind it.
    last_row: Option<i64>,
    is_called_off: Arc<AtomicBool>,
}

/// Pages that are kept in memory, as SQLite wants it said: 32 MiB.
const CACHE: i32 = -32_768;

/// The number before that of every row.
const BEFORE_ROWS: i64 = i64::MIN;

impl SqliteSession {
    /// Opens a database that exists; a new one is made when rows come.
    ///
    /// # Errors
    /// A file that is not a database, or cannot be written.
    pub fn new(path: &Path) -> Result<SqliteSession, TargetError> {
        let exists = path.symlink_metadata().is_ok();
        let connection = exists.then(|| open_existing(path)).transpose()?;
        if let Some(connection) = &connection {
            let failed = |source: rusqlite::Error| TargetError::Format {
                path: path.to_path_buf(),
                source: source.into(),
            };
            let enlarge = || connection.pragma_update(None, "cache_size", CACHE);
            patiently(&AtomicBool::new(false), enlarge).map_err(failed)?;
        }
        Ok(SqliteSession {
            path: path.to_path_buf(),
            connection,
            side: None,
            last_row: None,
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
            // The file is thrown away unless it is finished, so it needs no journal of its own, and nobody else has it
            // open. What its checks ask was proven when the rows were converted.
            connection
                .execute_batch(&format!(
                    "PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; PRAGMA locking_mode = EXCLUSIVE; \
                     PRAGMA cache_size = {CACHE}; PRAGMA ignore_check_constraints = ON",
                ))
                .map_err(|e| self.failed(e))?;
            self.side = Some(side);
            self.connection = Some(connection);
        }
        Ok(self.connection.as_ref().expect("opened above"))
    }
}

/// The rows of a query, as text.
fn answers(
    connection: &Connection,
    sql: &str,
    is_called_off: &AtomicBool,
) -> rusqlite::Result<Answers> {
    patiently(is_called_off, || {
        let mut statement = connection.prepare(sql)?;
        let columns = statement.column_count();
        let rows = statement
            .query_map([], |row| (0..columns).map(|at| Ok(shown(row.get_ref(at)?))).collect())?;
        rows.collect()
    })
}

/// Steps of a query after which it is asked whether the load was called off: some milliseconds.
const STEPS: i32 = 100_000;

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
        let answers = answers(connection, sql, &is_called_off);
        answers.map_err(|source| TargetError::Format { path, source: source.into() })
    }

    fn query_all(&mut self, questions: &[String]) -> Result<Vec<Answers>, TargetError> {
        let Some(side) = &self.side else {
            return questions.iter().map(|sql| self.query(sql)).collect();
        };
        // A file that is thrown away unless it is finished has nothing to undo, and others may look at what is in it.
        let (path, side) = (self.path.clone(), side.side_path().to_path_buf());
        for sql in ["COMMIT", "PRAGMA locking_mode = NORMAL", "SELECT count(*) FROM sqlite_schema"]
        {
            self.query(sql)?;
        }
        let is_called_off = self.is_called_off.clone();
        let failed = |source: rusqlite::Error| TargetError::Format {
            path: path.clone(),
            source: source.into(),
        };
        let other = |sql: &str| {
            let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let mut other = Connection::open_with_flags(&side, flags)?;
            let flag = is_called_off.clone();
            other.progress_handler(STEPS, Some(move || flag.load(Ordering::SeqCst)))?;
            answers(&other, sql, &is_called_off)
        };
        let answers: Result<_, _> =
            ask_at_once(questions, |sql| self.query(sql), |sql| other(sql).map_err(failed))
                .into_iter()
                .collect();
        self.query(Sqlite.begin())?;
        answers
    }

    fn askers(&self) -> usize {
        let cores = || std::thread::available_parallelism().map_or(1, |cores| cores.get().min(4));
        if self.side.is_some() { cores() } else { 1 }
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
        if intent.action == Action::Append && self.takes_behind(intent)? {
            // Rows are found again by their numbers, so that the others are not read.
            found.adding = Adding::Straight { least_input: 0 };
        }
        if intent.action == Action::Replace {
            let table = Sqlite.literal(intent.table);
            let counts = self.counts(&format!(
                "SELECT coalesce(sum(type = 'index' AND sql IS NOT NULL), 0), coalesce(sum(type = 'trigger'), 0) \
                 FROM sqlite_schema WHERE tbl_name = {table}"
            ))?;
            found.notes.extend(goes_along(counts, ["index", "trigger"]));
            let there = self.names(&format!("SELECT name FROM pragma_table_info({table})"))?;
            found.notes.extend(columns_go_along(there, intent.columns()));
        }
        if intent.action == Action::Refill {
            let table = Sqlite.literal(intent.table);
            let along = self.names(&format!(
                "SELECT DISTINCT m.name FROM sqlite_schema m, pragma_foreign_key_list(m.name) k WHERE m.type = 'table' \
                 AND k.\"table\" = {table} COLLATE NOCASE AND k.on_delete IN ('CASCADE', 'SET NULL', 'SET DEFAULT') ORDER BY 1"
            ))?;
            found.problems.extend(rows_go_along(intent.table, &along));
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
        changed.map(|changed| Some(changed as u64)).map_err(|source| {
            match source.sqlite_error_code() {
                Some(ErrorCode::ConstraintViolation) => TargetError::Violation {
                    target: path.display().to_string(),
                    message: source.to_string(),
                },
                _ => TargetError::Format { path, source: source.into() },
            }
        })
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

impl SqliteSession {
    /// Whether rows that are added to a table get numbers behind those of all that are there, and nothing else happens
    /// on the way: it has numbers of rows, which are not a column that is loaded, and no triggers.
    fn takes_behind(&mut self, intent: &Intent<'_>) -> Result<bool, TargetError> {
        let table = Sqlite.literal(intent.table);
        let is_plain = self.one(&format!(
            "SELECT count(*) FROM pragma_table_list({table}) WHERE schema = 'main' AND type = 'table' AND wr = 0 \
             AND NOT EXISTS (SELECT 1 FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = {table} COLLATE NOCASE) \
             AND NOT EXISTS (SELECT 1 FROM pragma_table_xinfo({table}) WHERE lower(name) = 'rowid')"
        ))?;
        let numbered = self.names(&format!(
            "SELECT name FROM pragma_table_info({table}) WHERE pk > 0 AND upper(type) = 'INTEGER'"
        ))?;
        let is_loaded = intent.columns().any(|column| numbered.iter().any(|name| name == column));
        Ok(is_plain.as_deref() == Some("1") && !is_loaded)
    }

    /// Inserts rows into a table; returns what was sent, and how many the table took.
    fn insert_all(
        &mut self,
        table: &str,
        schema: &Schema,
        mut feed: Feed<Vec<StoredBatch>>,
    ) -> Result<(SentFacts, u64), TargetError> {
        let path = self.path.clone();
        let failed = |source: rusqlite::Error| TargetError::Format {
            path: path.clone(),
            source: source.into(),
        };
        let names: Vec<_> = schema.columns.iter().map(|column| identifier(&column.name)).collect();
        let connection = self.connection()?;
        let mut inserts = Inserts::prepare(connection, table, &names).map_err(failed)?;
        let (mut sent, mut taken) = (0, 0);
        loop {
            let batches = match feed.take() {
                Ok(Some(batches)) => batches,
                Ok(None) => return Ok((feed.into_sent()?, taken)),
                Err(Abandoned) => return Err(TargetError::GivenUp),
            };
            for batch in &batches {
                let inserted = batch.insert(&mut inserts);
                taken += inserted.map_err(|Refusal { row, error }| match row {
                    None => failed(error),
                    Some(row) => {
                        let target = path.display().to_string();
                        TargetError::refused_row(target, error.to_string(), sent + row as u64)
                    }
                })? as u64;
                sent += batch.rows() as u64;
            }
        }
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
        feed: Feed<Vec<StoredBatch>>,
    ) -> Result<SentFacts, TargetError> {
        self.insert_all(table, schema, feed).map(|(sent, _)| sent)
    }

    fn bulk_alone(
        &mut self,
        table: &str,
        schema: &Schema,
        feed: Feed<Vec<StoredBatch>>,
    ) -> Result<(SentFacts, u64), TargetError> {
        let last = self.one(&format!("SELECT max(rowid) FROM {table}"))?;
        let last = last.and_then(|last| last.parse().ok()).unwrap_or(BEFORE_ROWS);
        // Behind the last number there is, numbers are given by chance.
        self.last_row = (last < i64::MAX / 2).then_some(last);
        self.insert_all(table, schema, feed)
    }

    fn own_rows(&mut self, table: &str) -> Result<Option<String>, TargetError> {
        Ok(self.last_row.map(|last| format!("(SELECT * FROM {table} WHERE rowid > {last}) added")))
    }

    /// A transaction has the database to itself.
    fn row_order(&self) -> RowOrder {
        RowOrder::AsSent
    }

    fn lock_keys(&mut self, _table: &str) -> Result<(), TargetError> {
        Ok(())
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
    let affinity = Affinity::of(ty);
    let ty = ty.to_uppercase();
    let has = |words: &[&str]| words.iter().any(|word| ty.contains(word));
    match affinity {
        _ if has(&["BOOL"]) => Held::Bool,
        Affinity::Integer if !has(&["POINT"]) => Held::bits(64, true),
        // In a blob whatever comes is kept as it comes.
        Affinity::Text | Affinity::Blob => Held::Text(None),
        Affinity::Real => Held::Float(64),
        _ if has(&["NUMERIC", "DECIMAL"]) => Held::Float(64),
        _ if has(&["DATETIME", "TIMESTAMP"]) => Held::Timestamp(9, None),
        _ if has(&["DATE"]) => Held::Date,
        _ if has(&["TIME"]) => Held::Time(9),
        _ if has(&["JSON"]) => Held::Json,
        _ if has(&["UUID", "GUID"]) => Held::Uuid,
        _ => Held::Other,
    }
}
