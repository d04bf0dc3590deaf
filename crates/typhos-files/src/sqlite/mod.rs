//! SQLite: a table in a database file, new or existing.
//!
//! A new database is written aside and renamed; in an existing one all is a single transaction.
//! Tables are `STRICT`, so that SQLite holds to the types too.

mod ask;
mod busy;
mod read;
mod rows;
mod session;

use std::path::{Path, PathBuf};

use typhos_load::table::{FileMark, LoadedBefore, TableTarget};
use typhos_load::{
    Awaited, Destination, Job, LoadError, LoadPlan, LoadReport, LoadRun, Probe, Target,
    TargetError, TargetKind, plain_name, plan_of, rejects_beside,
};

pub use ask::{AskError, Asking};
pub use read::tables;
pub(crate) use read::{Affinity, identifier, open_existing, shown};
use read::{recovered_transactions, transactions};
use session::SqliteSession;

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

    fn speaks_sql(&self) -> bool {
        true
    }

    fn loaded_before(
        &self,
        files: &[FileMark],
    ) -> Result<Option<Vec<Option<LoadedBefore>>>, LoadError> {
        Ok(self.target()?.loaded_before(files)?)
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
