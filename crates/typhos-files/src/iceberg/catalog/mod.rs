//! Catalogs: who knows which metadata file of a table is the one that counts, and lets it be exchanged for the next in one
//! step. [`sql`] is a catalog in a database, [`rest`] one behind a server.

pub mod rest;
pub mod sql;
pub mod sqlite;

use std::fmt;

use thiserror::Error;
use typhos_load::TargetError;

use super::metadata::{Requirement, TableMetadata, Update};

/// A table of a catalog.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct TableName {
    /// The namespace, the outer one first.
    pub namespace: Vec<String>,
    /// The name in it.
    pub name: String,
}

impl TableName {
    /// Takes a name apart, as `sales.tickets`. A table without a namespace is in `default`.
    ///
    /// # Errors
    /// A sentence about a name that has an empty part.
    pub fn parse(name: &str) -> Result<TableName, String> {
        let mut parts: Vec<String> = name.split('.').map(str::to_owned).collect();
        if parts.iter().any(String::is_empty) {
            return Err(format!("'{name}' is not the name of a table: write NAMESPACE.TABLE"));
        }
        let name = parts.pop().unwrap_or_default();
        if parts.is_empty() {
            parts.push("default".into());
        }
        Ok(TableName { namespace: parts, name })
    }

    /// The namespace in one word.
    pub fn space(&self) -> String {
        self.namespace.join(".")
    }
}

impl fmt::Display for TableName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.space(), self.name)
    }
}

/// A table as a catalog has it.
#[derive(Debug, Clone)]
pub struct Loaded {
    /// What it is.
    pub metadata: TableMetadata,
    /// The URL of the file that says so; empty of a table that is not there yet.
    pub file: String,
}

/// What is to become of a table, in one step.
#[derive(Debug, Clone, Default)]
pub struct Change {
    /// What has to be so.
    pub requirements: Vec<Requirement>,
    /// What changes, in this order.
    pub updates: Vec<Update>,
}

/// Why a catalog did not do what it was asked for.
#[derive(Debug, Error)]
pub enum CatalogError {
    /// Somebody else changed the table in the meantime. Nothing happened.
    #[error("{0}")]
    Lost(String),
    /// Nobody knows whether it happened.
    #[error("{0}")]
    Unknown(String),
    /// Nothing happened.
    #[error(transparent)]
    Failed(#[from] TargetError),
}

/// Who knows tables.
pub trait Catalog: fmt::Debug + Send + Sync {
    /// Where it is, without what is secret.
    fn shown(&self) -> String;

    /// A table, where it is there.
    ///
    /// # Errors
    /// A catalog that cannot be asked.
    fn load(&self, table: &TableName) -> Result<Option<Loaded>, CatalogError>;

    /// What a table that is about to be made is, without columns: its number, and where its files go. Where it is only
    /// planned, nothing changes, and the place is empty where only the change would tell.
    ///
    /// # Errors
    /// A catalog that does not say where, or cannot be asked.
    fn prepare(&self, table: &TableName, is_planned: bool) -> Result<TableMetadata, CatalogError>;

    /// Changes a table that was loaded, or makes one that was prepared, in one step.
    ///
    /// # Errors
    /// A table that changed in the meantime, a catalog that cannot be asked.
    fn commit(&self, table: &TableName, base: &Loaded, change: &Change)
    -> Result<(), CatalogError>;
}

impl From<CatalogError> for TargetError {
    fn from(error: CatalogError) -> TargetError {
        match error {
            CatalogError::Failed(error) => error,
            CatalogError::Lost(message) | CatalogError::Unknown(message) => {
                TargetError::Server { target: "the catalog".into(), message, help: String::new() }
            }
        }
    }
}

/// An error of a catalog: nothing happened.
pub fn failed(target: &str, message: impl Into<String>, help: &str) -> CatalogError {
    CatalogError::Failed(TargetError::Server {
        target: target.to_owned(),
        message: message.into(),
        help: help.to_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_have_namespaces() {
        let shown = |name| TableName::parse(name).map(|name| name.to_string());
        assert_eq!(shown("tickets").as_deref(), Ok("default.tickets"));
        assert_eq!(shown("a.b.tickets").as_deref(), Ok("a.b.tickets"));
        assert!(shown("a..t").is_err() && shown("").is_err());
    }
}
