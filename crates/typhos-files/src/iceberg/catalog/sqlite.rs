//! A catalog in a database file.

use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OptionalExtension, TransactionBehavior, params};
use typhos_load::TargetError;

use super::TableName;
use super::sql::{MAKE, Rows, adding, exchanging, finding};

/// How long another program is waited for that writes to the file.
const PATIENCE: Duration = Duration::from_secs(30);

/// How a parameter is written.
fn parameter(number: u8) -> String {
    format!("?{number}")
}

/// A database file; made with the first table.
#[derive(Debug)]
pub struct SqliteRows {
    path: PathBuf,
}

impl SqliteRows {
    /// A file, which may not be there.
    pub fn new(path: &Path) -> SqliteRows {
        SqliteRows { path: path.to_path_buf() }
    }

    fn failed(&self) -> impl Fn(rusqlite::Error) -> TargetError + '_ {
        |error| TargetError::Server {
            target: self.path.display().to_string(),
            message: error.to_string(),
            help: String::new(),
        }
    }

    fn open(&self) -> Result<Connection, TargetError> {
        let open = || {
            let connection = Connection::open(&self.path)?;
            connection.busy_timeout(PATIENCE)?;
            Ok(connection)
        };
        open().map_err(self.failed())
    }

    /// The file, where it has the tables of a catalog.
    fn existing(&self) -> Result<Option<Connection>, TargetError> {
        if !self.path.exists() {
            return Ok(None);
        }
        let connection = self.open()?;
        let has = "SELECT count(*) FROM sqlite_master WHERE name = 'iceberg_tables'";
        let count: i64 = connection.query_row(has, [], |row| row.get(0)).map_err(self.failed())?;
        Ok((count > 0).then_some(connection))
    }
}

impl Rows for SqliteRows {
    fn catalogs(&mut self) -> Result<Vec<String>, TargetError> {
        let Some(connection) = self.existing()? else { return Ok(Vec::new()) };
        let names = || {
            let mut names = connection
                .prepare("SELECT DISTINCT catalog_name FROM iceberg_tables ORDER BY 1")?;
            let names = names.query_map([], |row| row.get(0))?;
            names.collect::<Result<_, _>>()
        };
        names().map_err(self.failed())
    }

    fn find(&mut self, catalog: &str, table: &TableName) -> Result<Option<String>, TargetError> {
        let Some(connection) = self.existing()? else { return Ok(None) };
        let found = connection.query_row(
            &finding(parameter),
            params![catalog, table.space(), table.name],
            |row| row.get(0),
        );
        found.optional().map_err(self.failed())
    }

    fn add(&mut self, catalog: &str, table: &TableName, file: &str) -> Result<bool, TargetError> {
        let mut connection = self.open()?;
        let mut add = || {
            let transaction =
                connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
            MAKE.iter().try_for_each(|make| transaction.execute(make, []).map(drop))?;
            transaction.execute(
                "INSERT OR IGNORE INTO iceberg_namespace_properties VALUES (?1, ?2, 'exists', 'true')",
                params![catalog, table.space()],
            )?;
            let has_kinds: i64 = transaction.query_row(
                "SELECT count(*) FROM pragma_table_info('iceberg_tables') WHERE name = 'iceberg_type'",
                [],
                |row| row.get(0),
            )?;
            let added = transaction.execute(
                &adding(parameter, has_kinds > 0),
                params![catalog, table.space(), table.name, file],
            )?;
            if added == 1 {
                transaction.commit()?;
            }
            Ok(added == 1)
        };
        add().map_err(self.failed())
    }

    fn exchange(
        &mut self,
        catalog: &str,
        table: &TableName,
        (from, to): (&str, &str),
    ) -> Result<bool, TargetError> {
        let names = params![catalog, table.space(), table.name, to, from];
        let changed = self.open()?.execute(&exchanging(parameter), names);
        changed.map(|rows| rows == 1).map_err(self.failed())
    }
}
