//! A catalog in a database: a row for each table, which names its metadata file. The two tables are those that other programs
//! for such catalogs use, so that they see what is written here.

use std::fmt;
use std::sync::{Mutex, PoisonError};

use typhos_load::TargetError;
use uuid::Uuid;

use super::super::metadata::TableMetadata;
use super::super::place;
use super::{Catalog, CatalogError, Change, Loaded, TableName, failed};

/// What makes the tables of a catalog.
pub const MAKE: [&str; 2] = [
    "CREATE TABLE IF NOT EXISTS iceberg_tables (catalog_name VARCHAR(255) NOT NULL, table_namespace VARCHAR(255) NOT NULL, \
     table_name VARCHAR(255) NOT NULL, metadata_location VARCHAR(1000), previous_metadata_location VARCHAR(1000), iceberg_type VARCHAR(5), \
     PRIMARY KEY (catalog_name, table_namespace, table_name))",
    "CREATE TABLE IF NOT EXISTS iceberg_namespace_properties (catalog_name VARCHAR(255) NOT NULL, namespace VARCHAR(255) NOT NULL, \
     property_key VARCHAR(255) NOT NULL, property_value VARCHAR(1000) NOT NULL, \
     PRIMARY KEY (catalog_name, namespace, property_key))",
];

/// The statement that adds a table, with numbered parameters in the way of a database. Catalogs of older programs do not tell
/// tables from views.
pub fn adding(parameter: impl Fn(u8) -> String, has_kinds: bool) -> String {
    let (column, kind) = if has_kinds { (", iceberg_type", ", 'TABLE'") } else { ("", "") };
    let values: Vec<String> = (1..=4).map(parameter).collect();
    format!(
        "INSERT INTO iceberg_tables (catalog_name, table_namespace, table_name, metadata_location{column}) \
         VALUES ({}{kind}) ON CONFLICT DO NOTHING",
        values.join(", ")
    )
}

/// The statement that finds the metadata file of a table.
pub fn finding(parameter: impl Fn(u8) -> String) -> String {
    let [catalog, space, table] = [1, 2, 3].map(parameter);
    format!(
        "SELECT metadata_location FROM iceberg_tables \
         WHERE catalog_name = {catalog} AND table_namespace = {space} AND table_name = {table}"
    )
}

/// The statement that exchanges the metadata file of a table: from the fifth parameter to the fourth.
pub fn exchanging(parameter: impl Fn(u8) -> String) -> String {
    let [catalog, space, table, to, from] = [1, 2, 3, 4, 5].map(parameter);
    format!(
        "UPDATE iceberg_tables SET metadata_location = {to}, previous_metadata_location = {from} WHERE catalog_name = {catalog} \
         AND table_namespace = {space} AND table_name = {table} AND metadata_location = {from}"
    )
}

/// The rows of a catalog, whichever database has them. Each call is one transaction.
pub trait Rows: fmt::Debug + Send {
    /// The names of the catalogs that are in the database; none where it has no such tables.
    ///
    /// # Errors
    /// A database that cannot be asked.
    fn catalogs(&mut self) -> Result<Vec<String>, TargetError>;

    /// The metadata file of a table; none where there is no such table.
    ///
    /// # Errors
    /// A database that cannot be asked.
    fn find(&mut self, catalog: &str, table: &TableName) -> Result<Option<String>, TargetError>;

    /// Adds a table, its namespace, and the tables of the catalog as far as they are not there. `false` where the table is.
    ///
    /// # Errors
    /// A database that cannot be written to.
    fn add(&mut self, catalog: &str, table: &TableName, file: &str) -> Result<bool, TargetError>;

    /// Exchanges the metadata file of a table, the first for the second. `false` where it has another one than was thought.
    ///
    /// # Errors
    /// A database that cannot be written to.
    fn exchange(
        &mut self,
        catalog: &str,
        table: &TableName,
        files: (&str, &str),
    ) -> Result<bool, TargetError>;
}

/// A catalog in a database.
#[derive(Debug)]
pub struct SqlCatalog<R> {
    rows: Mutex<R>,
    shown: String,
    /// Its name in the database, where somebody says it.
    name: Option<String>,
    /// Where new tables go.
    warehouse: Option<String>,
}

