//! A catalog of tables of a lake in a PostgreSQL database: rows that say which metadata file of a table counts.

use std::fmt;
use std::sync::Arc;

use postgres::types::ToSql;
use typhos_files::iceberg::catalog::sql::{MAKE, Rows, SqlCatalog, adding, exchanging, finding};
use typhos_files::iceberg::catalog::{Catalog, TableName};
use typhos_files::iceberg::{Settings, destination, folder, settings};
use typhos_load::{TargetError, TargetKind};

use super::{PostgresSession, server_error};
use crate::server_table::{in_time, parsed};
use crate::server_url::ServerUrl;

/// A table of a catalog in a database.
pub const KIND: TargetKind = TargetKind {
    name: "an Iceberg table",
    schemes: &["iceberg+postgresql", "iceberg+postgres"],
    extensions: &[],
    has_parts: true,
    open: |address| {
        destination(address, &|url| {
            let (place, found, rest) = settings(url);
            let Settings { warehouse, name } = found;
            let warehouse = warehouse.map(folder);
            let place = place.strip_prefix("iceberg+").unwrap_or(place);
            let query = if rest.is_empty() { String::new() } else { format!("?{rest}") };
            let mut url = parsed(&format!("{place}{query}"))?;
            url.timeouts = address.timeouts;
            let shown = url.to_string();
            let rows = PostgresRows { url };
            let catalog: Arc<dyn Catalog> = Arc::new(SqlCatalog::new(rows, shown, name, warehouse));
            Ok(catalog)
        })
    },
    probe: None,
};

/// How a parameter is written.
fn parameter(number: u8) -> String {
    format!("${number}")
}

/// The rows of a catalog in a database.
struct PostgresRows {
    url: ServerUrl,
}

impl fmt::Debug for PostgresRows {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.url)
    }
}

impl PostgresRows {
    /// A session; a load asks a catalog a few times, minutes apart.
    fn session(&self) -> Result<PostgresSession, TargetError> {
        in_time(&self.url, PostgresSession::connect)
    }

    fn failed(&self) -> impl Fn(postgres::Error) -> TargetError + '_ {
        |error| server_error(&self.url, error)
    }

    /// A session with a database that has the tables of a catalog.
    fn existing(&self) -> Result<Option<PostgresSession>, TargetError> {
        let mut session = self.session()?;
        let has = "SELECT to_regclass('iceberg_tables') IS NOT NULL";
        let row = session.client.query_one(has, &[]).map_err(self.failed())?;
        Ok(row.get::<_, bool>(0).then_some(session))
    }
}

impl Rows for PostgresRows {
    fn catalogs(&mut self) -> Result<Vec<String>, TargetError> {
        let Some(mut session) = self.existing()? else { return Ok(Vec::new()) };
        let names = "SELECT DISTINCT catalog_name FROM iceberg_tables ORDER BY 1";
        let rows = session.client.query(names, &[]).map_err(self.failed())?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }

    fn find(&mut self, catalog: &str, table: &TableName) -> Result<Option<String>, TargetError> {
        let Some(mut session) = self.existing()? else { return Ok(None) };
        let names: [&(dyn ToSql + Sync); 3] = [&catalog, &table.space(), &table.name];
        let found = session.client.query_opt(&finding(parameter), &names);
        Ok(found.map_err(self.failed())?.and_then(|row| row.get(0)))
    }

    fn add(&mut self, catalog: &str, table: &TableName, file: &str) -> Result<bool, TargetError> {
        let mut session = self.session()?;
        let mut add = || {
            let mut transaction = session.client.transaction()?;
            // Two that make the same table at once would collide in the server's own catalog.
            transaction.execute("SELECT pg_advisory_xact_lock(hashtext('iceberg_tables'))", &[])?;
            for make in MAKE {
                transaction.batch_execute(make)?;
            }
            let kinds = transaction.query_opt(
                "SELECT 1 FROM pg_attribute WHERE attrelid = 'iceberg_tables'::regclass AND attname = 'iceberg_type' \
                 AND NOT attisdropped",
                &[],
            )?;
            transaction.execute(
                "INSERT INTO iceberg_namespace_properties VALUES ($1, $2, 'exists', 'true') ON CONFLICT DO NOTHING",
                &[&catalog, &table.space()],
            )?;
            let added = transaction.execute(
                &adding(parameter, kinds.is_some()),
                &[&catalog, &table.space(), &table.name, &file],
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
        let names: [&(dyn ToSql + Sync); 5] = [&catalog, &table.space(), &table.name, &to, &from];
        let changed = self.session()?.client.execute(&exchanging(parameter), &names);
        changed.map(|rows| rows == 1).map_err(self.failed())
    }
}