impl<R: Rows> SqlCatalog<R> {
    /// A catalog in a database. Where it has no name, it is the only one there, or `default`.
    pub fn new(
        rows: R,
        shown: String,
        name: Option<String>,
        warehouse: Option<String>,
    ) -> SqlCatalog<R> {
        SqlCatalog { rows: Mutex::new(rows), shown, name, warehouse }
    }

    /// Does something with the rows of the catalog, and its name.
    fn with<T>(
        &self,
        run: impl FnOnce(&mut R, &str) -> Result<T, TargetError>,
    ) -> Result<T, CatalogError> {
        let mut rows = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        let name = match &self.name {
            Some(name) => name.clone(),
            None => match &rows.catalogs()?[..] {
                [only] => only.clone(),
                _ => "default".into(),
            },
        };
        Ok(run(&mut rows, &name)?)
    }
}

impl<R: Rows> Catalog for SqlCatalog<R> {
    fn shown(&self) -> String {
        self.shown.clone()
    }

    fn load(&self, table: &TableName) -> Result<Option<Loaded>, CatalogError> {
        let Some(file) = self.with(|rows, name| rows.find(name, table))? else { return Ok(None) };
        let bytes = place::read(&file)?;
        let metadata = serde_json::from_slice(&bytes).map_err(|error| {
            failed(&self.shown, format!("{file} does not say what {table} is: {error}"), "")
        })?;
        Ok(Some(Loaded { metadata, file }))
    }

    fn prepare(&self, table: &TableName, _is_planned: bool) -> Result<TableMetadata, CatalogError> {
        let Some(warehouse) = &self.warehouse else {
            return Err(failed(
                &self.shown,
                "where the files of new tables go is not known",
                "add ?warehouse=FOLDER or ?warehouse=s3://BUCKET/PREFIX to the URL of the catalog",
            ));
        };
        let path = table.namespace.iter().chain([&table.name]);
        let location = path.fold(warehouse.clone(), |folder, name| place::inside(&folder, name));
        Ok(TableMetadata::empty(&Uuid::new_v4().to_string(), &location))
    }

    fn commit(
        &self,
        table: &TableName,
        base: &Loaded,
        change: &Change,
    ) -> Result<(), CatalogError> {
        let is_new = base.file.is_empty();
        let known = (!is_new).then_some(&base.metadata);
        if let Some(broken) = change.requirements.iter().find(|it| !it.holds(known)) {
            return Err(CatalogError::Lost(format!("{broken:?} does not hold")));
        }
        let now = super::super::now();
        let mut metadata = base.metadata.after(&change.updates, now);
        let version = match is_new {
            true => 0,
            false => {
                metadata.remember(&base.file, base.metadata.last_updated_ms);
                version_of(&base.file) + 1
            }
        };
        let name = format!("metadata/{version:05}-{}.metadata.json", Uuid::new_v4());
        let file = place::inside(&metadata.location, &name);
        let text = serde_json::to_vec(&metadata).map_err(|error| {
            failed(&self.shown, format!("the metadata cannot be written: {error}"), "")
        })?;
        place::write(&file, text)?;
        let done = self.with(|rows, name| match is_new {
            true => rows.add(name, table, &file),
            false => rows.exchange(name, table, (&base.file, &file)),
        });
        match done {
            Ok(true) => Ok(()),
            Ok(false) => {
                place::remove(&file);
                let what = if is_new { "was made" } else { "was changed" };
                Err(CatalogError::Lost(format!("{table} {what} by somebody else")))
            }
            // A transaction whose answer is lost may have been made.
            Err(error) => Err(CatalogError::Unknown(error.to_string())),
        }
    }
}

/// The number in front of the name of a metadata file.
fn version_of(file: &str) -> u64 {
    let name = file.rsplit('/').next().unwrap_or_default();
    let digits = name.strip_prefix('v').unwrap_or(name);
    let digits = digits.split(['-', '.']).next().unwrap_or_default();
    digits.parse().unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metadata_files_are_numbered() {
        assert_eq!(version_of("s3://b/t/metadata/00012-ab-cd.metadata.json"), 12);
        assert_eq!(version_of("/t/metadata/v3.metadata.json"), 3);
        assert_eq!(version_of("/t/metadata/x.json"), 0);
    }
}
